// Drawing with raster operations: how sources, patterns and what is there already mix
// (MS-RDPEGDI 2.2.2.2.1.1.1).
#pragma once
#include <array>
#include <functional>

#include "picture/framebuffer.hpp"

namespace kw::rdp {

/// One of 256: bit 4p + 2s + d of the code says what comes of pattern, source and destination.
inline Pixel rop3(unsigned code, Pixel p, Pixel s, Pixel d) {
  switch (code) {
    case 0xcc: return s;
    case 0xf0: return p;
    case 0x5a: return p ^ d;
    case 0x66: return s ^ d;
    default: break;
  }
  Pixel out = 0;
  for (unsigned i = 0; i < 8; ++i)
    if ((code >> i & 1) != 0)
      out |= ((i & 4) != 0 ? p : ~p) & ((i & 2) != 0 ? s : ~s) & ((i & 1) != 0 ? d : ~d);
  return out;
}
/// One of 16, counted from 1, of pen and destination.
inline Pixel rop2(unsigned code, Pixel p, Pixel d) {
  const unsigned table = (code - 1) & 0xf;
  Pixel out = 0;
  for (unsigned i = 0; i < 4; ++i)
    if ((table >> i & 1) != 0) out |= ((i & 2) != 0 ? p : ~p) & ((i & 1) != 0 ? d : ~d);
  return out;
}

/// Eight by eight pixels that repeat; 1 bits are the background.
struct Pattern {
  bool solid = true;
  Pixel colour = kOpaque;  ///< solid
  std::array<Pixel, 64> pixels{};
  Point origin;
  [[nodiscard]] Pixel at(int x, int y) const {
    return solid ? colour : pixels[static_cast<std::size_t>(((y - origin.y) & 7) * 8 + ((x - origin.x) & 7))];
  }
};
Pattern monochrome(const std::array<std::uint8_t, 8>& rows, Pixel fore, Pixel back, Point origin);
/// The six hatches by number: horizontal, vertical, falling, rising, cross, diagonal cross.
std::array<std::uint8_t, 8> hatch(unsigned number);

/// Fills what of `to` lies inside of `clip` with the operation. `source` may be null when the operation needs
/// none; `from` is its pixel for the corner of `to`.
void blit(Framebuffer& picture, const Rect& to, const Rect& clip, unsigned rop, const Pattern& pattern,
          const Framebuffer* source, Point from);
/// Both ends are drawn.
void line(Framebuffer& picture, Point a, Point b, const Rect& clip, unsigned rop, Pixel colour);

}  // namespace kw::rdp
