// Tight encoding (registry, "Tight Encoding"): fill, JPEG, PNG, and zlib with the copy, palette and gradient
// filters.
#include "picture/png.hpp"
#include "rfb/constants.hpp"
#include "rfb/rect_decoder.hpp"

namespace kw::rfb {

namespace {
constexpr unsigned kFill = 8, kJpegKind = 9, kPngKind = 10;
constexpr unsigned kExplicitFilter = 4;
constexpr std::size_t kTooSmallToCompress = 12;
constexpr unsigned kFilterCopy = 0, kFilterPalette = 1, kFilterGradient = 2;

void paletteMono(ByteView data, const Pixel* colours, const Rect& target, Framebuffer& picture) {
  const Byte* from = data.data();
  for (int y = target.y; y < target.bottom(); ++y) {
    Pixel* out = picture.at(target.x, y);
    for (int x = 0; x < target.width; ++x) out[x] = colours[(from[x >> 3] >> (7 - (x & 7))) & 1];
    from += (target.width + 7) / 8;
  }
}

void paletteBytes(ByteView data, const Pixel* colours, const Rect& target, Framebuffer& picture) {
  const Byte* from = data.data();
  for (int y = target.y; y < target.bottom(); ++y) {
    Pixel* out = picture.at(target.x, y);
    for (int x = 0; x < target.width; ++x) out[x] = colours[*from++];
  }
}
}  // namespace

Task<std::uint32_t> RectDecoder::compactLength(WireReader& in) {
  std::uint32_t length = 0;
  for (unsigned shift = 0; shift <= 14; shift += 7) {
    const unsigned b = co_await in.readU8();
    length |= (shift == 14 ? b : b & 0x7f) << shift;
    if ((b & 0x80) == 0) break;
  }
  co_return length;
}

Task<void> RectDecoder::tight(Rect target, WireReader& in, Framebuffer& picture) {
  const unsigned control = co_await in.readU8();
  for (unsigned i = 0; i < 4; ++i)
    if ((control >> i & 1) != 0) tightStreams_[i].reset();
  const unsigned kind = control >> 4;
  if (kind == kFill) {
    const unsigned size = tightPixels_->bytesPerPixel();
    co_await in.need(size);
    const Pixel colour = tightPixels_->one(in.take(size).data());
    auto lock = picture.lock();
    picture.fill(target, colour);
  } else if (kind == kJpegKind || kind == kPngKind) {
    const std::uint32_t length = co_await compactLength(in);
    co_await in.need(length);
    const ByteView data = in.take(length);
    if (kind == kPngKind) {
      const Framebuffer part = decodePng(data);
      if (part.size() != target.size()) protocolBroken("Tight PNG", "is not as large as its rectangle");
      auto lock = picture.lock();
      picture.put(target, part.row(0));
    } else if (!target.empty()) {
      auto lock = picture.lock();
      jpeg_.decode(data, picture, target);
    }
  } else if (kind < kFill) {
    co_await tightBasic(kind, target, in, picture);
  } else {
    protocolBroken("Tight rectangle", "unknown kind " + std::to_string(kind));
  }
}

Task<void> RectDecoder::tightBasic(unsigned control, Rect target, WireReader& in, Framebuffer& picture) {
  const unsigned stream = control & 3;
  unsigned filter = kFilterCopy;
  if ((control & kExplicitFilter) != 0) filter = co_await in.readU8();
  const auto area = static_cast<std::size_t>(target.area());
  const unsigned size = tightPixels_->bytesPerPixel();
  if (filter == kFilterPalette) {
    const unsigned count = co_await in.readU8() + 1U;
    co_await in.need(std::size_t{count} * size);
    std::array<Pixel, 256> colours;
    colours.fill(kOpaque);
    tightPixels_->many(in.take(std::size_t{count} * size).data(), colours.data(), count);
    const bool mono = count == 2;
    const std::size_t bytes =
        mono ? static_cast<std::size_t>((target.width + 7) / 8) * static_cast<std::size_t>(target.height)
             : area;
    const ByteView data = co_await tightData(stream, bytes, in);
    auto lock = picture.lock();
    mono ? paletteMono(data, colours.data(), target, picture)
         : paletteBytes(data, colours.data(), target, picture);
  } else if (filter == kFilterCopy || filter == kFilterGradient) {
    const ByteView data = co_await tightData(stream, area * size, in);
    auto lock = picture.lock();
    filter == kFilterCopy ? tightCopy(data, target, picture) : tightGradient(data, target, picture);
  } else {
    protocolBroken("Tight rectangle", "unknown filter " + std::to_string(filter));
  }
}

Task<ByteView> RectDecoder::tightData(unsigned stream, std::size_t size, WireReader& in) {
  if (size < kTooSmallToCompress) {
    co_await in.need(size);
    co_return in.take(size);
  }
  const std::uint32_t length = co_await compactLength(in);
  co_await in.need(length);
  tightStreams_[stream].feed(in.take(length));
  inflated_.resize(size);
  tightStreams_[stream].readAll(inflated_);
  tightStreams_[stream].finish();
  co_return ByteView(inflated_);
}

void RectDecoder::tightCopy(ByteView data, const Rect& target, Framebuffer& picture) {
  const std::size_t rowBytes = static_cast<std::size_t>(target.width) * tightPixels_->bytesPerPixel();
  for (int y = 0; y < target.height; ++y)
    tightPixels_->many(data.data() + rowBytes * static_cast<std::size_t>(y),
                       picture.at(target.x, target.y + y), static_cast<std::size_t>(target.width));
}

namespace {
/// One colour of the gradient predictor: left + above - corner, held inside the range.
unsigned predicted(unsigned left, unsigned above, unsigned corner, unsigned max) {
  const int guess = static_cast<int>(left) + static_cast<int>(above) - static_cast<int>(corner);
  return static_cast<unsigned>(std::clamp(guess, 0, static_cast<int>(max)));
}
}  // namespace

void RectDecoder::tightGradient(ByteView data, const Rect& target, Framebuffer& picture) {
  // Works in the wire's own colour depth, since the sums wrap there.
  const unsigned size = tightPixels_->bytesPerPixel();
  const bool triple = size == 3 && format_.bitsPerPixel == 32;
  const unsigned max[3] = {format_.redMax, format_.greenMax, format_.blueMax};
  const unsigned shift[3] = {format_.redShift, format_.greenShift, format_.blueShift};
  if (!format_.trueColour) protocolBroken("Tight rectangle", "gradient filter with a colour map");
  using Colour = std::array<unsigned, 3>;
  std::vector<Colour> above(static_cast<std::size_t>(target.width) + 1, Colour{});
  std::vector<Colour> current = above;
  const Byte* p = data.data();
  for (int y = 0; y < target.height; ++y) {
    Pixel* out = picture.at(target.x, target.y + y);
    current[0] = {};
    for (std::size_t x = 0; x < static_cast<std::size_t>(target.width); ++x, p += size) {
      std::uint32_t word = 0;
      for (unsigned i = 0; i < size; ++i)
        word |= std::uint32_t{p[i]} << (format_.bigEndian ? 8 * (size - 1 - i) : 8 * i);
      for (unsigned c = 0; c < 3; ++c) {
        const unsigned difference = triple ? p[c] : (word >> shift[c]) & max[c];
        current[x + 1][c] =
            (predicted(current[x][c], above[x + 1][c], above[x][c], max[c]) + difference) & max[c];
      }
      const auto eight = [&](unsigned c) {
        return max[c] == 255 ? current[x + 1][c] : (current[x + 1][c] * 255 + max[c] / 2) / max[c];
      };
      out[x] = rgb(eight(0), eight(1), eight(2));
    }
    above.swap(current);
  }
}

}  // namespace kw::rfb
