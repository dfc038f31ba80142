#include <libyuv.h>

#include <cstring>

#include "bench/bench.hpp"
#include "picture/scale.hpp"

namespace kw::bench {

namespace {
constexpr Size kFullHd{1920, 1080};

Framebuffer gradient(Size size) {
  Framebuffer f(size);
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x)
      *f.at(x, y) = rgb(static_cast<unsigned>(x & 255), static_cast<unsigned>(y & 255),
                        static_cast<unsigned>((x * y) & 255));
  return f;
}
}  // namespace

void benchPictures(Table& table) {
  const Framebuffer picture = gradient(kFullHd);
  Framebuffer out(kFullHd);
  const auto pixels = static_cast<std::size_t>(kFullHd.area());
  const double bytes = static_cast<double>(pixels) * 4;
  const auto floor = [&] { std::memcpy(out.row(0), picture.row(0), pixels * 4); };
  PixelFormat swapped = PixelFormat::native();
  swapped.redShift = 0, swapped.blueShift = 16;
  PixelFormat big = PixelFormat::native();
  big.bigEndian = true;
  const std::pair<const char*, PixelFormat> formats[] = {
      {"conversion: 32-bit, as here", PixelFormat::native()},
      {"conversion: 32-bit, red and blue swapped", swapped},
      {"conversion: 32-bit, big endian", big},
      {"conversion: 24-bit packed", PixelFormat::native().compact()},
      {"conversion: 16-bit", PixelFormat::rgb565()},
      {"conversion: 8-bit", PixelFormat::rgb332()}};
  for (const auto& [name, format] : formats) {
    const PixelWriter writer(format);
    const PixelReader reader(format);
    Bytes wire(pixels * writer.bytesPerPixel());
    writer.many(picture.row(0), wire.data(), pixels);
    const auto [ours, least] = bestOfBoth([&] { reader.many(wire.data(), out.row(0), pixels); }, floor);
    table.row(name, ours, least, "memcpy of 1920x1080 pixels", 0, bytes);
  }
  for (const Size target : {Size{960, 540}, Size{1366, 768}, Size{2560, 1440}}) {
    const Scaler scaler(picture.rect(), target);
    std::vector<Pixel> scaled(static_cast<std::size_t>(target.area()));
    const auto [ours, least] = bestOfBoth(
        [&] {
          scaler.scale(picture, {0, 0, target.width, target.height}, scaled.data(),
                       static_cast<std::size_t>(target.width));
        },
        floor);
    table.row("smooth scaling to " + std::to_string(target.width) + "x" + std::to_string(target.height), ours,
              least, "memcpy of the source", 0, bytes);
    // The library that others take for this, with the filter it has for shrinking.
    const auto filter = target.width < picture.width() ? libyuv::kFilterBox : libyuv::kFilterBilinear;
    const auto [again, library] = bestOfBoth(
        [&] {
          scaler.scale(picture, {0, 0, target.width, target.height}, scaled.data(),
                       static_cast<std::size_t>(target.width));
        },
        [&] {
          libyuv::ARGBScale(reinterpret_cast<const std::uint8_t*>(picture.row(0)),
                            static_cast<int>(picture.stride()) * 4, picture.width(), picture.height(),
                            reinterpret_cast<std::uint8_t*>(scaled.data()), target.width * 4, target.width,
                            target.height, filter);
        });
    table.row("the same beside a library's", again, library, "libyuv", 1.3);
  }
  std::vector<Pixel> doubled(pixels * 4);
  const auto [ours, least] = bestOfBoth([&] { scaleWhole(picture, picture.rect(), 2, doubled.data(), 3840); },
                                        [&] { std::memset(doubled.data(), 1, doubled.size() * 4); });
  table.row("whole-number zoom, twice", ours, least, "memset of the target", 0, bytes * 4);
}

}  // namespace kw::bench
