// Reads LZ, GLZ and LZ4.
#include <lz4.h>

#include <algorithm>

#include "base/little.hpp"
#include "spice/constants.hpp"
#include "spice/lz_format.hpp"
#include "spice/pixels.hpp"

namespace kw::spice {

namespace {

using namespace lz;

class In {
 public:
  In(ByteView bytes, const char* what) : at_(bytes.data()), end_(bytes.data() + bytes.size()), what_(what) {}
  Byte byte() {
    if (at_ == end_) [[unlikely]]
      protocolBroken(what_, "ends early");
    return *at_++;
  }
  const Byte* bytes(std::size_t n) {
    if (static_cast<std::size_t>(end_ - at_) < n) protocolBroken(what_, "ends early");
    const Byte* p = at_;
    at_ += n;
    return p;
  }
  std::uint32_t be32() { return loadBe32(bytes(4)); }

 private:
  const Byte* at_;
  const Byte* end_;
  const char* what_;
};

Pixel rgb16(unsigned v) {
  const auto wide = [](unsigned five) { return (five << 3) | (five >> 2); };
  return rgb(wide(v >> 10 & 31), wide(v >> 5 & 31), wide(v & 31));
}

// What one literal is, and how much a match's length is biased.
struct Rgb32Unit {
  using Value = Pixel;
  static constexpr std::size_t kBias = 1;
  static Pixel read(In& in) {
    const Byte* p = in.bytes(3);
    return rgb(p[2], p[1], p[0]);
  }
};
struct Rgb16Unit {
  using Value = Pixel;
  static constexpr std::size_t kBias = 2;
  static Pixel read(In& in) {
    const Byte* p = in.bytes(2);
    return rgb16(static_cast<unsigned>(p[0] << 8 | p[1]));
  }
};
struct ByteUnit {
  using Value = Byte;
  static constexpr std::size_t kBias = 3;
  static Byte read(In& in) { return in.byte(); }
};

/// Copies a match that may overlap what it makes.
template <typename V>
void repeat(V* to, const V* from, std::size_t n) {
  if (from + n <= to) {
    std::copy_n(from, n, to);
    return;
  }
  if (from + 1 == to) {
    std::fill_n(to, n, *from);
    return;
  }
  for (std::size_t i = 0; i < n; ++i) to[i] = from[i];
}

template <typename Unit>
void decodeUnits(In& in, typename Unit::Value* out, std::size_t count) {
  std::size_t at = 0;
  while (at < count) {
    const unsigned control = in.byte();
    if (control < kMostPlain) {
      const std::size_t n = control + 1;
      if (n > count - at) protocolBroken("LZ image", "more pixels than the picture has");
      for (std::size_t i = 0; i < n; ++i) out[at++] = Unit::read(in);
      continue;
    }
    std::size_t length = (control >> 5) - 1;
    std::size_t distance = static_cast<std::size_t>(control & 31) << 8;
    if (length == 6)
      for (Byte more = 255; more == 255;) length += more = in.byte();
    const Byte low = in.byte();
    distance += low;
    if (low == 255 && distance - low == (31U << 8)) {
      const Byte* p = in.bytes(2);
      distance = static_cast<std::size_t>(p[0] << 8 | p[1]) + kMostDistance;
    }
    length += Unit::kBias;
    distance += 1;
    if (distance > at) protocolBroken("LZ image", "refers to before its beginning");
    if (length > count - at) protocolBroken("LZ image", "more pixels than the picture has");
    repeat(out + at, out + at - distance, length);
    at += length;
  }
}

void flip(Image& image) {
  const std::size_t w = static_cast<std::size_t>(image.size.width);
  for (int a = 0, b = image.size.height - 1; a < b; ++a, --b)
    std::swap_ranges(image.pixels.begin() + static_cast<std::ptrdiff_t>(static_cast<std::size_t>(a) * w),
                     image.pixels.begin() + static_cast<std::ptrdiff_t>(static_cast<std::size_t>(a + 1) * w),
                     image.pixels.begin() + static_cast<std::ptrdiff_t>(static_cast<std::size_t>(b) * w));
}

void setAlpha(Image& image, const std::vector<Byte>& alpha) {
  image.hasAlpha = true;
  for (std::size_t i = 0; i < alpha.size(); ++i)
    image.pixels[i] = (image.pixels[i] & 0xffffff) | (static_cast<Pixel>(alpha[i]) << 24);
}

/// Indices of one, four or eight bits, whole bytes a row.
void decodePalette(In& in, unsigned type, Image& image, const std::vector<Pixel>& palette) {
  const std::size_t w = static_cast<std::size_t>(image.size.width),
                    h = static_cast<std::size_t>(image.size.height);
  const unsigned bits = type <= kPalette1Be ? 1 : type <= kPalette4Be ? 4 : 8;
  const bool bigEnd = type == kPalette1Be || type == kPalette4Be;
  const std::size_t row = (w * bits + 7) / 8;
  std::vector<Byte> units(row * h);
  decodeUnits<ByteUnit>(in, units.data(), units.size());
  const std::size_t most = std::size_t{1} << bits;
  if (palette.size() < most && bits < 8 && palette.empty())
    protocolBroken("LZ image", "its palette is missing");
  for (std::size_t y = 0; y < h; ++y)
    for (std::size_t x = 0; x < w; ++x) {
      const std::size_t bit = x * bits % 8;
      const unsigned shift = bigEnd ? 8 - bits - static_cast<unsigned>(bit) : static_cast<unsigned>(bit);
      const std::size_t index = units[y * row + x * bits / 8] >> shift & (most - 1);
      image.pixels[y * w + x] = index < palette.size() ? palette[index] : kOpaque;
    }
}

}  // namespace

Image decodeLz(ByteView data, Size size, const std::vector<Pixel>& palette) {
  In in(data, "LZ image");
  if (in.be32() != kMagic) protocolBroken("LZ image", "its mark is missing");
  if (in.be32() >> 16 != 1) protocolBroken("LZ image", "another version");
  const unsigned type = in.be32();
  const Size own{static_cast<int>(in.be32() & 0xffffff), static_cast<int>(in.be32() & 0xffffff)};
  in.be32();  // stride
  const bool topDown = in.be32() != 0;
  if (!(own == size)) protocolBroken("LZ image", "two sizes that do not agree");
  Image image{size, std::vector<Pixel>(static_cast<std::size_t>(size.area())), false};
  const std::size_t count = image.pixels.size();
  switch (type) {
    case kPalette1Le:
    case kPalette1Be:
    case kPalette4Le:
    case kPalette4Be:
    case kPalette8: decodePalette(in, type, image, palette); break;
    case kRgb16: decodeUnits<Rgb16Unit>(in, image.pixels.data(), count); break;
    case kRgb24:
    case kRgb32: decodeUnits<Rgb32Unit>(in, image.pixels.data(), count); break;
    case kRgba: {
      decodeUnits<Rgb32Unit>(in, image.pixels.data(), count);
      std::vector<Byte> alpha(count);
      decodeUnits<ByteUnit>(in, alpha.data(), count);
      setAlpha(image, alpha);
      break;
    }
    case kXxxa:
    case kA8: {
      std::vector<Byte> alpha(count);
      decodeUnits<ByteUnit>(in, alpha.data(), count);
      setAlpha(image, alpha);
      break;
    }
    default: protocolBroken("LZ image", "kind " + std::to_string(type));
  }
  if (!topDown) flip(image);
  return image;
}

ImagePtr GlzWindow::decode(ByteView data, Size size) {
  constexpr const char* what = "GLZ image";
  In in(data, what);
  if (in.be32() != kMagic) protocolBroken(what, "its mark is missing");
  if (in.be32() >> 16 != 1) protocolBroken(what, "another version");
  const unsigned kind = in.byte(), type = kind & 0xf;
  const bool topDown = kind >> 4 != 0;
  const Size own{static_cast<int>(in.be32() & 0xffffff), static_cast<int>(in.be32() & 0xffffff)};
  in.be32();  // stride
  const std::uint64_t high = in.be32(), id = (high << 32) | in.be32();
  const std::uint32_t headDistance = in.be32();
  if (!(own == size)) protocolBroken(what, "two sizes that do not agree");
  if (type != kRgb16 && type != kRgb24 && type != kRgb32 && type != kRgba)
    protocolBroken(what, "kind " + std::to_string(type));
  auto image =
      std::make_shared<Image>(Image{size, std::vector<Pixel>(static_cast<std::size_t>(size.area())), false});
  const std::size_t count = image->pixels.size();

  struct Match {
    std::size_t length, offset;
    std::uint64_t imageDistance;
  };
  const auto readMatch = [&in](unsigned control, std::size_t bias) {
    Match m{control >> 5, control & 0xfU, 0};
    bool longOffset = (control >> 4 & 1) != 0;
    if (m.length == 7)
      for (Byte more = 255; more == 255;) m.length += more = in.byte();
    m.offset += static_cast<std::size_t>(in.byte()) << 4;
    unsigned code = in.byte();
    const unsigned more = code >> 6;
    if (!longOffset) {
      m.imageDistance = code & 0x3f;
      for (unsigned i = 0; i < more; ++i)
        m.imageDistance += static_cast<std::uint64_t>(in.byte()) << (6 + 8 * i);
    } else {
      longOffset = (code >> 5 & 1) != 0;
      m.offset += static_cast<std::size_t>(code & 0x1f) << 12;
      for (unsigned i = 0; i < more; ++i) m.imageDistance += static_cast<std::uint64_t>(in.byte()) << (8 * i);
      if (longOffset) m.offset += static_cast<std::size_t>(in.byte()) << 17;
    }
    m.length += bias;
    return m;
  };
  const auto sourceOf = [&](const Match& m, std::size_t at) -> std::pair<const Image*, std::size_t> {
    if (m.imageDistance == 0) {
      const std::size_t back = m.offset + 1;
      if (back > at) protocolBroken(what, "refers to before its beginning");
      return {image.get(), at - back};
    }
    const auto found = images_.find(id - m.imageDistance);
    if (found == images_.end()) protocolBroken(what, "refers to an image that is not in the dictionary");
    if (m.offset + m.length > found->second.image->pixels.size())
      protocolBroken(what, "refers past the end of an image");
    return {found->second.image.get(), m.offset};
  };
  // Colours, and a second pass over alpha alone where there is some.
  for (const bool alphaPass : {false, true}) {
    if (alphaPass && type != kRgba) break;
    const std::size_t bias = alphaPass ? 2 : type == kRgb16 ? 1 : 0;
    Pixel* out = image->pixels.data();
    std::size_t at = 0;
    while (at < count) {
      const unsigned control = in.byte();
      if (control < kMostPlain) {
        const std::size_t n = control + 1;
        if (n > count - at) protocolBroken(what, "more pixels than the picture has");
        for (std::size_t i = 0; i < n; ++i, ++at) {
          if (alphaPass)
            out[at] = (out[at] & 0xffffff) | (static_cast<Pixel>(in.byte()) << 24);
          else
            out[at] = type == kRgb16 ? Rgb16Unit::read(in) : Rgb32Unit::read(in);
        }
        continue;
      }
      const Match m = readMatch(control, bias);
      if (m.length > count - at) protocolBroken(what, "more pixels than the picture has");
      const auto [from, offset] = sourceOf(m, at);
      if (alphaPass) {
        for (std::size_t i = 0; i < m.length; ++i, ++at)
          out[at] = (out[at] & 0xffffff) | (from->pixels[offset + i] & kOpaque);
      } else {
        repeat(out + at, from->pixels.data() + offset, m.length);
        at += m.length;
      }
    }
  }
  image->hasAlpha = type == kRgba;
  // What the server has let go of is let go of here; it never keeps more than it was told there is room for.
  while (!images_.empty() && images_.begin()->first + headDistance < id) {
    pixels_ -= images_.begin()->second.image->pixels.size();
    images_.erase(images_.begin());
  }
  pixels_ += count;
  if (pixels_ > 2 * kMostWindowPixels + count) protocolBroken(what, "the dictionary is larger than agreed");
  images_[id] = {image};
  if (topDown) return image;
  auto turned = std::make_shared<Image>(*image);  // the dictionary keeps the order of the data
  flip(*turned);
  return turned;
}

/// One byte for the direction, one for the format, then blocks with their size in network byte order.
Image decodeLz4(ByteView data, Size size) {
  constexpr const char* what = "LZ4 image";
  In in(data, what);
  const bool topDown = in.byte() != 0;
  const unsigned format = in.byte();
  const std::size_t bytes = format == 6 ? 2 : format == 7 ? 3 : format == 8 || format == 9 ? 4 : 0;
  if (bytes == 0) protocolBroken(what, "format " + std::to_string(format));
  const std::size_t w = static_cast<std::size_t>(size.width), h = static_cast<std::size_t>(size.height);
  Bytes raw(w * h * bytes);
  std::size_t at = 0;
  const std::unique_ptr<LZ4_streamDecode_t, int (*)(LZ4_streamDecode_t*)> stream(LZ4_createStreamDecode(),
                                                                                 LZ4_freeStreamDecode);
  while (at < raw.size()) {
    const std::uint32_t packed = in.be32();
    const Byte* block = in.bytes(packed);
    const int got = LZ4_decompress_safe_continue(stream.get(), reinterpret_cast<const char*>(block),
                                                 reinterpret_cast<char*>(raw.data() + at),
                                                 static_cast<int>(packed), static_cast<int>(raw.size() - at));
    if (got <= 0) protocolBroken(what, "a block cannot be unpacked");
    at += static_cast<std::size_t>(got);
  }
  Image image{size, std::vector<Pixel>(w * h), format == 9};
  for (std::size_t i = 0; i < w * h; ++i) {
    const Byte* p = raw.data() + i * bytes;
    image.pixels[i] = bytes == 2   ? rgb16(loadLe16(p))
                      : bytes == 3 ? rgb(p[2], p[1], p[0])
                                   : loadLe32(p) | (format == 9 ? 0 : kOpaque);
  }
  if (!topDown) flip(image);
  return image;
}

}  // namespace kw::spice
