// A set of pixels as disjoint rectangles. Kept small: past kMostRects it becomes its bounding box,
// which is right for damage (painting more than needed is harmless).
#pragma once
#include <cstdint>
#include <vector>

#include "picture/geometry.hpp"

namespace kw {

class Region {
 public:
  static constexpr std::size_t kMostRects = 64;

  Region() = default;
  /// A region that never turns into its bounding box, for asking what has really been covered.
  static Region exact() {
    Region region;
    region.most_ = SIZE_MAX;
    return region;
  }
  explicit Region(const Rect& rect) { add(rect); }

  void add(const Rect& rect);
  void add(const Region& other);
  void subtract(const Rect& rect);
  void clear() { rects_.clear(); }
  /// Drops what lies outside `bounds`.
  void clip(const Rect& bounds);

  [[nodiscard]] bool empty() const { return rects_.empty(); }
  [[nodiscard]] const std::vector<Rect>& rects() const { return rects_; }
  [[nodiscard]] Rect bounds() const;
  [[nodiscard]] std::int64_t area() const;
  [[nodiscard]] bool covers(const Rect& rect) const;
  [[nodiscard]] bool contains(Point p) const;

 private:
  std::vector<Rect> rects_;
  std::size_t most_ = kMostRects;
};

}  // namespace kw
