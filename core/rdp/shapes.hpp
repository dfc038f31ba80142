// Filled shapes as rows of pixels (MS-RDPEGDI 2.2.2.2.1.1.2.16, .17, .19, .20).
#pragma once
#include <vector>

#include "picture/geometry.hpp"

namespace kw::rdp {

struct Span {
  int y, left, right;  ///< left belongs to it, right does not
  bool operator==(const Span&) const = default;
};

/// The inside of the closed polygon, in the rows of `room`; what lies on a right or lower edge is outside.
/// `winding`: overlapping parts count as inside; else every second.
std::vector<Span> polygonSpans(const std::vector<Point>& corners, bool winding, const Rect& room);
/// The largest ellipse in the box; unless filled, only the pixels at its edge.
std::vector<Span> ellipseSpans(const Rect& box, bool filled, const Rect& room);

}  // namespace kw::rdp
