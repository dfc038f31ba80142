// How pixels lie on a wire (RFC 6143 7.4), and conversion to and from the one form used inside:
// 32-bit native words 0xFFRRGGBB.
#pragma once
#include <array>
#include <memory>

#include "base/bytes.hpp"

namespace kw {

/// 0xFFRRGGBB in a native word.
using Pixel = std::uint32_t;
constexpr Pixel kOpaque = 0xff000000U;
constexpr Pixel rgb(unsigned r, unsigned g, unsigned b) { return kOpaque | (r << 16) | (g << 8) | b; }

struct PixelFormat {
  unsigned bitsPerPixel = 32;  ///< 8, 16, 24 (packed, three bytes) or 32
  unsigned depth = 24;
  bool bigEndian = false;
  bool trueColour = true;  ///< false: pixels are indices into a colour map
  unsigned redMax = 255, greenMax = 255, blueMax = 255;
  unsigned redShift = 16, greenShift = 8, blueShift = 0;

  bool operator==(const PixelFormat&) const = default;
  [[nodiscard]] unsigned bytesPerPixel() const { return bitsPerPixel / 8; }
  /// The form used inside, on this machine.
  static PixelFormat native();
  static PixelFormat rgb565();
  static PixelFormat rgb332();
  static PixelFormat colourMapped();
  /// The 16 bytes of RFC 6143 7.4, both ways. parse() throws Error{ProtocolBroken} on a format that cannot
  /// be.
  static PixelFormat parse(ByteView sixteen);
  [[nodiscard]] std::array<Byte, 16> serialize() const;
  /// ZRLE and TRLE leave out the unused byte of 32-bit pixels (RFC 6143 7.7.5); returns the format of that
  /// CPIXEL.
  [[nodiscard]] PixelFormat compact() const;
  [[nodiscard]] bool hasCompact() const { return compact() != *this; }
};

using ColourMap = std::array<Pixel, 256>;
/// A grey ramp, until the peer sends its own.
ColourMap defaultColourMap();

/// Turns wire pixels into native ones. Cheap to copy around by reference; made once per format.
class PixelReader {
 public:
  explicit PixelReader(const PixelFormat& format, const ColourMap* map = nullptr);
  [[nodiscard]] unsigned bytesPerPixel() const { return bytes_; }
  [[nodiscard]] Pixel one(const Byte* wire) const;
  /// `wire` holds count * bytesPerPixel() bytes.
  void many(const Byte* wire, Pixel* out, std::size_t count) const;

 private:
  enum class Path { NativeWord, Packed3, Packed3Big, Swapped, BigWord, Word565, Table8, Table16, Slow };
  [[nodiscard]] Pixel decode(std::uint32_t value) const;
  [[nodiscard]] std::uint32_t word(const Byte* wire) const;

  PixelFormat format_;
  unsigned bytes_;
  Path path_ = Path::Slow;
  const ColourMap* map_;
  std::shared_ptr<std::vector<Pixel>> table_;
};

/// Turns native pixels into wire pixels (the server side).
class PixelWriter {
 public:
  explicit PixelWriter(const PixelFormat& format);
  [[nodiscard]] unsigned bytesPerPixel() const { return bytes_; }
  void one(Pixel pixel, Byte* wire) const;
  void many(const Pixel* in, Byte* wire, std::size_t count) const;

 private:
  PixelFormat format_;
  unsigned bytes_;
  bool native_;
};

/// Forces the unused top byte of `count` native pixels to 0xFF.
void makeOpaque(Pixel* pixels, std::size_t count);
/// memcpy with the top byte forced to 0xFF; `wire` need not be aligned.
void copyOpaque(const Byte* wire, Pixel* out, std::size_t count);

}  // namespace kw
