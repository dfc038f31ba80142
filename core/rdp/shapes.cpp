#include "rdp/shapes.hpp"

#include <algorithm>
#include <cmath>

namespace kw::rdp {

namespace {

struct Crossing {
  double x;
  int turn;  ///< 1 downwards, -1 upwards
};

std::vector<Crossing> crossingsAt(const std::vector<Point>& corners, int y) {
  std::vector<Crossing> out;
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Point a = corners[i], b = corners[(i + 1) % corners.size()];
    if ((a.y <= y) == (b.y <= y)) continue;
    const double x = a.x + static_cast<double>(y - a.y) * (b.x - a.x) / (b.y - a.y);
    out.push_back({x, a.y < b.y ? 1 : -1});
  }
  std::sort(out.begin(), out.end(), [](const Crossing& a, const Crossing& b) { return a.x < b.x; });
  return out;
}

void add(std::vector<Span>& out, Span span, const Rect& room) {
  span.left = std::max(span.left, room.x);
  span.right = std::min(span.right, room.right());
  if (span.left < span.right) out.push_back(span);
}

/// One row of an ellipse; empty outside of its box.
Span ellipseRow(const Rect& box, int y) {
  if (y < box.y || y >= box.bottom()) return {y, 0, 0};
  const double middleX = box.x + (box.width - 1) / 2.0, middleY = box.y + (box.height - 1) / 2.0;
  const double away = (y - middleY) / (box.height / 2.0);
  const double half = box.width / 2.0 * std::sqrt(std::max(0.0, 1 - away * away));
  return {y, static_cast<int>(std::ceil(middleX - half)), static_cast<int>(std::floor(middleX + half)) + 1};
}

}  // namespace

std::vector<Span> polygonSpans(const std::vector<Point>& corners, bool winding, const Rect& room) {
  std::vector<Span> out;
  if (corners.size() < 3) return out;
  const auto [low, high] = std::minmax_element(corners.begin(), corners.end(),
                                               [](const Point& a, const Point& b) { return a.y < b.y; });
  for (int y = std::max(low->y, room.y); y < std::min(high->y, room.bottom()); ++y) {
    const std::vector<Crossing> crossings = crossingsAt(corners, y);
    int inside = 0;
    for (std::size_t i = 0; i + 1 < crossings.size(); ++i) {
      inside = winding ? inside + crossings[i].turn : 1 - inside;
      if (inside == 0) continue;
      add(out,
          {y, static_cast<int>(std::ceil(crossings[i].x)), static_cast<int>(std::ceil(crossings[i + 1].x))},
          room);
    }
  }
  return out;
}

std::vector<Span> ellipseSpans(const Rect& box, bool filled, const Rect& room) {
  std::vector<Span> out;
  for (int y = std::max(box.y, room.y); y < std::min(box.bottom(), room.bottom()); ++y) {
    const Span whole = ellipseRow(box, y);
    if (filled) {
      add(out, whole, room);
      continue;
    }
    // Inside is what has neighbours on all four sides.
    const Span above = ellipseRow(box, y - 1), below = ellipseRow(box, y + 1);
    const int left = std::max({whole.left + 1, above.left, below.left});
    const int right = std::min({whole.right - 1, above.right, below.right});
    const bool hollow = above.left < above.right && below.left < below.right && left < right;
    add(out, {y, whole.left, hollow ? left : whole.right}, room);
    if (hollow) add(out, {y, right, whole.right}, room);
  }
  return out;
}

}  // namespace kw::rdp
