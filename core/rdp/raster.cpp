#include "rdp/raster.hpp"

#include <cstdlib>

namespace kw::rdp {

Pattern monochrome(const std::array<std::uint8_t, 8>& rows, Pixel fore, Pixel back, Point origin) {
  Pattern out;
  out.solid = false;
  out.origin = origin;
  for (std::size_t y = 0; y < 8; ++y)
    for (std::size_t x = 0; x < 8; ++x) out.pixels[y * 8 + x] = (rows[y] << x & 0x80) != 0 ? back : fore;
  return out;
}

std::array<std::uint8_t, 8> hatch(unsigned number) {
  switch (number) {
    case 0: return {0xff, 0xff, 0xff, 0xff, 0x00, 0xff, 0xff, 0xff};
    case 1: return {0xf7, 0xf7, 0xf7, 0xf7, 0xf7, 0xf7, 0xf7, 0xf7};
    case 2: return {0x7f, 0xbf, 0xdf, 0xef, 0xf7, 0xfb, 0xfd, 0xfe};
    case 3: return {0xfe, 0xfd, 0xfb, 0xf7, 0xef, 0xdf, 0xbf, 0x7f};
    case 4: return {0xf7, 0xf7, 0xf7, 0xf7, 0x00, 0xf7, 0xf7, 0xf7};
    default: return {0x7e, 0xbd, 0xdb, 0xe7, 0xe7, 0xdb, 0xbd, 0x7e};
  }
}

void blit(Framebuffer& picture, const Rect& to, const Rect& clip, unsigned rop, const Pattern& pattern,
          const Framebuffer* source, Point from) {
  Rect shown = to.intersected(clip).intersected(picture.rect());
  if (source != nullptr && source != &picture)
    shown = shown.intersected(source->rect().moved(to.x - from.x, to.y - from.y));
  if (shown.empty()) return;
  const bool inside = source == &picture;
  if (inside && rop == 0xcc) {
    const Point origin{from.x + shown.x - to.x, from.y + shown.y - to.y};
    if (picture.rect().contains(Rect{origin.x, origin.y, shown.width, shown.height}))
      return picture.copy(origin, shown);
  }
  // Inside of one picture, what is read must not have been drawn over: from the far end, when it lies behind.
  const bool upwards = inside && from.y < to.y, leftwards = inside && from.x < to.x;
  for (int j = 0; j < shown.height; ++j) {
    const int y = upwards ? shown.bottom() - 1 - j : shown.y + j;
    Pixel* out = picture.row(y);
    for (int i = 0; i < shown.width; ++i) {
      const int x = leftwards ? shown.right() - 1 - i : shown.x + i;
      Pixel s = 0;
      if (source != nullptr) {
        const Point at{from.x + x - to.x, from.y + y - to.y};
        s = source->rect().contains(at) ? source->pixel(at.x, at.y) : kOpaque;
      }
      out[x] = rop3(rop, pattern.at(x, y), s, out[x]) | kOpaque;
    }
  }
}

void line(Framebuffer& picture, Point a, Point b, const Rect& clip, unsigned rop, Pixel colour) {
  const Rect room = clip.intersected(picture.rect());
  const int dx = std::abs(b.x - a.x), dy = -std::abs(b.y - a.y);
  const int sx = a.x < b.x ? 1 : -1, sy = a.y < b.y ? 1 : -1;
  for (int error = dx + dy;;) {
    if (room.contains(a)) {
      Pixel& p = picture.row(a.y)[a.x];
      p = rop2(rop, colour, p) | kOpaque;
    }
    if (a == b) return;
    const int twice = 2 * error;
    if (twice >= dy) error += dy, a.x += sx;
    if (twice <= dx) error += dx, a.y += sy;
  }
}

}  // namespace kw::rdp
