// Draws SPICE's commands into a surface: sources with clips, brushes, masks and raster operations. Pixels of
// a surface are native words; the top byte is kept for surfaces that have alpha.
#pragma once
#include <functional>
#include <optional>
#include <vector>

#include "picture/region.hpp"
#include "spice/pixels.hpp"

namespace kw::spice {

struct Surface {
  Size size;
  std::vector<Pixel> pixels;
  bool hasAlpha = false;
  [[nodiscard]] Rect rect() const { return {0, 0, size.width, size.height}; }
  Pixel* row(int y) {
    return pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width);
  }
  [[nodiscard]] const Pixel* row(int y) const {
    return pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width);
  }
};

namespace ropd {  // bits of a raster operation
constexpr unsigned kInversSource = 1, kInversBrush = 2, kInversDest = 4, kPut = 8, kOr = 16, kAnd = 32,
                   kXor = 64, kBlackness = 128, kWhiteness = 256, kInvers = 512, kInversResult = 1024;
}

/// One bit a pixel of where something is drawn.
struct Mask {
  ImagePtr bits;  ///< black: not, anything else: drawn; null: everywhere
  Point at;       ///< of its place for the box's corner
  bool inverted = false;
};

struct Brush {
  enum class Kind { None, Solid, Pattern } kind = Kind::None;
  Pixel colour = kOpaque;
  ImagePtr pattern;
  Point origin;
  [[nodiscard]] Pixel at(int x, int y) const;
};

/// Where a command draws: its box, cut by the clip and the surface.
struct Target {
  Rect box;
  std::vector<Rect> parts;
};

/// Draws one row; `out` are the pixels from x on.
using RowPainter = std::function<void(int y, int x, int count, Pixel* out)>;
void paintRows(Surface& surface, const Target& target, const RowPainter& painter);

/// (operand) op (destination), as the bits say. A source or brush alone is `operand`.
Pixel raster(unsigned rop, Pixel operand, Pixel dest, unsigned inversOperand);
void fill(Surface& s, const Target& t, const Brush& brush, unsigned rop, const Mask& mask);
/// `area` of the image is stretched over the box.
void copyImage(Surface& s, const Target& t, const Image& image, const Rect& area, unsigned rop,
               const Mask& mask);
/// First image and brush are put together, the result is put down.
void opaque(Surface& s, const Target& t, const Image& image, const Rect& area, const Brush& brush,
            unsigned rop, const Mask& mask);
/// The 256 raster operations of three operands.
void rop3(Surface& s, const Target& t, const Image& image, const Rect& area, const Brush& brush,
          unsigned code, const Mask& mask);
void transparent(Surface& s, const Target& t, const Image& image, const Rect& area, Pixel key);
void alphaBlend(Surface& s, const Target& t, const Image& image, const Rect& area, unsigned alpha);
void copyBits(Surface& s, const Target& t, Point from);
/// Coverage 0..255 of a glyph with its corner at `at`.
void glyph(Surface& s, const Target& t, const Brush& brush, Point at, Size size, const Bytes& coverage);
/// A line of one pixel, both ends drawn.
void line(Surface& s, const Target& t, Point from, Point to, const Brush& brush, unsigned rop);

}  // namespace kw::spice
