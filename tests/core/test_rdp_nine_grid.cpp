// Pictures whose corners keep their size, byte by byte as the specification has them.
#include "rdp/orders.hpp"
#include "rdp/share.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

constexpr int kSide = 6;
constexpr unsigned kBitmapEnd = 1, kBitmapPacked = 2, kBitmapWide = 4;

struct NineGridPage {
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{60, 40});
  Orders orders{picture};
  ColourMap colours = defaultColourMap();
  Region say(const LittleWriter& bytes, unsigned count = 1) {
    return orders.take(bytes.view(), count, 32, colours);
  }
  [[nodiscard]] Pixel at(int x, int y) const { return picture->pixel(x, y) & 0xffffff; }
};

/// Pixel of column and row in the source: each is one of a kind.
Pixel sourceAt(int x, int y) { return rgb(40 * static_cast<unsigned>(x), 30 * static_cast<unsigned>(y), 9); }

/// Bottom row first, blue first, alpha last.
Bytes rawPicture(unsigned alpha) {
  LittleWriter out;
  for (int y = kSide - 1; y >= 0; --y)
    for (int x = 0; x < kSide; ++x) out.u32((sourceAt(x, y) & 0xffffff) | alpha << 24);
  return Bytes(out.view().begin(), out.view().end());
}

/// 2.2.2.2.1.3.5.1, the picture whole or in parts of 50 bytes.
unsigned stream(LittleWriter& out, ByteView data, unsigned flags, Size size = {kSide, kSide},
                std::size_t part = 60000) {
  unsigned orders = 0;
  for (std::size_t at = 0; at < data.size() || orders == 0; at += part, ++orders) {
    const ByteView block = data.subspan(at, std::min(part, data.size() - at));
    const unsigned end = at + block.size() == data.size() ? kBitmapEnd : 0;
    if (orders == 0) {
      out.u8(0x02 | 0x02 << 2).u8(flags | end).u8(32).u16(1);
      out.u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
      if ((flags & kBitmapWide) != 0)
        out.u32(static_cast<std::uint32_t>(data.size()));
      else
        out.u16(static_cast<unsigned>(data.size()));
    } else {
      out.u8(0x02 | 0x03 << 2).u8(end).u16(1);
    }
    out.u16(static_cast<unsigned>(block.size())).bytes(block);
  }
  return orders;
}
/// 2.2.2.2.1.3.4: two columns left, one right, one row above, two below keep their size.
LittleWriter& named(LittleWriter& out, unsigned number, unsigned flags, Pixel see = 0, int width = kSide) {
  out.u8(0x02 | 0x04 << 2).u8(32).u16(number).u16(static_cast<unsigned>(width)).u16(kSide).u32(flags);
  out.u16(2).u16(1).u16(1).u16(2);
  return out.u32((see >> 16 & 255) | (see >> 8 & 255) << 8 | (see & 255) << 16);
}
/// 2.2.2.2.1.1.2.20 with bounds.
LittleWriter& drawn(LittleWriter& out, unsigned number, const Rect& to) {
  out.u8(0x0d).u8(0x07).u8(0x1f).u8(0x0f);
  for (int v : {to.x, to.y, to.right() - 1, to.bottom() - 1}) out.u16(static_cast<unsigned>(v) & 0xffff);
  return out.u16(0).u16(0).u16(kSide).u16(kSide).u16(number);
}
void keepOne(NineGridPage& page, unsigned flags, unsigned alpha = 255, Pixel see = 0) {
  LittleWriter out;
  const unsigned parts = stream(out, rawPicture(alpha), 0);
  named(out, 7, flags, see);
  page.say(out, parts + 1);
}
Pixel plain(int x, int y) { return sourceAt(x, y) & 0xffffff; }

}  // namespace

TEST_CASE("Nine-grids: they are offered with the orders, and not without", "[rdp][orders]") {
  CHECK(orderSupport()[0x07] == 1);
  CHECK(orderSupport()[0x09] == 1);  // many at once
  // MS-RDPEGDI 2.2.1.2: type, length, the second revision, kilobytes, pictures.
  const Bytes set{0x15, 0, 12, 0, 2, 0, 0, 0, 0, 0x0a, 0, 1};
  for (const bool wanted : {true, false}) {
    ClientAbilities abilities;
    abilities.orders = wanted;
    const Bytes said = writeConfirmActive(1, 2, abilities);
    CHECK((std::search(said.begin(), said.end(), set.begin(), set.end()) != said.end()) == wanted);
  }
}

TEST_CASE("Nine-grids: corners keep their size, edges and the middle grow", "[rdp][orders]") {
  NineGridPage page;
  keepOne(page, NineGrid::kStretch);
  LittleWriter out;
  CHECK(page.say(drawn(out, 7, {10, 5, 23, 13})).bounds() == Rect{10, 5, 23, 13});
  CHECK(page.at(10, 5) == plain(0, 0));
  CHECK(page.at(11, 5) == plain(1, 0));
  CHECK(page.at(32, 17) == plain(5, 5));
  CHECK(page.at(32, 16) == plain(5, 4));
  // Three columns of the middle in twenty, three rows in ten.
  CHECK(page.at(12, 5) == plain(2, 0));
  CHECK(page.at(18, 5) == plain(2, 0));
  CHECK(page.at(19, 5) == plain(3, 0));
  CHECK(page.at(31, 5) == plain(4, 0));
  CHECK(page.at(10, 6) == plain(0, 1));
  CHECK(page.at(10, 9) == plain(0, 1));
  CHECK(page.at(10, 10) == plain(0, 2));
  CHECK(page.at(20, 15) == plain(3, 3));
  // Nothing beside it.
  CHECK(page.at(9, 5) == 0);
  CHECK(page.at(33, 5) == 0);
  CHECK(page.at(10, 18) == 0);
}

TEST_CASE("Nine-grids: tiles, mirrored, in their own size, with a colour that is not drawn",
          "[rdp][orders]") {
  NineGridPage page;
  LittleWriter out;
  SECTION("repeated") {
    keepOne(page, NineGrid::kTile);
    page.say(drawn(out, 7, {0, 0, 30, 30}));
    for (int x = 2; x < 29; ++x) CHECK(page.at(x, 0) == plain(2 + (x - 2) % 3, 0));
    CHECK(page.at(29, 0) == plain(5, 0));
  }
  SECTION("mirrored") {
    keepOne(page, NineGrid::kStretch | NineGrid::kMustFlip);
    page.say(drawn(out, 7, {0, 0, 30, 30}));
    CHECK(page.at(0, 0) == plain(5, 0));
    CHECK(page.at(29, 29) == plain(0, 5));
  }
  SECTION("its own size") {
    keepOne(page, NineGrid::kTrueSize);
    page.say(drawn(out, 7, {3, 3, 30, 30}));
    for (int i = 0; i < kSide; ++i) CHECK(page.at(3 + i, 3 + i) == plain(i, i));
    CHECK(page.at(9, 3) == 0);
    CHECK(page.at(3, 9) == 0);
  }
  SECTION("a colour that is not drawn") {
    keepOne(page, NineGrid::kTile | NineGrid::kTransparent, 255, sourceAt(0, 0));
    page.say(drawn(out, 7, {3, 3, 30, 30}));
    CHECK(page.at(3, 3) == 0);
    CHECK(page.at(4, 3) == plain(1, 0));
  }
  SECTION("smaller than its corners") {
    keepOne(page, NineGrid::kStretch);
    page.say(drawn(out, 7, {3, 3, 2, 2}));
    CHECK(page.at(3, 3) == plain(0, 4));
    CHECK(page.at(4, 4) == plain(5, 5));
    CHECK(page.at(5, 5) == 0);
  }
  SECTION("partly outside of the screen") {
    keepOne(page, NineGrid::kTile);
    CHECK(page.say(drawn(out, 7, {-4, -4, 30, 30})).bounds() == Rect{0, 0, 26, 26});
    CHECK(page.at(0, 0) == plain(4, 1 + 3 % 3));
    CHECK(page.at(25, 25) == plain(5, 5));
  }
}

TEST_CASE("Nine-grids: what lies below shows through, packed or not", "[rdp][orders]") {
  const bool packed = GENERATE(false, true);
  NineGridPage page;
  page.picture->fill(page.picture->rect(), rgb(200, 100, 50));
  Bytes data = rawPicture(128);
  if (packed) {  // MS-RDPEGDI 2.2.2.5.1: planes of alpha, red, green and blue as they are
    data = {0x00};
    for (unsigned shift : {24U, 16U, 8U, 0U})
      for (int y = kSide - 1; y >= 0; --y)
        for (int x = 0; x < kSide; ++x)
          data.push_back(shift == 24 ? 128 : static_cast<Byte>(sourceAt(x, y) >> shift));
    data.push_back(0);
  }
  LittleWriter out;
  // In parts, and named before it comes.
  named(out, 7, NineGrid::kStretch | NineGrid::kPerPixelAlpha);
  const unsigned orders = stream(out, data, (packed ? kBitmapPacked : 0) | kBitmapWide, {kSide, kSide}, 50);
  CHECK(orders >= 3);
  drawn(out, 7, {0, 0, 6, 6});
  page.say(out, orders + 2);
  for (int y = 0; y < kSide; ++y)
    for (int x = 0; x < kSide; ++x) {
      const auto mixed = [&](unsigned shift, unsigned below) {
        return std::min(255U, (sourceAt(x, y) >> shift & 255) + (below * 127 + 127) / 255);
      };
      REQUIRE(page.at(x, y) == (rgb(mixed(16, 200), mixed(8, 100), mixed(0, 50)) & 0xffffff));
    }
}

TEST_CASE("Nine-grids: one picture in several rectangles only", "[rdp][orders]") {
  NineGridPage page;
  keepOne(page, NineGrid::kStretch);
  // 2.2.2.2.1.1.2.21: two rectangles of 5x4, the second 10 further to the right.
  LittleWriter whole;
  whole.u8(0x0d).u8(0x08).u8(0x7f).u8(0x0f).u16(0).u16(0).u16(29).u16(19);
  whole.u16(0).u16(0).u16(kSide).u16(kSide).u16(7).u8(2).u16(9);
  whole.u8(0).u8(0).u8(0).u8(5).u8(4).u8(10).u8(0).u8(5).u8(4);
  const Region damage = page.say(whole);
  CHECK(damage.bounds() == Rect{0, 0, 15, 4});
  CHECK(page.at(0, 0) == plain(0, 0));
  CHECK(page.at(4, 3) != 0);
  CHECK(page.at(5, 0) == 0);
  CHECK(page.at(9, 0) == 0);
  CHECK(page.at(10, 0) != 0);
  CHECK(page.at(15, 0) == 0);
}

TEST_CASE("Nine-grids: what was not kept, is too large or lies about itself is refused", "[rdp][orders]") {
  NineGridPage page;
  LittleWriter missing, next, number, longer, early, other;
  CHECK_THROWS_AS(page.say(drawn(missing, 3, {0, 0, 8, 8})), Error);
  CHECK_THROWS_AS(page.say(next.u8(0x02 | 0x03 << 2).u8(1).u16(1).u16(0)), Error);
  CHECK_THROWS_AS(page.say(named(number, kNineGridEntries, 1)), Error);
  longer.u8(0x02 | 0x02 << 2).u8(0).u8(32).u16(1).u16(kSide).u16(kSide).u16(3).u16(4).u32(0);
  CHECK_THROWS_AS(page.say(longer), Error);
  stream(early, Bytes(12), 0);
  CHECK_THROWS_AS(page.say(early), Error);
  const unsigned parts = stream(other, rawPicture(255), 0);
  named(other, 1, 1, 0, kSide - 1);
  CHECK_THROWS_AS(page.say(other, parts + 1), Error);
  // As many pixels as were offered, and one that is replaced counts once.
  NineGridPage full;
  const auto large = [](LittleWriter& out, unsigned which) -> LittleWriter& {
    return out.u8(0x02 | 0x04 << 2).u8(32).u16(which).u16(640).u16(1000).u32(1).zeros(8).u32(0);
  };
  LittleWriter first, again, unseen, pixels, over;
  full.say(large(first, 0));
  full.say(large(again, 0));
  CHECK_THROWS_AS(full.say(drawn(unseen, 0, {0, 0, 8, 8})), Error);  // named, but it has not come
  full.say(pixels, stream(pixels, Bytes(640 * 1000 * 4), kBitmapWide, {640, 1000}));
  CHECK_THROWS_AS(full.say(large(over, 1)), Error);
  LittleWriter two, nextPicture, drawSecond,
      drawFirst;  // another is named before the first one's picture comes
  named(named(two, 3, 1), 4, 1);
  NineGridPage twice;
  twice.say(two, 2);
  twice.say(nextPicture, stream(nextPicture, rawPicture(255), 0));
  CHECK_FALSE(twice.say(drawn(drawSecond, 4, {0, 0, 8, 8})).empty());
  CHECK_THROWS_AS(twice.say(drawn(drawFirst, 3, {0, 0, 8, 8})), Error);
  full.orders.reset();
  LittleWriter fresh;
  full.say(large(fresh, 1));
  LittleWriter good;
  const unsigned whole = stream(good, rawPicture(255), 0);
  drawn(named(good, 7, 1), 7, {0, 0, 20, 20});
  for (std::size_t n = 0; n < good.size(); ++n) {
    NineGridPage cut;
    CHECK_THROWS_AS(cut.orders.take(good.view().first(n), whole + 2, 32, cut.colours), Error);
  }
}
