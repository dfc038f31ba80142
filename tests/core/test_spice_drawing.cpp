// What SPICE draws: fills, operations, strokes, compositions, pointers.
#include "tests/core/spice_bench.hpp"

using namespace kw;
using namespace kw::spice;
using namespace kw::test;

TEST_CASE("SPICE drawing: fills, raster operations, clips, copies, brushes and masks", "[spice]") {
  OneScreen s;
  s.surface(0, 8, 4);
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 8, 4}, 0x102030));
  CHECK(s.at(7, 3) == rgb(0x10, 0x20, 0x30));
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 2, 2}, 0x00ff00, ropd::kXor));
  CHECK(s.at(1, 1) == rgb(0x10, 0xdf, 0x30));
  CHECK(s.at(2, 2) == rgb(0x10, 0x20, 0x30));
  LittleWriter copy;
  base(copy, {4, 2, 2, 2});
  copy.u32(0).u32(0);
  s.display.take(msg::kCopyBits, copy.view());
  CHECK(s.at(5, 3) == rgb(0x10, 0xdf, 0x30));
  // A clip of one pixel.
  LittleWriter clipped;
  clipped.u32(0);
  for (std::uint32_t v : {0U, 0U, 4U, 8U}) clipped.u32(v);
  clipped.u8(1).u32(1);
  for (std::uint32_t v : {3U, 7U, 4U, 8U}) clipped.u32(v);
  clipped.u8(1).u32(0xffffff).u16(8);
  noMask(clipped);
  s.damage.clear();
  s.display.take(msg::kDrawFill, clipped.view());
  CHECK(s.at(7, 3) == rgb(255, 255, 255));
  CHECK(s.at(6, 3) == rgb(0x10, 0x20, 0x30));
  CHECK(s.damage.bounds() == Rect{7, 3, 1, 1});
  LittleWriter black;
  base(black, {0, 0, 1, 1});
  noMask(black);
  s.display.take(msg::kDrawBlackness, black.view());
  CHECK(s.at(0, 0) == kOpaque);
  s.display.take(msg::kDrawInvers, black.view());
  CHECK(s.at(0, 0) == rgb(255, 255, 255));
  // A bitmap of one bit with a palette, drawn from; remembered, and drawn from memory.
  const auto bitmap = [](unsigned type) {
    LittleWriter out;
    base(out, {0, 0, 2, 1});
    const std::size_t at = out.size() + 4 + 16 + 2 + 1 + 13;
    out.u32(static_cast<std::uint32_t>(at));
    for (std::uint32_t v : {0U, 0U, 1U, 2U}) out.u32(v);
    out.u16(8).u8(0);
    noMask(out);
    out.u64(77).u8(type).u8(type == image::kBitmap ? 1 : 0).u32(2).u32(1);
    if (type != image::kBitmap) return out.take();
    out.u8(2).u8(4).u32(2).u32(1).u32(1);
    out.u32(static_cast<std::uint32_t>(out.size() + 4 + 1)).u8(0x40);
    out.u64(5).u16(2).u32(0x0000aa).u32(0xbb0000);
    return out.take();
  };
  s.display.take(msg::kDrawCopy, bitmap(image::kBitmap));
  CHECK(s.at(0, 0) == rgb(0, 0, 0xaa));
  CHECK(s.at(1, 0) == rgb(0xbb, 0, 0));
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 8, 4}, 0));
  s.display.take(msg::kDrawCopy, bitmap(image::kFromCache));
  CHECK(s.at(1, 0) == rgb(0xbb, 0, 0));
  s.display.take(msg::kInvalAllPixmaps, {});
  CHECK(breaks([&] { s.display.take(msg::kDrawCopy, bitmap(image::kFromCache)); }));
}

TEST_CASE("SPICE strokes: dashes go on around corners, and may begin with a gap", "[spice]") {
  const auto stroke = [](unsigned flags, const std::vector<int>& style) {
    LittleWriter out;
    base(out, {0, 0, 8, 4});
    const std::size_t pathAt = out.size() + 4 + 1 + ((flags & 8) != 0 ? 5 : 0) + 5 + 4;
    const std::size_t pathSize = 4 + 1 + 4 + 3 * 8;
    out.u32(static_cast<std::uint32_t>(pathAt)).u8(flags);
    if ((flags & 8) != 0)
      out.u8(static_cast<unsigned>(style.size())).u32(static_cast<std::uint32_t>(pathAt + pathSize));
    out.u8(1).u32(0xffffff).u16(8).u16(8);
    out.u32(1).u8(1).u32(3);
    for (int v : {0, 0, 7, 0, 7, 3}) out.u32(static_cast<std::uint32_t>(v * 16));
    for (int v : style) out.u32(static_cast<std::uint32_t>(v * 16));
    return out.take();
  };
  const auto shown = [&](unsigned flags, const std::vector<int>& style) {
    OneScreen s;
    s.surface(0, 8, 4);
    s.display.take(msg::kDrawStroke, stroke(flags, style));
    std::string row, column;
    for (int x = 0; x < 8; ++x) row += s.at(x, 0) == rgb(255, 255, 255) ? '#' : '.';
    for (int y = 1; y < 4; ++y) column += s.at(7, y) == rgb(255, 255, 255) ? '#' : '.';
    return row + " " + column;
  };
  CHECK(shown(0, {}) == "######## ###");
  CHECK(shown(8, {3, 2}) == "###..### ..#");
  CHECK(shown(8 | 4, {3, 2}) == "...##... ##.");
  CHECK(shown(8, {2}) == "##..##.. ##.");
  CHECK(shown(8, {0, 0}) == "######## ###");
  CHECK(breaks([&] { shown(8, {-1, 2}); }));
  CHECK(breaks([&] { shown(8, {0x7ffffff, 2}); }));
}

TEST_CASE("SPICE compositions: operators, masks, repeats and transforms", "[spice]") {
  struct Wish {
    unsigned flags = 3;  // over
    bool mask = false;
    std::optional<std::array<int, 6>> transform;
    Point origin;
  };
  // A source of 2 x 1: half red, opaque blue; a mask that lets through the left column only.
  const auto message = [](const Wish& wish) {
    LittleWriter out;
    base(out, {0, 0, 4, 2});
    const std::size_t sourceAt = out.size() + 4 + 4 + (wish.mask ? 4 : 0) + (wish.transform ? 24 : 0) + 8;
    const std::size_t imageSize = 8 + 1 + 1 + 8 + 1 + 1 + 12 + 4 + 8;
    out.u32(wish.flags).u32(static_cast<std::uint32_t>(sourceAt));
    if (wish.mask) out.u32(static_cast<std::uint32_t>(sourceAt + imageSize));
    if (wish.transform)
      for (int v : *wish.transform) out.u32(static_cast<std::uint32_t>(v));
    out.u16(static_cast<unsigned>(wish.origin.x)).u16(static_cast<unsigned>(wish.origin.y)).u16(0).u16(0);
    for (const auto& [left, right] : {std::pair{0x80800000U, 0xff0000ffU}, {0xff000000U, 0U}}) {
      out.u64(0).u8(image::kBitmap).u8(0).u32(2).u32(1);
      out.u8(9).u8(4).u32(2).u32(1).u32(8).u32(0).u32(left).u32(right);
    }
    return out.take();
  };
  const auto drawn = [&](const Wish& wish) {
    OneScreen s;
    s.surface(0, 4, 2);
    s.display.take(msg::kDrawFill, fillMessage({0, 0, 4, 2}, 0xffffff));
    s.display.take(msg::kDrawComposite, message(wish));
    return std::vector<Pixel>{s.at(0, 0), s.at(1, 0), s.at(2, 0), s.at(0, 1)};
  };
  const Pixel white = rgb(255, 255, 255), pink = rgb(255, 127, 127), blue = rgb(0, 0, 255);
  CHECK(drawn({}) == std::vector<Pixel>{pink, blue, white, white});
  CHECK(drawn({3 | 1U << 14, false, {}, {}}) == std::vector<Pixel>{pink, blue, pink, pink});  // repeated
  CHECK(drawn({3 | 1U << 19, true, {}, {}}) == std::vector<Pixel>{pink, white, white, white});
  CHECK(drawn({3, false, {}, {1, 0}})[0] == blue);
  // Stretched to twice its width, the nearest pixel each.
  CHECK(drawn({3 | 3U << 8 | 1U << 20, false, std::array{0x8000, 0, 0, 0, 0x10000, 0}, {}}) ==
        std::vector<Pixel>{pink, pink, blue, white});
  CHECK(drawn({0, false, {}, {}})[0] == kOpaque);  // cleared
  CHECK(breaks([&] { drawn({0x0f, false, {}, {}}); }));
  CHECK(breaks([&] { drawn({3 | 7U << 8, false, {}, {}}); }));
  CHECK(breaks([&] { drawn({3 | 1U << 19, false, {}, {}}); }));  // its mask is missing
}

TEST_CASE("SPICE: the 256 raster operations follow their code", "[spice]") {
  Surface s{{1, 1}, {0xff00ff0fU}, false};
  const spice::Image source{{1, 1}, {0xff0f0ff0U}, false};
  Brush brush;
  brush.kind = Brush::Kind::Solid;
  brush.colour = 0xff333333U;
  const Target all{{0, 0, 1, 1}, {{0, 0, 1, 1}}};
  const auto with = [&](unsigned code) {
    s.pixels[0] = 0xff00ff0fU;
    rop3(s, all, source, {0, 0, 1, 1}, brush, code, {});
    return s.pixels[0] & 0xffffff;
  };
  CHECK(with(0xcc) == 0x0f0ff0);               // the source
  CHECK(with(0xf0) == 0x333333);               // the pattern
  CHECK(with(0xaa) == 0x00ff0f);               // the destination
  CHECK(with(0x88) == (0x0f0ff0 & 0x00ff0f));  // source and destination
  CHECK(with(0x5a) == (0x333333 ^ 0x00ff0f));  // pattern or else destination
  CHECK(with(0x00) == 0);
}

TEST_CASE("SPICE: an image without pixels is refused before anything is drawn from it", "[spice]") {
  OneScreen s;
  s.surface(0, 8, 4);
  s.surface(7, 0, 0);
  LittleWriter out;
  base(out, {0, 0, 8, 4});
  out.u32(static_cast<std::uint32_t>(out.size() + 4 + 16 + 2 + 1 + 13));
  for (std::uint32_t v : {0U, 0U, 4U, 9U}) out.u32(v);
  out.u16(8).u8(0);
  noMask(out);
  out.u64(0).u8(image::kSurface).u8(0).u32(0).u32(0).u32(7);
  CHECK(breaks([&] { s.display.take(msg::kDrawCopy, out.view()); }));
}

TEST_CASE("SPICE pointers: masks, depths, and the cache", "[spice]") {
  Pointers pointers;
  const auto mono = [](unsigned flags) {
    LittleWriter out;
    out.u16(flags).u64(9).u8(1).u16(8).u16(1).u16(3).u16(0);
    if ((flags & 4) == 0) out.u8(0b11000000).u8(0b10100000);
    return out.take();
  };
  const Bytes first = mono(2);
  LittleReader in(first, "pointer");
  const auto shape = pointers.read(in);
  REQUIRE(shape);
  CHECK(shape->hotspot == Point{3, 0});
  // Mask and colour: inverts (a checker here), nothing, white, black.
  CHECK(shape->pixels[1] == 0);
  CHECK(shape->pixels[2] == rgb(255, 255, 255));
  CHECK(shape->pixels[3] == rgb(0, 0, 0));
  const Bytes again = mono(4);
  LittleReader remembered(again, "pointer");
  CHECK(pointers.read(remembered)->pixels == shape->pixels);
  pointers.forget(9);
  CHECK(breaks([&] {
    LittleReader gone(again, "pointer");
    pointers.read(gone);
  }));
  LittleWriter huge;
  huge.u16(0).u64(1).u8(0).u16(9000).u16(9000).u16(0).u16(0);
  CHECK(breaks([&] {
    LittleReader large(huge.view(), "pointer");
    pointers.read(large);
  }));
}
