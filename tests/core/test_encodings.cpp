// Each encoding: what a server would send is written here from the specification and decoded by the client,
// fed whole and one byte at a time.
#include "codec/jpeg.hpp"
#include "codec/zip.hpp"
#include "picture/png.hpp"
#include "rfb/constants.hpp"
#include "rfb/encoders.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rfb;
using test::rectHeader;
using test::updateHeader;

namespace {

constexpr Size kSize{48, 40};

/// Sends one update with the given body to a client and returns what it shows.
Framebuffer decoded(const std::function<void(ByteWriter&)>& body, unsigned rectangles = 1,
                    std::size_t step = SIZE_MAX, test::Recorder* events = nullptr) {
  ByteWriter out = test::serverGreeting(kSize);
  updateHeader(out, rectangles);
  body(out);
  test::Recorder own;
  Framebuffer shown;
  const auto failure = test::replayTo(events != nullptr ? *events : own, shown, out.take(), step);
  CHECK(test::kindOf(failure) == ErrorKind::ClosedByPeer);
  return shown;
}

void pixel(ByteWriter& out, Pixel p) {
  Byte b[4];
  std::memcpy(b, &p, 4);
  out.bytes(b);
}
void cpixel(ByteWriter& out, Pixel p) { out.u8(p & 0xff).u8(p >> 8 & 0xff).u8(p >> 16 & 0xff); }
void tpixel(ByteWriter& out, Pixel p) { out.u8(p >> 16 & 0xff).u8(p >> 8 & 0xff).u8(p & 0xff); }

constexpr Pixel kFern = rgb(0x2f, 0x6f, 0x49), kClay = rgb(0xb8, 0x66, 0x42), kPaper = rgb(0xee, 0xf1, 0xea);

}  // namespace

TEST_CASE("Raw", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const Framebuffer picture = test::colourfulPicture(kSize);
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, picture.rect(), encoding::kRaw);
        for (int y = 0; y < kSize.height; ++y)
          for (int x = 0; x < kSize.width; ++x) pixel(out, picture.pixel(x, y) & 0xffffff);
      },
      1, step);
  CHECK(test::samePixels(shown, picture));
}

TEST_CASE("CopyRect", "[rfb][encoding]") {
  const Framebuffer picture = test::colourfulPicture(kSize);
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, picture.rect(), encoding::kRaw);
        for (int y = 0; y < kSize.height; ++y)
          for (int x = 0; x < kSize.width; ++x) pixel(out, picture.pixel(x, y));
        rectHeader(out, {10, 8, 20, 20}, encoding::kCopyRect);
        out.u16(4).u16(5);
      },
      2);
  CHECK(test::samePixels(shown.cropped({10, 8, 20, 20}), picture.cropped({4, 5, 20, 20})));
}

TEST_CASE("RRE and CoRRE", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const bool compact = GENERATE(false, true);
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {4, 4, 30, 20}, compact ? encoding::kCoRre : encoding::kRre);
        out.u32(2);
        pixel(out, kPaper);
        for (const auto& [colour, r] :
             std::vector<std::pair<Pixel, Rect>>{{kFern, {0, 0, 5, 5}}, {kClay, {29, 19, 1, 1}}}) {
          pixel(out, colour);
          for (int v : {r.x, r.y, r.width, r.height})
            compact ? out.u8(static_cast<unsigned>(v)) : out.u16(static_cast<unsigned>(v));
        }
      },
      1, step);
  CHECK(shown.pixel(4, 4) == kFern);
  CHECK(shown.pixel(8, 8) == kFern);
  CHECK(shown.pixel(9, 9) == kPaper);
  CHECK(shown.pixel(33, 23) == kClay);
  CHECK(shown.pixel(3, 3) == kOpaque);
}

TEST_CASE("Hextile with every kind of tile", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1, 5);
  const Framebuffer noise = test::colourfulPicture({16, 16}, 3);
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {0, 0, 48, 20}, encoding::kHextile);
        out.u8(hextile::kBackground);
        pixel(out, kFern);
        out.u8(hextile::kForeground | hextile::kAnySubrects);  // background stays
        pixel(out, kClay);
        out.u8(1).u8(0x12).u8(0x34);  // at 1,2 sized 4x5
        out.u8(hextile::kRaw);
        for (int y = 0; y < 16; ++y)
          for (int x = 0; x < 16; ++x) pixel(out, noise.pixel(x, y));
        // Second row of tiles, four high: coloured subrects, then nothing new at all, twice.
        out.u8(hextile::kBackground | hextile::kAnySubrects | hextile::kColoured);
        pixel(out, kPaper);
        out.u8(2);
        pixel(out, kFern);
        out.u8(0x00).u8(0x00);
        pixel(out, kClay);
        out.u8(0xf3).u8(0x00);
        out.u8(0).u8(0);
      },
      1, step);
  CHECK(shown.pixel(5, 5) == kFern);
  CHECK(shown.pixel(16 + 1, 2) == kClay);
  CHECK(shown.pixel(16 + 4, 6) == kClay);
  CHECK(shown.pixel(16 + 5, 6) == kFern);
  CHECK(test::samePixels(shown.cropped({32, 0, 16, 16}), noise));
  CHECK(shown.pixel(0, 16) == kFern);
  CHECK(shown.pixel(15, 19) == kClay);
  CHECK(shown.pixel(1, 17) == kPaper);
  CHECK(shown.pixel(47, 19) == kPaper);
}

TEST_CASE("Zlib, with one stream over several rectangles", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const Framebuffer picture = test::colourfulPicture(kSize);
  Deflater deflater;
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        for (int y = 0; y < kSize.height; y += 20) {
          rectHeader(out, {0, y, kSize.width, 20}, encoding::kZlib);
          ByteWriter plain;
          for (int row = y; row < y + 20; ++row)
            for (int x = 0; x < kSize.width; ++x) pixel(plain, picture.pixel(x, row));
          Bytes text;
          deflater.deflate(plain.view(), text);
          out.u32(static_cast<std::uint32_t>(text.size())).bytes(text);
        }
      },
      2, step);
  CHECK(test::samePixels(shown, picture));
}

TEST_CASE("TRLE reuses palettes; ZRLE and TRLE know every tile kind", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {0, 0, 48, 32}, encoding::kTrle);
        out.u8(1);  // one colour
        cpixel(out, kFern);
        out.u8(2);  // packed palette of two: stripes
        cpixel(out, kClay);
        cpixel(out, kPaper);
        for (int i = 0; i < 32; ++i) out.u8(0x55);
        out.u8(127);  // the same palette again, packed
        for (int i = 0; i < 32; ++i) out.u8(0xff);
        out.u8(128);  // plain runs: 255 + 1 pixels of one colour
        cpixel(out, kFern);
        out.u8(255).u8(0);
        out.u8(130);  // palette runs
        cpixel(out, kClay);
        cpixel(out, kPaper);
        out.u8(0x00).u8(0x81).u8(254);  // one clay pixel, then 255 of paper
        out.u8(129);                    // the same palette again, in runs
        out.u8(0x80).u8(255).u8(0);
      },
      1, step);
  CHECK(shown.pixel(0, 0) == kFern);
  CHECK(shown.pixel(16, 0) == kClay);
  CHECK(shown.pixel(17, 0) == kPaper);
  CHECK(shown.pixel(32, 0) == kPaper);
  CHECK(shown.pixel(15, 31) == kFern);
  CHECK(shown.pixel(16, 16) == kClay);
  CHECK(shown.pixel(17, 16) == kPaper);
  CHECK(shown.pixel(47, 31) == kClay);
}

TEST_CASE("Tight: fill, copy, palette, small data, gradient, JPEG and PNG", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const auto compactLength = [](ByteWriter& out, std::size_t n) {
    out.u8(static_cast<unsigned>(n & 0x7f) | (n > 0x7f ? 0x80U : 0));
    if (n > 0x7f) out.u8(static_cast<unsigned>(n >> 7 & 0x7f) | (n > 0x3fff ? 0x80U : 0));
    if (n > 0x3fff) out.u8(static_cast<unsigned>(n >> 14));
  };
  const Framebuffer picture = test::colourfulPicture({16, 10}, 5);
  const Framebuffer soft = [] {
    Framebuffer f({16, 10});
    for (int y = 0; y < 10; ++y)
      for (int x = 0; x < 16; ++x)
        *f.at(x, y) = rgb(static_cast<unsigned>(x * 15), static_cast<unsigned>(y * 25),
                          static_cast<unsigned>((x + y) * 9));
    return f;
  }();
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {0, 0, 16, 10}, encoding::kTight);
        out.u8(0x80);
        tpixel(out, kClay);
        // Copy filter on stream 0.
        rectHeader(out, {16, 0, 16, 10}, encoding::kTight);
        out.u8(0x00);
        ByteWriter plain;
        for (int y = 0; y < 10; ++y)
          for (int x = 0; x < 16; ++x) tpixel(plain, picture.pixel(x, y));
        Deflater zero;
        Bytes text;
        zero.deflate(plain.view(), text);
        compactLength(out, text.size());
        out.bytes(text);
        // Palette of two, eight by one pixels: less than twelve bytes go as they are. Resets stream 1.
        rectHeader(out, {32, 0, 8, 1}, encoding::kTight);
        out.u8(0x50 | 0x02).u8(1).u8(1);
        tpixel(out, kFern);
        tpixel(out, kPaper);
        out.u8(0x0f);
        // Gradient on stream 2: differences to left + above - corner.
        rectHeader(out, {0, 10, 16, 10}, encoding::kTight);
        out.u8(0x60).u8(2);
        ByteWriter differences;
        for (int y = 0; y < 10; ++y)
          for (int x = 0; x < 16; ++x)
            for (int shift : {16, 8, 0}) {
              const auto at = [&](int px, int py) {
                return px < 0 || py < 0 ? 0 : static_cast<int>(soft.pixel(px, py) >> shift & 0xff);
              };
              const int guess = std::clamp(at(x - 1, y) + at(x, y - 1) - at(x - 1, y - 1), 0, 255);
              differences.u8(static_cast<unsigned>(at(x, y) - guess) & 0xff);
            }
        Deflater two;
        Bytes second;
        two.deflate(differences.view(), second);
        compactLength(out, second.size());
        out.bytes(second);
        // JPEG and PNG.
        rectHeader(out, {16, 10, 16, 10}, encoding::kTight);
        out.u8(0x90);
        const Bytes jpeg = JpegEncoder().encode(soft, soft.rect(), 100);
        compactLength(out, jpeg.size());
        out.bytes(jpeg);
        rectHeader(out, {32, 10, 16, 10}, encoding::kTightPng);
        out.u8(0xa0);
        const Bytes png = encodePng(picture);
        compactLength(out, png.size());
        out.bytes(png);
      },
      6, step);
  CHECK(shown.pixel(15, 9) == kClay);
  CHECK(test::samePixels(shown.cropped({16, 0, 16, 10}), picture));
  CHECK(shown.pixel(32, 0) == kFern);
  CHECK(shown.pixel(36, 0) == kPaper);
  CHECK(test::samePixels(shown.cropped({0, 10, 16, 10}), soft));
  CHECK(test::largestDifference(shown.cropped({16, 10, 16, 10}), soft) <= 6);
  CHECK(test::samePixels(shown.cropped({32, 10, 16, 10}), picture));
}

TEST_CASE("JPEG rectangles may leave out tables they have sent before", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  Framebuffer soft({48, 40});
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 48; ++x)
      *soft.at(x, y) = rgb(static_cast<unsigned>(x * 4), static_cast<unsigned>(y * 5), 60);
  const Bytes jpeg = JpegEncoder().encode(soft, soft.rect(), 90);
  Bytes bare(jpeg.begin(), jpeg.begin() + 2);
  for (std::size_t at = 2; at + 4 <= jpeg.size() && jpeg[at + 1] != 0xda;) {
    const std::size_t length = loadBe16(&jpeg[at + 2]) + 2U;
    if (jpeg[at + 1] != 0xdb && jpeg[at + 1] != 0xc4)
      bare.insert(bare.end(), jpeg.begin() + static_cast<std::ptrdiff_t>(at),
                  jpeg.begin() + static_cast<std::ptrdiff_t>(at + length));
    at += length;
    if (jpeg[at + 1] == 0xda)
      bare.insert(bare.end(), jpeg.begin() + static_cast<std::ptrdiff_t>(at), jpeg.end());
  }
  REQUIRE(bare.size() < jpeg.size());
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        rectHeader(out, soft.rect(), encoding::kJpeg);
        out.bytes(jpeg);
        rectHeader(out, soft.rect(), encoding::kJpeg);
        out.bytes(bare);
      },
      2, step);
  CHECK(test::largestDifference(shown, soft) <= 12);
}

TEST_CASE("Pseudo-encodings: cursors, name, lights, pointer, sizes", "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  test::Recorder events;
  decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {1, 2, 9, 2}, encoding::kCursor);
        for (int i = 0; i < 18; ++i) pixel(out, kClay);
        out.u8(0x80).u8(0x80).u8(0x00).u8(0x00);
        rectHeader(out, {0, 0, 0, 0}, encoding::kDesktopName);
        out.u32(9).text("seed-bank");
        rectHeader(out, {0, 0, 0, 0}, encoding::kLedState);
        out.u8(5);
        rectHeader(out, {11, 12, 0, 0}, encoding::kPointerPosition);
        rectHeader(out, {0, 0, 0, 0}, encoding::kRelativePointer);
        rectHeader(out, {0, 0, 0, 0}, encoding::kExtendedKey);
        rectHeader(out, {0, 0, 90, 30}, encoding::kExtendedDesktopSize);
        out.u8(2).zeros(3);
        out.u32(7).u16(0).u16(0).u16(50).u16(30).u32(0);
        out.u32(8).u16(50).u16(0).u16(40).u16(30).u32(0);
        rectHeader(out, {0, 0, 0, 0}, encoding::kLastRect);
      },
      0xffff, step, &events);
  CHECK(events.cursor.size == Size{9, 2});
  CHECK(events.cursor.hotspot == Point{1, 2});
  CHECK(events.cursor.pixels[0] == kClay);
  CHECK(events.cursor.pixels[1] == 0);
  CHECK(events.cursor.pixels[8] == kClay);
  CHECK(events.cursor.pixels[9] == 0);
  CHECK(events.name == "seed-bank");
  CHECK(events.leds == 5);
  CHECK(events.pointerAt == Point{11, 12});
  CHECK(events.relative);
  CHECK(events.peer.extendedKeys);
  CHECK(events.size == Size{90, 30});
  REQUIRE(events.screens.size() == 2);
  CHECK(events.screens[1] == Screen{8, {50, 0, 40, 30}, 0});
}

TEST_CASE("X cursors and cursors with alpha", "[rfb][encoding]") {
  test::Recorder events;
  decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {0, 0, 8, 1}, encoding::kXCursor);
        out.u8(255).u8(0).u8(0).u8(0).u8(0).u8(255);
        out.u8(0xc0).u8(0xe0);
      },
      1, SIZE_MAX, &events);
  REQUIRE(events.cursor.pixels.size() == 8);
  CHECK(events.cursor.pixels[1] == rgb(255, 0, 0));
  CHECK(events.cursor.pixels[2] == rgb(0, 0, 255));
  CHECK(events.cursor.pixels[3] == 0);
  decoded(
      [&](ByteWriter& out) {
        rectHeader(out, {3, 4, 2, 1}, encoding::kAlphaCursor);
        out.s32(encoding::kRaw).u8(1).u8(2).u8(3).u8(128).u8(0).u8(0).u8(0).u8(0);
      },
      1, SIZE_MAX, &events);
  CHECK(events.cursor.pixels == std::vector<Pixel>{0x80010203U, 0});
  CHECK(events.cursor.hotspot == Point{3, 4});
}

TEST_CASE("Tight: streams whose memory was given back begin anew, and the viewer is told",
          "[rfb][encoding]") {
  const std::size_t step = GENERATE(SIZE_MAX, 1);
  const Framebuffer picture = test::colourfulPicture(kSize);
  const Rect upper{0, 0, kSize.width, kSize.height / 2},
      lower{0, kSize.height / 2, kSize.width, kSize.height / 2};
  RectEncoder encoder(PixelFormat::native());
  const Framebuffer shown = decoded(
      [&](ByteWriter& out) {
        int count = encoder.encode(encoding::kTight, upper, picture, out);
        encoder.rest();
        count += encoder.encode(encoding::kTight, lower, picture, out);
        // Told once: the stream goes on from there.
        count += encoder.encode(encoding::kTight, upper, picture, out);
        CHECK(count == 3);
      },
      3, step);
  CHECK(test::samePixels(shown, picture));
}
