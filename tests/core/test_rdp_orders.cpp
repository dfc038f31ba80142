// Drawing orders, byte by byte as the specification has them.
#include "rdp/bitmap_codec.hpp"
#include "rdp/orders.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

/// A picture, and orders said to it one after the other.
struct Page {
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{100, 80});
  Orders orders{picture};
  ColourMap colours = defaultColourMap();
  Region say(const LittleWriter& bytes, unsigned count = 1, unsigned bits = 32) {
    return orders.take(bytes.view(), count, bits, colours);
  }
  [[nodiscard]] Pixel at(int x, int y) const { return picture->pixel(x, y); }
};

LittleWriter& place(LittleWriter& out, int x, int y, int w, int h) {
  for (int v : {x, y, w, h}) out.u16(static_cast<unsigned>(v) & 0xffff);
  return out;
}
/// 2.2.2.2.1.1.2.5, all fields.
LittleWriter& opaque(LittleWriter& out, const Rect& r, Pixel colour) {
  out.u8(0x09).u8(0x0a).u8(0x7f);
  place(out, r.x, r.y, r.width, r.height);
  return out.u8(colour >> 16 & 255).u8(colour >> 8 & 255).u8(colour & 255);
}
/// 2.2.2.2.1.2.1.1 around a body.
LittleWriter& cacheOrder(LittleWriter& out, unsigned type, unsigned flags, ByteView body) {
  return out.u8(0x03)
      .u16(static_cast<unsigned>(body.size() + 6 - 13) & 0xffff)
      .u16(flags)
      .u8(type)
      .bytes(body);
}

const Pixel kRed = rgb(200, 10, 20), kGreen = rgb(10, 180, 30);

}  // namespace

TEST_CASE("Orders: a fill, and fills written as what differs", "[rdp][orders]") {
  Page page;
  LittleWriter first, second, third;
  CHECK(page.say(opaque(first, {10, 20, 30, 5}, kRed)).bounds() == Rect{10, 20, 30, 5});
  CHECK(page.at(10, 20) == kRed);
  CHECK(page.at(39, 24) == kRed);
  CHECK(page.at(40, 24) == kOpaque);
  // The same kind, coordinates as differences: four lower, the rest as it was.
  page.say(second.u8(0x01 | 0x10).u8(0x02).u8(0xfc));
  CHECK(page.at(10, 16) == kRed);
  CHECK(page.at(10, 15) == kOpaque);
  // No field byte at all: once more, into a picture that was wiped.
  page.picture->fill(page.picture->rect(), kOpaque);
  page.say(third.u8(0x01 | 0x40));
  CHECK(page.at(10, 16) == kRed);
}

TEST_CASE("Orders: bounds cut, stay, and move by differences", "[rdp][orders]") {
  Page page;
  LittleWriter out, again, moved;
  out.u8(0x0d).u8(0x0a).u8(0x7f).u8(0x0f).u16(5).u16(5).u16(20).u16(20);  // both edges included
  place(out, 0, 0, 100, 80).u8(200).u8(10).u8(20);
  CHECK(page.say(out).bounds() == Rect{5, 5, 16, 16});
  CHECK(page.at(20, 20) == kRed);
  CHECK(page.at(21, 20) == kOpaque);
  page.picture->fill(page.picture->rect(), kOpaque);
  page.say(again.u8(0x01 | 0x04 | 0x20).u8(0));  // the same bounds
  CHECK(page.at(4, 5) == kOpaque);
  CHECK(page.at(5, 5) == kRed);
  page.picture->fill(page.picture->rect(), kOpaque);
  page.say(moved.u8(0x01 | 0x04).u8(0).u8(0x40).u8(3));  // the right edge three further
  CHECK(page.at(23, 5) == kRed);
  CHECK(page.at(24, 5) == kOpaque);
}

TEST_CASE("Orders: copies inside the picture, in every direction they overlap", "[rdp][orders]") {
  const Point by = GENERATE(Point{7, 0}, Point{-7, 0}, Point{0, 5}, Point{3, -4}, Point{-6, 9});
  const unsigned rop = GENERATE(0xccU, 0x66U);
  Page page;
  const Framebuffer source = colourfulPicture({100, 80});
  page.picture->put(page.picture->rect(), source.row(0));
  LittleWriter out;
  out.u8(0x09).u8(0x02).u8(0x7f);
  place(out, 30 + by.x, 30 + by.y, 40, 20).u8(rop).u16(30).u16(30);
  page.say(out);
  for (int y = 0; y < 20; ++y)
    for (int x = 0; x < 40; ++x) {
      const Pixel s = source.pixel(30 + x, 30 + y), d = source.pixel(30 + by.x + x, 30 + by.y + y);
      REQUIRE(page.at(30 + by.x + x, 30 + by.y + y) == (rop == 0xcc ? s : ((s ^ d) | kOpaque)));
    }
}

TEST_CASE("Orders: patterns, hatches and the 256 operations", "[rdp][orders]") {
  Page page;
  LittleWriter out;
  out.u8(0x09).u8(0x01).u16(0x0fff);
  place(out, 0, 0, 16, 16).u8(0xf0).u8(10).u8(180).u8(30).u8(200).u8(10).u8(20);  // back, fore
  out.u8(0).u8(0).u8(3).u8(0x80);  // style, first row; the others from the last one up
  for (unsigned row : {0x01U, 0U, 0U, 0U, 0U, 0U, 0U}) out.u8(row);
  page.say(out);
  CHECK(page.at(0, 0) == kGreen);
  CHECK(page.at(1, 0) == kRed);
  CHECK(page.at(7, 7) == kGreen);
  CHECK(page.at(8, 8) == kGreen);
  CHECK(page.at(6, 7) == kRed);
  // 2.2.2.2.1.1.1.2 against a table of its own.
  for (unsigned rop = 0; rop < 256; ++rop) {
    const Pixel p = 0xf0, s = 0xcc, d = 0xaa;
    CHECK((rop3(rop, p, s, d) & 0xff) == rop);
  }
  for (unsigned rop = 1; rop <= 16; ++rop) CHECK((rop2(rop, 0xc, 0xa) & 0xf) == rop - 1);
}

TEST_CASE("Orders: bitmaps of all three revisions are kept and shown", "[rdp][orders]") {
  Page page;
  const Framebuffer source = colourfulPicture({24, 12});
  const Bytes planar = encodePlanar(source.row(0), source.stride(), 24, 12, true);
  LittleWriter raw;
  for (int y = 11; y >= 0; --y)
    for (int x = 0; x < 24; ++x) raw.u32(source.pixel(x, y) & 0xffffff);
  LittleWriter body, out;
  const unsigned revision = GENERATE(1U, 2U, 3U);
  const unsigned index = 300;
  if (revision == 1) {
    body.u8(1).u8(0).u8(24).u8(12).u8(32).u16(static_cast<unsigned>(planar.size())).u16(index).bytes(planar);
    cacheOrder(out, 2, 0x400, body.view());
  } else if (revision == 2) {
    body.u8(24).u8(12);
    body.u8(0x40 | static_cast<unsigned>(planar.size() >> 8)).u8(planar.size() & 255);
    body.u8(0x80 | index >> 8).u8(index & 255).bytes(planar);
    cacheOrder(out, 5, 1 | 6 << 3 | 0x8 << 7, body.view());
  } else {
    body.u16(index).u32(1).u32(2).u8(32).u8(0).u8(0).u8(0).u16(24).u16(12);
    body.u32(static_cast<std::uint32_t>(raw.size())).bytes(raw.view());
    cacheOrder(out, 8, 1 | 6 << 3, body.view());
  }
  out.u8(0x09).u8(0x0d).u16(0x1ff).u16(1);
  place(out, 40, 30, 20, 10).u8(0xcc).u16(2).u16(1).u16(index);
  CHECK(page.say(out, 2).bounds() == Rect{40, 30, 20, 10});
  CHECK(samePixels(page.picture->cropped({40, 30, 20, 10}), source.cropped({2, 1, 20, 10})));
  CHECK(page.at(60, 30) == kOpaque);
  // One that was not kept; and a new share forgets.
  page.orders.reset();
  LittleWriter gone;
  gone.u8(0x09).u8(0x0d).u16(0x1ff).u16(1);
  place(gone, 0, 0, 5, 5).u8(0xcc).u16(0).u16(0).u16(index);
  CHECK_THROWS_AS(page.say(gone), Error);
}

TEST_CASE("Orders: lines, polylines, and many fills in one", "[rdp][orders]") {
  Page page;
  LittleWriter lineTo, poly, many;
  lineTo.u8(0x09).u8(0x09).u16(0x3ff).u16(1);
  place(lineTo, 5, 5, 15, 5).u8(0).u8(0).u8(0).u8(13).u8(0).u8(1).u8(200).u8(10).u8(20);
  page.say(lineTo);
  CHECK(page.at(5, 5) == kRed);
  CHECK(page.at(15, 5) == kRed);
  CHECK(page.at(16, 5) == kOpaque);
  // From 20,20: ten right, then ten down and five left.
  poly.u8(0x09).u8(0x16).u8(0x7f).u16(20).u16(20).u8(13).u16(0).u8(10).u8(180).u8(30).u8(2).u8(4);
  poly.u8(0b01000000).u8(10).u8(0x7b).u8(10);  // y of the first is missing; 0x7b is five back
  page.say(poly);
  CHECK(page.at(25, 20) == kGreen);
  CHECK(page.at(30, 20) == kGreen);
  CHECK(page.at(25, 30) == kGreen);
  // Two fills: 3x4 at 50,50 and 2x2 at 150 - 256 + ... further left by 20 and lower by 10.
  many.u8(0x09).u8(0x12).u16(0x1ff);
  place(many, 0, 0, 100, 80).u8(200).u8(10).u8(20).u8(2).u16(9);
  many.u8(0).u8(50).u8(50).u8(3).u8(4).u8(0x6c).u8(10).u8(2).u8(2);
  page.say(many);
  CHECK(page.at(50, 50) == kRed);
  CHECK(page.at(52, 53) == kRed);
  CHECK(page.at(53, 53) == kOpaque);
  CHECK(page.at(30, 60) == kRed);
  CHECK(page.at(31, 61) == kRed);
  CHECK(page.at(32, 61) == kOpaque);
}

TEST_CASE("Orders: text from kept glyphs, steps between them, and remembered stretches", "[rdp][orders]") {
  Page page;
  LittleWriter body, out;
  // 2.2.2.2.1.2.5: glyph 4 of cache 7, 3 by 2: "#.#" over ".#.", drawn one lower than its place.
  body.u8(7).u8(1).u16(4).u16(0).u16(1).u16(3).u16(2).u8(0b10100000).u8(0b01000000).u16(0);
  cacheOrder(out, 3, 0, body.view());
  // 2.2.2.2.1.1.2.13, every field: red letters at 10,10 and 16 pixels on; nothing below.
  const auto text = [](LittleWriter& to, int x, int y, std::initializer_list<unsigned> list) {
    to.u8(0x09).u8(0x1b).u8(0xff).u8(0xff).u8(0x3f);
    to.u8(7).u8(0).u8(0).u8(0).u8(200).u8(10).u8(20).u8(0).u8(0).u8(0);
    for (int i = 0; i < 8; ++i) to.u16(0);
    to.u8(0).u8(0).u8(0).u8(0).zeros(7).u16(static_cast<unsigned>(x)).u16(static_cast<unsigned>(y));
    to.u8(static_cast<unsigned>(list.size()));
    for (unsigned b : list) to.u8(b);
  };
  text(out, 10, 10, {4, 0, 4, 16, 0xff, 3, 4});  // and the four bytes before are kept as number 3
  page.say(out, 2);
  CHECK(page.at(10, 11) == kRed);
  CHECK(page.at(11, 11) == kOpaque);
  CHECK(page.at(11, 12) == kRed);
  CHECK(page.at(26, 11) == kRed);
  LittleWriter again;
  text(again, 40, 40, {0xfe, 3, 0});
  page.say(again);
  CHECK(page.at(40, 41) == kRed);
  CHECK(page.at(56, 41) == kRed);
  LittleWriter unknown;
  text(unknown, 0, 0, {5, 0});
  CHECK_THROWS_AS(page.say(unknown), Error);
}

namespace {

/// 2.2.2.2.1.3.2 and 2.2.2.2.1.3.3
LittleWriter& createSurface(LittleWriter& out, unsigned number, int width, int height,
                            const std::vector<unsigned>& deleted = {}) {
  out.u8(0x02 | 0x01 << 2).u16(number | (deleted.empty() ? 0 : 0x8000));
  out.u16(static_cast<unsigned>(width)).u16(static_cast<unsigned>(height));
  if (!deleted.empty()) out.u16(static_cast<unsigned>(deleted.size()));
  for (unsigned d : deleted) out.u16(d);
  return out;
}
LittleWriter& switchTo(LittleWriter& out, unsigned surface) { return out.u8(0x02).u16(surface); }
/// 2.2.2.2.1.1.2.9 from a surface; type and all fields.
LittleWriter& show(LittleWriter& out, unsigned surface, const Rect& to) {
  out.u8(0x09).u8(0x0d).u16(0x1ff).u16(0xff);
  place(out, to.x, to.y, to.width, to.height).u8(0xcc).u16(0).u16(0);
  return out.u16(surface);
}
/// 2.2.2.2.1.1.2.12
LittleWriter& keep(LittleWriter& out, std::uint32_t position, const Rect& r, bool restores) {
  out.u8(0x09).u8(0x0b).u8(0x3f).u32(position);
  return place(out, r.x, r.y, r.right() - 1, r.bottom() - 1).u8(restores ? 1 : 0);
}

}  // namespace

TEST_CASE("Orders: surfaces that are drawn into without being shown", "[rdp][orders]") {
  Page page;
  LittleWriter draw;
  switchTo(createSurface(draw, 3, 20, 10), 3);
  opaque(draw, {0, 0, 20, 10}, kRed);
  opaque(draw, {5, 5, 100, 100}, kGreen);  // cut at its edge
  CHECK(page.say(draw, 4).empty());
  CHECK(page.at(5, 5) == kOpaque);
  LittleWriter back;
  CHECK(page.say(show(switchTo(back, 0xffff), 3, {50, 40, 20, 10}), 2).bounds() == Rect{50, 40, 20, 10});
  CHECK(page.at(50, 40) == kRed);
  CHECK(page.at(69, 49) == kGreen);
  CHECK(page.at(70, 49) == kOpaque);
  // From one surface into another, copies within one, and the first is deleted with the next one that is
  // made.
  LittleWriter more;
  switchTo(createSurface(more, 4, 30, 10), 4);
  show(more, 3, {10, 0, 20, 10});
  switchTo(createSurface(more, 5, 8, 8, {3}), 0xffff);
  show(more, 4, {0, 60, 30, 10});
  page.say(more, 6);
  CHECK(page.at(10, 60) == kRed);
  CHECK(page.at(29, 69) == kGreen);
  for (const auto& broken : {3U, 99U}) {
    LittleWriter gone, drawn;
    CHECK_THROWS_AS(page.say(switchTo(gone, broken)), Error);
    CHECK_THROWS_AS(page.say(show(drawn, broken, {0, 0, 8, 8})), Error);
  }
  LittleWriter empty, huge;
  CHECK_THROWS_AS(page.say(createSurface(empty, 6, 0, 5)), Error);
  CHECK_THROWS_AS(page.say(createSurface(huge, 6, 8000, 8000)), Error);
  // As many as were offered; one that is made again counts once.
  LittleWriter many;
  for (unsigned i = 0; i < 498; ++i) createSurface(many, 100 + i, 4, 4);
  page.say(many, 498);
  LittleWriter again, over;
  page.say(createSurface(again, 100, 8, 8));
  CHECK_THROWS_AS(page.say(createSurface(over, 50, 4, 4)), Error);
  // The one that is drawn into is deleted: the screen is.
  Page other;
  LittleWriter own;
  switchTo(createSurface(own, 1, 8, 8), 1);
  createSurface(own, 2, 8, 8, {1});
  opaque(own, {0, 0, 4, 4}, kRed);
  CHECK_FALSE(other.say(own, 4).empty());
  other.orders.reset();
  LittleWriter forgotten;
  CHECK_THROWS_AS(other.say(switchTo(forgotten, 2)), Error);
}

TEST_CASE("Orders: a part of the screen is kept, and comes back", "[rdp][orders]") {
  Page page;
  LittleWriter out;
  opaque(out, {10, 10, 20, 10}, kRed);
  keep(out, 0, {10, 10, 20, 10}, false);
  opaque(out, {0, 0, 100, 80}, kGreen);
  page.say(out, 3);
  LittleWriter back;
  CHECK(page.say(keep(back, 0, {40, 30, 20, 10}, true)).bounds() == Rect{40, 30, 20, 10});
  CHECK(page.at(40, 30) == kRed);
  CHECK(page.at(59, 39) == kRed);
  CHECK(page.at(60, 39) == kGreen);
  // Something newer lies where it lay.
  LittleWriter newer, gone, large;
  keep(newer, 100, {0, 0, 20, 10}, false);
  keep(newer, 0, {0, 0, 20, 10}, false);
  page.say(newer, 2);
  CHECK(page.say(keep(gone, 100, {40, 30, 20, 10}, true)).empty());
  CHECK_THROWS_AS(page.say(keep(large, 0, {0, 0, 5000, 5000}, false)), Error);
}

TEST_CASE("Orders: polygons and ellipses, with a colour and with a brush", "[rdp][orders]") {
  const Rect room{0, 0, 100, 80};
  // Right and lower edges are outside: two halves of a square meet without a gap and without overlap.
  const auto upper = polygonSpans({{10, 10}, {20, 10}, {10, 20}}, false, room);
  const auto lower = polygonSpans({{20, 10}, {20, 20}, {10, 20}}, false, room);
  const auto pixels = [](const std::vector<Span>& spans) {
    int n = 0;
    for (const Span& s : spans) n += s.right - s.left;
    return n;
  };
  CHECK(upper.front() == Span{10, 10, 20});
  CHECK(upper.back() == Span{19, 10, 11});
  CHECK(pixels(upper) + pixels(lower) == 100);
  // A star: its middle is inside when windings count.
  const std::vector<Point> star{{50, 0}, {79, 90}, {3, 34}, {97, 34}, {21, 90}};
  const Rect all{0, 0, 100, 100};
  const auto covers = [](const std::vector<Span>& spans, int x, int y) {
    return std::any_of(spans.begin(), spans.end(),
                       [&](const Span& s) { return s.y == y && s.left <= x && x < s.right; });
  };
  CHECK_FALSE(covers(polygonSpans(star, false, all), 50, 50));
  CHECK(covers(polygonSpans(star, true, all), 50, 50));
  CHECK(covers(polygonSpans(star, false, all), 50, 15));
  CHECK(polygonSpans({{0, 0}, {5, 5}}, true, all).empty());
  CHECK(polygonSpans({{-500, -500}, {500, -500}, {500, 500}, {-500, 500}}, false, room).size() == 80);

  const auto disc = ellipseSpans({10, 10, 21, 21}, true, room),
             ring = ellipseSpans({10, 10, 21, 21}, false, room);
  CHECK(disc.size() == 21);
  CHECK(disc[10] == Span{20, 10, 31});
  CHECK(disc[0].left + disc[0].right - 1 == 40);  // its middle column is 20
  CHECK(disc[0].right - disc[0].left == disc[20].right - disc[20].left);
  CHECK(std::abs(pixels(disc) - 346) < 12);  // pi r²
  CHECK(pixels(ring) < 80);
  CHECK((covers(ring, 10, 20) && covers(ring, 30, 20) && covers(ring, 20, 10) && covers(ring, 20, 30)));
  CHECK_FALSE(covers(ring, 20, 20));
  for (const Span& s : ring)
    for (int x = s.left; x < s.right; ++x) CHECK(covers(disc, x, s.y));

  Page page;
  LittleWriter solid, brush, round, patterned;
  // 2.2.2.2.1.1.2.16: a triangle, 20 to the right, then 20 back and down
  solid.u8(0x09).u8(0x14).u8(0x7f).u16(10).u16(10).u8(0x0d).u8(1);
  solid.u8(200).u8(10).u8(20).u8(2).u8(4).u8(0x40).u8(20).u8(0x6c).u8(20);
  CHECK(page.say(solid).bounds() == Rect{10, 10, 20, 20});
  CHECK(page.at(10, 10) == kRed);
  CHECK(page.at(29, 10) == kRed);
  CHECK(page.at(29, 29) == kOpaque);
  // .20, a hatch of two colours
  patterned.u8(0x09).u8(0x1a).u16(0x1fff);
  place(patterned, 40, 10, 60, 30).u8(0x0d).u8(1).u8(10).u8(180).u8(30).u8(200).u8(10).u8(20);
  patterned.u8(0).u8(0).u8(2).u8(4).zeros(7);
  CHECK(page.say(patterned).bounds() == Rect{40, 10, 21, 21});
  std::set<Pixel> seen;
  for (int x = 45; x < 55; ++x) seen.insert(page.at(x, 20)), seen.insert(page.at(x, 21));
  CHECK(seen == std::set<Pixel>{kRed, kGreen});
  // .19, its edge alone
  round.u8(0x09).u8(0x19).u8(0x7f);
  place(round, 60, 40, 80, 60).u8(0x0d).u8(0).u8(200).u8(10).u8(20);
  page.say(round);
  CHECK(page.at(60, 50) == kRed);
  CHECK(page.at(70, 50) == kOpaque);
  // .17
  brush.u8(0x09).u8(0x15).u16(0x1fff).u16(0).u16(60).u8(0x0d).u8(2);
  brush.u8(10).u8(180).u8(30).u8(200).u8(10).u8(20).u8(0).u8(0).u8(0).u8(0).zeros(7);
  brush.u8(2).u8(4).u8(0x40).u8(20).u8(0x6c).u8(19);
  CHECK(page.say(brush).bounds() == Rect{0, 60, 20, 19});
  CHECK(page.at(0, 60) == kRed);
}

TEST_CASE("Orders: one operation in many rectangles", "[rdp][orders]") {
  Page page;
  const auto list = [](LittleWriter& out) {  // two: 4x4 at 10,10 and 4x4 at 30,10
    return out.u8(2).u16(8).u8(0x04).u8(10).u8(10).u8(4).u8(4).u8(20).u8(4).u8(4);
  };
  LittleWriter invert, pattern, copies;
  invert.u8(0x09).u8(0x0f).u8(0x7f);
  list(place(invert, 10, 10, 24, 4).u8(0x55));
  page.say(invert);
  CHECK(page.at(10, 10) == rgb(255, 255, 255));
  CHECK(page.at(33, 13) == rgb(255, 255, 255));
  CHECK(page.at(20, 10) == kOpaque);
  pattern.u8(0x09).u8(0x10).u16(0x3fff);
  place(pattern, 10, 10, 24, 4).u8(0xf0).u8(0).u8(0).u8(0).u8(200).u8(10).u8(20);
  list(pattern.u8(0).u8(0).u8(0).u8(0).zeros(7));
  page.say(pattern);
  CHECK(page.at(10, 10) == kRed);
  CHECK(page.at(33, 13) == kRed);
  // Copies from 10,10 to 40,40 on: each keeps its distance.
  copies.u8(0x09).u8(0x11).u16(0x1ff);
  place(copies, 10, 10, 24, 4).u8(0xcc).u16(10).u16(40);
  opaque(pattern = {}, {10, 40, 4, 4}, kGreen);
  page.say(pattern);
  list(copies);
  page.say(copies);
  CHECK(page.at(10, 10) == kGreen);
  CHECK(page.at(33, 13) == kOpaque);
}

TEST_CASE("Orders: a hostile service gets an error, cut anywhere", "[rdp][orders]") {
  LittleWriter good;
  opaque(good, {10, 20, 30, 5}, kRed);
  for (std::size_t n = 0; n < good.size(); ++n) {
    Page page;
    CHECK_THROWS_AS(page.orders.take(good.view().first(n), 1, 32, page.colours), Error);
  }
  Page page;
  LittleWriter unknown, tall, negative, alternate;
  CHECK_THROWS_AS(page.say(unknown.u8(0x09).u8(0x1c).u8(0)), Error);
  CHECK_THROWS_AS(page.say(negative.u8(0x03).u16(0x8000).u16(0).u8(0)), Error);
  CHECK_THROWS_AS(page.say(alternate.u8(0x02).u8(0)), Error);
  LittleWriter body;
  body.u16(1).u32(0).u32(0).u8(32).u8(0).u8(0).u8(0).u16(60000).u16(60000).u32(0);
  CHECK_THROWS_AS(page.say(cacheOrder(tall, 8, 6 << 3, body.view())), Error);
  std::mt19937 dice(9);
  for (int round = 0; round < 3000; ++round) {
    Bytes noise(dice() % 120);
    for (Byte& b : noise) b = static_cast<Byte>(dice());
    if (!noise.empty()) noise[0] = static_cast<Byte>((noise[0] & 0xfc) | (round % 2 == 0 ? 1 : 3));
    try {
      page.orders.take(noise, 5, round % 3 == 0 ? 16 : 32, page.colours);
    } catch (const Error& e) {
      CHECK(e.kind() == ErrorKind::ProtocolBroken);
    }
  }
}
