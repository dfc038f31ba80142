// SPICE's packings of images by themselves: there and back, earlier images, broken data.
#include "tests/core/spice_bench.hpp"

using namespace kw;
using namespace kw::spice;
using namespace kw::test;

TEST_CASE("SPICE LZ: what is packed comes back; runs, matches and directions as the format has them",
          "[spice]") {
  const Framebuffer picture = colourfulPicture({97, 53});
  const Bytes packed = encodeLz(picture.row(0), picture.stride(), picture.size());
  const spice::Image image = decodeLz(packed, picture.size(), {});
  for (int y = 0; y < 53; ++y)
    for (int x = 0; x < 97; ++x)
      if (image.row(y)[x] != picture.pixel(x, y)) FAIL(x << "," << y);
  for (std::size_t n = 0; n < packed.size(); n += 31)
    CHECK(breaks([&] { decodeLz(ByteView(packed).first(n), picture.size(), {}); }));
  // Two plain pixels, then the second one twice more; bottom row first.
  ByteWriter small = lzHead(8, 2, 2, false);
  small.u8(1).bytes(Bytes{1, 2, 3, 4, 5, 6}).u8(0x40).u8(0);
  const spice::Image turned = decodeLz(small.view(), {2, 2}, {});
  CHECK(turned.pixels == std::vector<Pixel>{rgb(6, 5, 4), rgb(6, 5, 4), rgb(3, 2, 1), rgb(6, 5, 4)});
  // Four bits a pixel, the upper ones first.
  ByteWriter palette = lzHead(4, 3, 1);
  palette.u8(1).u8(0x12).u8(0x30);
  const std::vector<Pixel> colours{rgb(0, 0, 0), rgb(1, 1, 1), rgb(2, 2, 2), rgb(3, 3, 3)};
  CHECK(decodeLz(palette.view(), {3, 1}, colours).pixels ==
        std::vector<Pixel>{colours[1], colours[2], colours[3]});
  CHECK(breaks([&] { decodeLz(small.view(), {3, 2}, {}); }));
  ByteWriter before = lzHead(8, 2, 2);
  before.u8(0).bytes(Bytes{1, 2, 3}).u8(0x40).u8(9);
  CHECK(breaks([&] { decodeLz(before.view(), {2, 2}, {}); }));
}

TEST_CASE("SPICE GLZ: an image may refer to an earlier one, and to nothing that is not kept", "[spice]") {
  const auto head = [](std::uint64_t id, std::uint32_t distance) {
    ByteWriter out;
    out.u32(0x20205a4c)
        .u32(0x00010001)
        .u8(8 | 16)
        .u32(4)
        .u32(1)
        .u32(16)
        .u32(0)
        .u32(static_cast<std::uint32_t>(id))
        .u32(distance);
    return out;
  };
  GlzWindow window;
  ByteWriter first = head(1, 0);
  first.u8(3).bytes(Bytes{1, 1, 1, 2, 2, 2, 3, 3, 3, 4, 4, 4});
  window.decode(first.view(), {4, 1});
  // Three pixels from the image before, from its second on; then one of its own.
  ByteWriter second = head(2, 1);
  second.u8(0x60 | 1).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(window.decode(second.view(), {4, 1})->pixels ==
        std::vector<Pixel>{rgb(2, 2, 2), rgb(3, 3, 3), rgb(4, 4, 4), rgb(9, 9, 9)});
  ByteWriter unknown = head(5, 1);
  unknown.u8(0x60).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(breaks([&] { window.decode(unknown.view(), {4, 1}); }));
  ByteWriter past = head(3, 2);
  past.u8(0x60 | 3).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(breaks([&] { window.decode(past.view(), {4, 1}); }));
}

TEST_CASE("SPICE QUIC: what is written is read again, with alpha too, whatever the width", "[spice]") {
  for (const Size size : {Size{97, 53}, Size{1, 1}, Size{3, 40}, Size{2100, 9}}) {
    Framebuffer picture = colourfulPicture(size);
    for (int y = 0; y < size.height; ++y)
      for (int x = 0; x < size.width; ++x)
        if ((x / 40 + y / 7) % 2 == 0) *picture.at(x, y) = rgb(200, 210, 220);  // flat stretches: runs
    for (const bool alpha : {false, true}) {
      if (alpha) *picture.at(0, size.height / 2) = 0x33445566;
      const Bytes packed = encodeQuic(picture.row(0), picture.stride(), size, alpha);
      const spice::Image image = decodeQuic(packed, size);
      CHECK(image.hasAlpha == alpha);
      for (int y = 0; y < size.height; ++y)
        for (int x = 0; x < size.width; ++x)
          if (image.row(y)[x] != picture.pixel(x, y)) FAIL(size.width << " wide: " << x << "," << y);
      if (size.width > 1) CHECK(breaks([&] { decodeQuic(ByteView(packed).first(packed.size() / 2), size); }));
    }
  }
}

TEST_CASE("SPICE GLZ: what is written is read again, also by the images before it", "[spice]") {
  GlzWriter writer;
  GlzWindow window;
  Framebuffer picture = colourfulPicture({640, 480});
  std::size_t first = 0;
  for (int n = 0; n < 6; ++n) {
    *picture.at(100 + n, 200) = rgb(static_cast<unsigned>(n), 1, 2);
    const Bytes packed = writer.encode(picture.row(0), picture.stride(), picture.size());
    if (n == 0)
      first = packed.size();
    else
      CHECK(packed.size() < first / 20);
    const ImagePtr image = window.decode(packed, picture.size());
    for (int y = 0; y < 480; ++y)
      for (int x = 0; x < 640; ++x)
        if (image->row(y)[x] != picture.pixel(x, y)) FAIL(n << ": " << x << "," << y);
  }
}

TEST_CASE("SPICE QUIC: broken data ends in an error, whatever it is", "[spice]") {
  LittleWriter head;
  head.u32(0x43495551).u32(0).u32(4).u32(64).u32(48);
  std::uint32_t noise = 77;
  for (int i = 0; i < 40; ++i) {
    LittleWriter data;
    data.bytes(head.view());
    for (int k = 0; k < i * 40; ++k) {
      noise = noise * 1664525U + 1013904223U;
      data.u8(noise >> 24);
    }
    std::optional<ErrorKind> kind;
    std::size_t pixels = 0;
    try {
      pixels = decodeQuic(data.view(), {64, 48}).pixels.size();
    } catch (const Error& e) {
      kind = e.kind();
    }
    CHECK((pixels == 64 * 48 || kind == ErrorKind::ProtocolBroken));
  }
  CHECK(breaks([&] { decodeQuic(head.view(), {64, 49}); }));
}
