// Draws SPICE's commands into a surface: sources with clips, brushes, masks and raster operations. Pixels of
// a surface are native words; the top byte is kept for surfaces that have alpha.
#pragma once
#include <array>
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
/// Lengths in pixels that are drawn and left out in turn; goes on from line to line. None: all is drawn.
class Dashes {
 public:
  Dashes() = default;
  /// Without zeros throughout; `gapFirst` begins with what is left out.
  Dashes(std::vector<int> lengths, bool gapFirst);
  /// Whether the next pixel is drawn.
  bool next();

 private:
  std::vector<int> lengths_;
  std::size_t at_ = 0;
  int left_ = 0;
  bool drawn_ = true;
};

/// A line of one pixel, its end drawn; its begin only when it does not go on from another line's end.
void line(Surface& s, const Target& t, Point from, Point to, const Brush& brush, unsigned rop, Dashes& dashes,
          bool goesOn);

/// One operand of a composition: where its corner lies, how it is transformed (16.16 fixed, two rows of
/// three), filtered and repeated.
struct Operand {
  ImagePtr image;
  Point origin;
  std::optional<std::array<std::int32_t, 6>> transform;
  unsigned filter = 0, repeat = 0;
  bool isOpaque = false;
};
struct Composition {
  unsigned op = 3;  ///< Porter and Duff's and the other operators, numbered as X's Render extension does
  Operand source, mask;
  bool componentAlpha = false;
};
/// Throws Error{ProtocolBroken} for an operator, filter or repeat that is none.
void compose(Surface& s, const Target& t, const Composition& composition);

}  // namespace kw::spice
