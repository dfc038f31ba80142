// Pixels count from the top left corner. Rectangles are half open: [x, x+width) x [y, y+height).
#pragma once
#include <algorithm>
#include <cstdint>

namespace kw {

struct Point {
  int x = 0, y = 0;
  bool operator==(const Point&) const = default;
};

struct Size {
  int width = 0, height = 0;
  bool operator==(const Size&) const = default;
  [[nodiscard]] bool empty() const { return width <= 0 || height <= 0; }
  [[nodiscard]] std::int64_t area() const { return empty() ? 0 : std::int64_t{width} * height; }
};

struct Rect {
  int x = 0, y = 0, width = 0, height = 0;
  bool operator==(const Rect&) const = default;
  [[nodiscard]] int right() const { return x + width; }
  [[nodiscard]] int bottom() const { return y + height; }
  [[nodiscard]] bool empty() const { return width <= 0 || height <= 0; }
  [[nodiscard]] Size size() const { return {width, height}; }
  [[nodiscard]] std::int64_t area() const { return size().area(); }
  [[nodiscard]] bool contains(Point p) const {
    return p.x >= x && p.y >= y && p.x < right() && p.y < bottom();
  }
  [[nodiscard]] bool contains(const Rect& r) const {
    return r.x >= x && r.y >= y && r.right() <= right() && r.bottom() <= bottom();
  }
  [[nodiscard]] bool intersects(const Rect& r) const {
    return x < r.right() && r.x < right() && y < r.bottom() && r.y < bottom();
  }
  [[nodiscard]] Rect intersected(const Rect& r) const {
    const int l = std::max(x, r.x), t = std::max(y, r.y);
    const int w = std::min(right(), r.right()) - l, h = std::min(bottom(), r.bottom()) - t;
    return w <= 0 || h <= 0 ? Rect{} : Rect{l, t, w, h};
  }
  [[nodiscard]] Rect united(const Rect& r) const {
    if (empty()) return r;
    if (r.empty()) return *this;
    const int l = std::min(x, r.x), t = std::min(y, r.y);
    return {l, t, std::max(right(), r.right()) - l, std::max(bottom(), r.bottom()) - t};
  }
  [[nodiscard]] Rect moved(int dx, int dy) const { return {x + dx, y + dy, width, height}; }
};

/// One screen of a machine inside its picture; the id is the peer's own.
struct Screen {
  std::uint32_t id = 0;
  Rect area;
  std::uint32_t flags = 0;
  bool operator==(const Screen&) const = default;
};

}  // namespace kw
