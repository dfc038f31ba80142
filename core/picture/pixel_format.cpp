#include "picture/pixel_format.hpp"

#include <bit>

#include "base/error.hpp"
#include "base/simd.hpp"

namespace kw {

namespace {

bool isMax(unsigned v) { return v != 0 && v <= 0xffff && (v & (v + 1)) == 0; }

/// Scales 0..max to 0..255 with rounding.
unsigned toEight(unsigned v, unsigned max) { return max == 255 ? v : (v * 255 + max / 2) / max; }
unsigned fromEight(unsigned v, unsigned max) { return max == 255 ? v : (v * max + 127) / 255; }

}  // namespace

PixelFormat PixelFormat::native() {
  PixelFormat format;
  format.bigEndian = std::endian::native == std::endian::big;
  return format;
}

PixelFormat PixelFormat::rgb565() {
  PixelFormat format = native();
  format.bitsPerPixel = 16;
  format.depth = 16;
  format.redMax = 31, format.greenMax = 63, format.blueMax = 31;
  format.redShift = 11, format.greenShift = 5, format.blueShift = 0;
  return format;
}

PixelFormat PixelFormat::rgb332() {
  PixelFormat format = native();
  format.bitsPerPixel = 8;
  format.depth = 8;
  format.redMax = 7, format.greenMax = 7, format.blueMax = 3;
  format.redShift = 5, format.greenShift = 2, format.blueShift = 0;
  return format;
}

PixelFormat PixelFormat::colourMapped() {
  PixelFormat format = rgb332();
  format.trueColour = false;
  return format;
}

PixelFormat PixelFormat::parse(ByteView b) {
  if (b.size() != 16) protocolBroken("PIXEL_FORMAT", "not 16 bytes");
  PixelFormat f;
  f.bitsPerPixel = b[0];
  f.depth = b[1];
  f.bigEndian = b[2] != 0;
  f.trueColour = b[3] != 0;
  f.redMax = loadBe16(&b[4]);
  f.greenMax = loadBe16(&b[6]);
  f.blueMax = loadBe16(&b[8]);
  f.redShift = b[10];
  f.greenShift = b[11];
  f.blueShift = b[12];
  if (f.bitsPerPixel != 8 && f.bitsPerPixel != 16 && f.bitsPerPixel != 32)
    protocolBroken("PIXEL_FORMAT",
                   "bits per pixel is " + std::to_string(f.bitsPerPixel) + ", not 8, 16 or 32");
  if (f.depth == 0 || f.depth > f.bitsPerPixel)
    protocolBroken("PIXEL_FORMAT", "depth " + std::to_string(f.depth) + " does not fit");
  if (f.trueColour) {
    if (!isMax(f.redMax) || !isMax(f.greenMax) || !isMax(f.blueMax))
      protocolBroken("PIXEL_FORMAT", "a colour maximum is not a power of two minus one");
    const auto fits = [&](unsigned max, unsigned shift) {
      return shift < f.bitsPerPixel && (std::uint64_t{max} << shift) < (std::uint64_t{1} << f.bitsPerPixel);
    };
    if (!fits(f.redMax, f.redShift) || !fits(f.greenMax, f.greenShift) || !fits(f.blueMax, f.blueShift))
      protocolBroken("PIXEL_FORMAT", "a colour lies outside the pixel");
  } else if (f.bitsPerPixel != 8) {
    protocolBroken("PIXEL_FORMAT", "a colour map needs 8-bit pixels");
  }
  return f;
}

std::array<Byte, 16> PixelFormat::serialize() const {
  std::array<Byte, 16> b{};
  b[0] = static_cast<Byte>(bitsPerPixel);
  b[1] = static_cast<Byte>(depth);
  b[2] = bigEndian ? 1 : 0;
  b[3] = trueColour ? 1 : 0;
  storeBe16(&b[4], static_cast<std::uint16_t>(redMax));
  storeBe16(&b[6], static_cast<std::uint16_t>(greenMax));
  storeBe16(&b[8], static_cast<std::uint16_t>(blueMax));
  b[10] = static_cast<Byte>(redShift);
  b[11] = static_cast<Byte>(greenShift);
  b[12] = static_cast<Byte>(blueShift);
  return b;
}

PixelFormat PixelFormat::compact() const {
  if (!trueColour || bitsPerPixel != 32 || depth > 24) return *this;
  const std::uint32_t used = (redMax << redShift) | (greenMax << greenShift) | (blueMax << blueShift);
  PixelFormat c = *this;
  c.bitsPerPixel = 24;
  if ((used & 0xff000000U) == 0) return c;
  if ((used & 0x000000ffU) != 0) return *this;
  c.redShift -= 8, c.greenShift -= 8, c.blueShift -= 8;
  return c;
}

ColourMap defaultColourMap() {
  ColourMap map{};
  for (unsigned i = 0; i < 256; ++i) map[i] = rgb(i, i, i);
  return map;
}

PixelReader::PixelReader(const PixelFormat& format, const ColourMap* map)
    : format_(format), bytes_(format.bytesPerPixel()), map_(map) {
  const PixelFormat nativeForm = PixelFormat::native();
  PixelFormat plain = format;
  plain.depth = 24;
  const bool eights = format.redMax == 255 && format.greenMax == 255 && format.blueMax == 255;
  const bool usualOrder = eights && format.redShift == 16 && format.greenShift == 8 && format.blueShift == 0;
  const bool otherOrder = eights && format.redShift == 0 && format.greenShift == 8 && format.blueShift == 16;
  const bool hostIsLittle = std::endian::native == std::endian::little;
  const bool little = !format.bigEndian && hostIsLittle;
  PixelFormat rgb16 = PixelFormat::rgb565();
  rgb16.depth = format.depth;
  if (!format.trueColour) return;
  if (plain == nativeForm) {
    path_ = Path::NativeWord;
  } else if (little && bytes_ == 4 && otherOrder) {
    path_ = Path::Swapped;
  } else if (hostIsLittle && format.bigEndian && bytes_ == 4 && usualOrder) {
    path_ = Path::BigWord;
  } else if (little && bytes_ == 3 && usualOrder) {
    path_ = Path::Packed3;
  } else if (hostIsLittle && format.bigEndian && bytes_ == 3 && usualOrder) {
    path_ = Path::Packed3Big;
  } else if (little && format == rgb16) {
    path_ = Path::Word565;
  } else if (bytes_ == 1 || bytes_ == 2) {
    const std::size_t entries = bytes_ == 1 ? 256 : 65536;
    table_ = std::make_shared<std::vector<Pixel>>(entries);
    for (std::uint32_t i = 0; i < entries; ++i) (*table_)[i] = decode(i);
    path_ = bytes_ == 1 ? Path::Table8 : Path::Table16;
  }
}

Pixel PixelReader::decode(std::uint32_t v) const {
  return rgb(toEight((v >> format_.redShift) & format_.redMax, format_.redMax),
             toEight((v >> format_.greenShift) & format_.greenMax, format_.greenMax),
             toEight((v >> format_.blueShift) & format_.blueMax, format_.blueMax));
}

std::uint32_t PixelReader::word(const Byte* p) const {
  switch (bytes_) {
    case 1: return p[0];
    case 2: return format_.bigEndian ? loadBe16(p) : static_cast<std::uint32_t>(p[0] | (p[1] << 8));
    case 3:
      return format_.bigEndian ? (std::uint32_t{p[0]} << 16) | (std::uint32_t{p[1]} << 8) | p[2]
                               : p[0] | (std::uint32_t{p[1]} << 8) | (std::uint32_t{p[2]} << 16);
    default:
      return format_.bigEndian ? loadBe32(p)
                               : p[0] | (std::uint32_t{p[1]} << 8) | (std::uint32_t{p[2]} << 16) |
                                     (std::uint32_t{p[3]} << 24);
  }
}

namespace {
/// round(v * 255 / 31) and round(v * 255 / 63), exactly, by multiplication.
inline Pixel from565(std::uint32_t v) {
  const std::uint32_t r = ((v >> 11 & 31U) * 527U + 23U) >> 6, g = ((v >> 5 & 63U) * 259U + 33U) >> 6,
                      b = ((v & 31U) * 527U + 23U) >> 6;
  return kOpaque | (r << 16) | (g << 8) | b;
}
}  // namespace

Pixel PixelReader::one(const Byte* p) const {
  switch (path_) {
    case Path::NativeWord: {
      Pixel v;
      std::memcpy(&v, p, 4);
      return v | kOpaque;
    }
    case Path::Packed3: return rgb(p[2], p[1], p[0]);
    case Path::Packed3Big: return rgb(p[0], p[1], p[2]);
    case Path::BigWord: return rgb(p[1], p[2], p[3]);
    case Path::Word565: return from565(static_cast<std::uint32_t>(p[0] | (p[1] << 8)));
    case Path::Swapped: return rgb(p[0], p[1], p[2]);
    case Path::Table8: return (*table_)[p[0]];
    case Path::Table16: return (*table_)[word(p)];
    case Path::Slow: break;
  }
  if (!format_.trueColour) return map_ != nullptr ? (*map_)[p[0]] : rgb(p[0], p[0], p[0]);
  return decode(word(p));
}

namespace {

KW_VECTOR void unpack3(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i)
    out[i] = kOpaque | wire[3 * i] | (Pixel{wire[3 * i + 1]} << 8) | (Pixel{wire[3 * i + 2]} << 16);
}

KW_VECTOR void unpack3Big(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i)
    out[i] = kOpaque | (Pixel{wire[3 * i]} << 16) | (Pixel{wire[3 * i + 1]} << 8) | wire[3 * i + 2];
}

KW_VECTOR void reverseWords(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) {
    Pixel v;
    std::memcpy(&v, wire + 4 * i, 4);
    out[i] = kOpaque | __builtin_bswap32(v);
  }
}

KW_VECTOR void unpack565(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) {
    std::uint16_t v;
    std::memcpy(&v, wire + 2 * i, 2);
    out[i] = from565(v);
  }
}

KW_VECTOR void swapRedBlue(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) {
    Pixel v;
    std::memcpy(&v, wire + 4 * i, 4);
    out[i] = kOpaque | (v & 0xff00U) | ((v & 0xffU) << 16) | ((v >> 16) & 0xffU);
  }
}

}  // namespace

KW_VECTOR void makeOpaque(Pixel* pixels, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) pixels[i] |= kOpaque;
}

KW_VECTOR void copyOpaque(const Byte* wire, Pixel* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) {
    Pixel v;
    std::memcpy(&v, wire + 4 * i, 4);
    out[i] = v | kOpaque;
  }
}

void PixelReader::many(const Byte* wire, Pixel* out, std::size_t count) const {
  switch (path_) {
    case Path::NativeWord: copyOpaque(wire, out, count); return;
    case Path::Packed3: unpack3(wire, out, count); return;
    case Path::Packed3Big: unpack3Big(wire, out, count); return;
    case Path::BigWord: reverseWords(wire, out, count); return;
    case Path::Word565: unpack565(wire, out, count); return;
    case Path::Swapped: swapRedBlue(wire, out, count); return;
    case Path::Table8: {
      const Pixel* table = table_->data();
      for (std::size_t i = 0; i < count; ++i) out[i] = table[wire[i]];
      return;
    }
    default:
      for (std::size_t i = 0; i < count; ++i) out[i] = one(wire + i * bytes_);
  }
}

PixelWriter::PixelWriter(const PixelFormat& format)
    : format_(format), bytes_(format.bytesPerPixel()), native_(format == PixelFormat::native()) {}

void PixelWriter::one(Pixel p, Byte* out) const {
  if (native_) {
    std::memcpy(out, &p, 4);
    return;
  }
  const unsigned r = (p >> 16) & 0xff, g = (p >> 8) & 0xff, b = p & 0xff;
  std::uint32_t v = 0;
  if (format_.trueColour) {
    v = (fromEight(r, format_.redMax) << format_.redShift) |
        (fromEight(g, format_.greenMax) << format_.greenShift) |
        (fromEight(b, format_.blueMax) << format_.blueShift);
  } else {
    v = (r * 77 + g * 151 + b * 28) >> 8;  // the grey ramp of defaultColourMap()
  }
  for (unsigned i = 0; i < bytes_; ++i) {
    const unsigned shift = format_.bigEndian ? 8 * (bytes_ - 1 - i) : 8 * i;
    out[i] = static_cast<Byte>(v >> shift);
  }
}

void PixelWriter::many(const Pixel* in, Byte* wire, std::size_t count) const {
  if (native_) {
    std::memcpy(wire, in, count * 4);
    return;
  }
  for (std::size_t i = 0; i < count; ++i) one(in[i], wire + i * bytes_);
}

}  // namespace kw
