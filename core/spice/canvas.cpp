#include "spice/canvas.hpp"

#include <algorithm>
#include <cstdlib>
#include <utility>

namespace kw::spice {

namespace {

bool masked(const Mask& m, const Rect& box, int x, int y) {
  if (!m.bits) return true;
  const int mx = x - box.x + m.at.x, my = y - box.y + m.at.y;
  const bool inside = mx >= 0 && my >= 0 && mx < m.bits->size.width && my < m.bits->size.height;
  const bool set = inside && (m.bits->row(my)[mx] & 0xffffff) != 0;
  return set != m.inverted;
}

/// The pixel of `area` that lies at x, y of the box; nearest when stretched.
class Sampler {
 public:
  Sampler(const Image& image, const Rect& area, const Rect& box) : image_(image), area_(area), box_(box) {
    plain_ = area.size() == box.size();
  }
  [[nodiscard]] Pixel at(int x, int y) const {
    int sx = x - box_.x, sy = y - box_.y;
    if (!plain_) {
      sx = static_cast<int>(std::int64_t{sx} * area_.width / box_.width);
      sy = static_cast<int>(std::int64_t{sy} * area_.height / box_.height);
    }
    sx = std::clamp(sx + area_.x, 0, image_.size.width - 1);
    sy = std::clamp(sy + area_.y, 0, image_.size.height - 1);
    return image_.row(sy)[sx];
  }
  /// True when a whole row can be copied as it lies.
  [[nodiscard]] bool direct() const {
    return plain_ && area_.x >= 0 && area_.y >= 0 && area_.right() <= image_.size.width &&
           area_.bottom() <= image_.size.height;
  }
  [[nodiscard]] const Pixel* row(int x, int y) const {
    return image_.row(y - box_.y + area_.y) + (x - box_.x + area_.x);
  }

 private:
  const Image& image_;
  Rect area_, box_;
  bool plain_;
};

Pixel keepAlpha(const Surface& s, Pixel result) { return s.hasAlpha ? result : result | kOpaque; }

unsigned blendByte(unsigned source, unsigned dest, unsigned alpha) {
  const unsigned v = dest * (255 - alpha) + 128;
  return std::min(255U, source + ((v + (v >> 8)) >> 8));
}

/// Source over destination; the source is premultiplied.
Pixel over(Pixel source, Pixel dest) {
  const unsigned a = source >> 24;
  Pixel out = 0;
  for (int shift : {0, 8, 16, 24})
    out |= static_cast<Pixel>(blendByte(source >> shift & 0xff, dest >> shift & 0xff, a)) << shift;
  return out;
}

Pixel scaled(Pixel p, unsigned alpha) {
  Pixel out = 0;
  for (int shift : {0, 8, 16, 24}) {
    const unsigned v = (p >> shift & 0xff) * alpha + 128;
    out |= static_cast<Pixel>((v + (v >> 8)) >> 8) << shift;
  }
  return out;
}

}  // namespace

Pixel Brush::at(int x, int y) const {
  if (kind != Kind::Pattern || !pattern || pattern->size.empty()) return colour;
  const int w = pattern->size.width, h = pattern->size.height;
  const int px = ((x - origin.x) % w + w) % w, py = ((y - origin.y) % h + h) % h;
  return pattern->row(py)[px];
}

void paintRows(Surface& surface, const Target& target, const RowPainter& painter) {
  for (const Rect& part : target.parts) {
    const Rect r = part.intersected(target.box).intersected(surface.rect());
    for (int y = r.y; y < r.bottom(); ++y) painter(y, r.x, r.width, surface.row(y) + r.x);
  }
}

Pixel raster(unsigned rop, Pixel operand, Pixel dest, unsigned inversOperand) {
  const Pixel a = (rop & inversOperand) != 0 ? ~operand : operand;
  const Pixel d = (rop & ropd::kInversDest) != 0 ? ~dest : dest;
  Pixel out = a;
  if ((rop & ropd::kOr) != 0) out = a | d;
  if ((rop & ropd::kAnd) != 0) out = a & d;
  if ((rop & ropd::kXor) != 0) out = a ^ d;
  if ((rop & ropd::kBlackness) != 0) out = 0;
  if ((rop & ropd::kWhiteness) != 0) out = ~Pixel{0};
  if ((rop & ropd::kInvers) != 0) out = ~dest;
  return (rop & ropd::kInversResult) != 0 ? ~out : out;
}

void fill(Surface& s, const Target& t, const Brush& brush, unsigned rop, const Mask& mask) {
  const bool simple = rop == ropd::kPut && !mask.bits && brush.kind == Brush::Kind::Solid;
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    if (simple) {
      std::fill_n(out, n, keepAlpha(s, brush.colour));
      return;
    }
    for (int i = 0; i < n; ++i)
      if (masked(mask, t.box, x + i, y))
        out[i] = keepAlpha(s, raster(rop, brush.at(x + i, y), out[i], ropd::kInversBrush));
  });
}

void copyImage(Surface& s, const Target& t, const Image& image, const Rect& area, unsigned rop,
               const Mask& mask) {
  const Sampler from(image, area, t.box);
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    if (rop == ropd::kPut && !mask.bits && from.direct()) {
      std::copy_n(from.row(x, y), n, out);
      if (!s.hasAlpha && image.hasAlpha)
        for (int i = 0; i < n; ++i) out[i] |= kOpaque;
      return;
    }
    for (int i = 0; i < n; ++i)
      if (masked(mask, t.box, x + i, y))
        out[i] = keepAlpha(s, raster(rop, from.at(x + i, y), out[i], ropd::kInversSource));
  });
}

void opaque(Surface& s, const Target& t, const Image& image, const Rect& area, const Brush& brush,
            unsigned rop, const Mask& mask) {
  const Sampler from(image, area, t.box);
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    for (int i = 0; i < n; ++i) {
      if (!masked(mask, t.box, x + i, y)) continue;
      // Here the image is what is drawn upon, the brush what draws.
      const Pixel source = (rop & ropd::kInversSource) != 0 ? ~from.at(x + i, y) : from.at(x + i, y);
      out[i] = keepAlpha(s, raster(rop & ~ropd::kInversDest, brush.at(x + i, y), source, ropd::kInversBrush));
    }
  });
}

void rop3(Surface& s, const Target& t, const Image& image, const Rect& area, const Brush& brush,
          unsigned code, const Mask& mask) {
  const Sampler from(image, area, t.box);
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    for (int i = 0; i < n; ++i) {
      if (!masked(mask, t.box, x + i, y)) continue;
      const Pixel p = brush.at(x + i, y), src = from.at(x + i, y), d = out[i];
      Pixel result = 0;
      // Bit k of the code is the result where pattern, source and destination are the bits of k.
      for (unsigned k = 0; k < 8; ++k)
        if ((code >> k & 1) != 0)
          result |= ((k & 4) != 0 ? p : ~p) & ((k & 2) != 0 ? src : ~src) & ((k & 1) != 0 ? d : ~d);
      out[i] = keepAlpha(s, result);
    }
  });
}

void transparent(Surface& s, const Target& t, const Image& image, const Rect& area, Pixel key) {
  const Sampler from(image, area, t.box);
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    for (int i = 0; i < n; ++i)
      if (const Pixel p = from.at(x + i, y); ((p ^ key) & 0xffffff) != 0) out[i] = keepAlpha(s, p);
  });
}

void alphaBlend(Surface& s, const Target& t, const Image& image, const Rect& area, unsigned alpha) {
  const Sampler from(image, area, t.box);
  paintRows(s, t, [&](int y, int x, int n, Pixel* out) {
    for (int i = 0; i < n; ++i) {
      Pixel p = from.at(x + i, y);
      if (!image.hasAlpha) p |= kOpaque;
      if (alpha != 255) p = scaled(p, alpha);
      out[i] = keepAlpha(s, over(p, out[i]));
    }
  });
}

void copyBits(Surface& s, const Target& t, Point from) {
  const int dx = from.x - t.box.x, dy = from.y - t.box.y;
  const Rect area = t.box.moved(dx, dy).intersected(s.rect());
  if (area.empty()) return;
  // What is copied is taken aside first: it may overlap where it goes, in parts.
  Image aside{area.size(), std::vector<Pixel>(static_cast<std::size_t>(area.area())), true};
  for (int y = 0; y < area.height; ++y)
    std::copy_n(s.row(area.y + y) + area.x, area.width,
                aside.pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(area.width));
  Target to = t;
  to.box = area.moved(-dx, -dy);
  paintRows(s, to, [&](int y, int x, int n, Pixel* out) {
    std::copy_n(aside.row(y - to.box.y) + (x - to.box.x), n, out);
  });
}

void glyph(Surface& s, const Target& t, const Brush& brush, Point at, Size size, const Bytes& coverage) {
  Target here = t;
  here.box = Rect{at.x, at.y, size.width, size.height};
  paintRows(s, here, [&](int y, int x, int n, Pixel* out) {
    const Byte* row =
        coverage.data() + static_cast<std::size_t>(y - at.y) * static_cast<std::size_t>(size.width);
    for (int i = 0; i < n; ++i) {
      const unsigned a = row[x - at.x + i];
      if (a == 255)
        out[i] = keepAlpha(s, brush.at(x + i, y));
      else if (a != 0)
        out[i] = keepAlpha(s, over(scaled(brush.at(x + i, y) | kOpaque, a), out[i]));
    }
  });
}

Dashes::Dashes(std::vector<int> lengths, bool gapFirst) : lengths_(std::move(lengths)), drawn_(!gapFirst) {
  if (!lengths_.empty()) left_ = lengths_.front();
}

bool Dashes::next() {
  if (lengths_.empty()) return true;
  while (left_ == 0) {
    at_ = (at_ + 1) % lengths_.size();
    left_ = lengths_[at_];
    drawn_ = !drawn_;
  }
  --left_;
  return drawn_;
}

void line(Surface& s, const Target& t, Point from, Point to, const Brush& brush, unsigned rop, Dashes& dashes,
          bool goesOn) {
  const int dx = std::abs(to.x - from.x), dy = -std::abs(to.y - from.y);
  const int stepX = from.x < to.x ? 1 : -1, stepY = from.y < to.y ? 1 : -1;
  if (dx > 65536 || -dy > 65536) return;
  for (int error = dx + dy;;) {
    const bool drawn = !std::exchange(goesOn, false) && dashes.next();
    for (const Rect& part : t.parts)
      if (drawn && part.contains(from) && t.box.contains(from) && s.rect().contains(from)) {
        Pixel& out = s.row(from.y)[from.x];
        out = keepAlpha(s, raster(rop, brush.at(from.x, from.y), out, ropd::kInversBrush));
        break;
      }
    if (from == to) return;
    const int twice = 2 * error;
    if (twice >= dy) error += dy, from.x += stepX;
    if (twice <= dx) error += dx, from.y += stepY;
  }
}

}  // namespace kw::spice
