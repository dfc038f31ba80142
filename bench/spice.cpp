// SPICE's image codecs against libraries that do the like with the same picture; what a screen takes to keep.
#include <lz4.h>
#include <png.h>
#include <turbojpeg.h>

#include <cstring>

#include "base/little.hpp"
#include "bench/bench.hpp"
#include "bench/scene.hpp"
#include "codec/jpeg.hpp"
#include "spice/display.hpp"
#include "spice/packing.hpp"

namespace kw::bench {

namespace {

using namespace spice;
constexpr Size kSize{1920, 1080};
constexpr double kPixels = 1920.0 * 1080;

struct NoEvents : DisplayEvents {
  void primaryResized() override {}
  void primaryDamaged(const Region&) override {}
  void headsChanged() override {}
  void primaryWhole() override {}
};

Bytes pngOf(const Framebuffer& f) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.width = 1920, image.height = 1080, image.format = PNG_FORMAT_BGRA;
  const int stride = static_cast<int>(f.stride() * 4);
  png_alloc_size_t size = 0;
  png_image_write_to_memory(&image, nullptr, &size, 0, f.row(0), stride, nullptr);
  Bytes out(size);
  png_image_write_to_memory(&image, out.data(), &size, 0, f.row(0), stride, nullptr);
  out.resize(size);
  return out;
}

void readPng(const Bytes& png, std::vector<Pixel>& out) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  png_image_begin_read_from_memory(&image, png.data(), png.size());
  image.format = PNG_FORMAT_BGRA;
  png_image_finish_read(&image, nullptr, out.data(), 0, nullptr);
}

std::string sizes(const char* what, std::size_t theirs, std::size_t ours) {
  return std::string(what) + ", " + std::to_string(theirs / 1000) + " kB; ours " +
         std::to_string(ours / 1000);
}

void benchImages(Table& table, const Framebuffer& f) {
  std::vector<Pixel> out(static_cast<std::size_t>(kSize.area()));
  const Bytes png = pngOf(f);
  const Bytes quic = encodeQuic(f.row(0), f.stride(), kSize), lz = encodeLz(f.row(0), f.stride(), kSize);
  GlzWriter writer;
  const Bytes first = writer.encode(f.row(0), f.stride(), kSize);
  const auto libpng = [&] { readPng(png, out); };
  const auto [q, qf] = bestOfBoth([&] { decodeQuic(quic, kSize); }, libpng);
  table.row("spice: QUIC, 1080p", q, qf, sizes("libpng", png.size(), quic.size()), 2, kPixels * 4);
  const auto [l, lf] = bestOfBoth([&] { decodeLz(lz, kSize, {}); }, libpng);
  table.row("spice: LZ, 1080p", l, lf, sizes("libpng", png.size(), lz.size()), 2, kPixels * 4);
  const auto [g, gf] = bestOfBoth(
      [&] {
        GlzWindow window;
        window.decode(first, kSize);
      },
      libpng);
  table.row("spice: GLZ, 1080p", g, gf, sizes("libpng", png.size(), first.size()), 2, kPixels * 4);
  const int bytes = static_cast<int>(kPixels) * 4;
  Bytes packed(static_cast<std::size_t>(LZ4_compressBound(bytes)));
  const int size =
      LZ4_compress_default(reinterpret_cast<const char*>(f.row(0)), reinterpret_cast<char*>(packed.data()),
                           bytes, static_cast<int>(packed.size()));
  const auto [l4, l4f] = bestOfBoth([&] { decodeLz(lz, kSize, {}); },
                                    [&] {
                                      LZ4_decompress_safe(reinterpret_cast<const char*>(packed.data()),
                                                          reinterpret_cast<char*>(out.data()), size, bytes);
                                    });
  table.row("spice: LZ, 1080p", l4, l4f, sizes("LZ4", static_cast<std::size_t>(size), lz.size()), 2,
            kPixels * 4);
}

void putSize(LittleWriter& out) { out.u32(1920).u32(1080); }

LittleWriter surfaceMessage() {
  LittleWriter out;
  out.u32(0);
  putSize(out);
  out.u32(32).u32(1);
  return out;
}

void benchStream(Table& table, const Framebuffer& f) {
  NoEvents events;
  Display display(events);
  display.take(msg::kSurfaceCreate, surfaceMessage().view());
  LittleWriter begin;
  begin.u32(0).u32(1).u8(1).u8(1).u64(0);
  putSize(begin);
  putSize(begin);
  begin.u32(0).u32(0).u32(1080).u32(1920).u8(0);
  display.take(msg::kStreamCreate, begin.view());
  JpegEncoder encoder;
  const Bytes jpeg = encoder.encode(f, f.rect(), 80);
  LittleWriter frame;
  frame.u32(1).u32(0).u32(static_cast<std::uint32_t>(jpeg.size())).bytes(jpeg);
  const tjhandle bare = tjInitDecompress();
  std::vector<Pixel> out(static_cast<std::size_t>(kSize.area()));
  const auto [ours, floor] =
      bestOfBoth([&] { display.take(msg::kStreamData, frame.view()); },
                 [&] {
                   tjDecompress2(bare, jpeg.data(), jpeg.size(), reinterpret_cast<unsigned char*>(out.data()),
                                 1920, 1920 * 4, 1080, TJPF_BGRX, 0);
                 });
  tjDestroy(bare);
  table.row("spice: MJPEG stream, 1080p", ours, floor, "libjpeg-turbo alone", 1 / 0.85, kPixels * 4);
}

/// A screen that was painted whole five times from a dictionary.
void benchMemory(Table& table, const Framebuffer& f) {
  GlzWriter writer;
  std::vector<Bytes> messages;
  for (int i = 0; i < 5; ++i) {
    const Bytes data = writer.encode(f.row(0), f.stride(), kSize);
    LittleWriter out;
    out.u32(0).u32(0).u32(0).u32(1080).u32(1920).u8(0);
    out.u32(static_cast<std::uint32_t>(out.size()) + 4 + 16 + 2 + 1 + 13);
    out.u32(0).u32(0).u32(1080).u32(1920).u16(8).u8(0);
    out.u8(0).u32(0).u32(0).u32(0);
    out.u64(0).u8(image::kGlzRgb).u8(0);
    putSize(out);
    out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
    messages.push_back(out.take());
  }
  const double before = heapInUse();
  NoEvents events;
  Display display(events);
  display.take(msg::kSurfaceCreate, surfaceMessage().view());
  for (const Bytes& message : messages) display.take(msg::kDrawCopy, message);
  const double dictionary = static_cast<double>(kMostWindowPixels) / kPixels;
  table.figure("spice: memory of a 1080p screen", (heapInUse() - before) / (kPixels * 4), "pictures",
               3 + dictionary);
}

}  // namespace

void benchSpice(Table& table) {
  const Framebuffer f = desktopScene(kSize);
  benchImages(table, f);
  benchStream(table, f);
  benchMemory(table, f);
}

}  // namespace kw::bench
