#include "picture/region.hpp"

namespace kw {

namespace {

/// Appends the parts of `from` that lie outside `hole` (at most four).
void appendOutside(const Rect& from, const Rect& hole, std::vector<Rect>& out) {
  const Rect cut = from.intersected(hole);
  if (cut.empty()) {
    out.push_back(from);
    return;
  }
  if (cut.y > from.y) out.push_back({from.x, from.y, from.width, cut.y - from.y});
  if (cut.bottom() < from.bottom())
    out.push_back({from.x, cut.bottom(), from.width, from.bottom() - cut.bottom()});
  if (cut.x > from.x) out.push_back({from.x, cut.y, cut.x - from.x, cut.height});
  if (cut.right() < from.right()) out.push_back({cut.right(), cut.y, from.right() - cut.right(), cut.height});
}

}  // namespace

void Region::add(const Rect& rect) {
  if (rect.empty()) return;
  for (const Rect& have : rects_)
    if (have.contains(rect)) return;
  std::erase_if(rects_, [&](const Rect& have) { return rect.contains(have); });
  std::vector<Rect> pieces{rect}, next;
  for (const Rect& have : rects_) {
    next.clear();
    for (const Rect& piece : pieces) appendOutside(piece, have, next);
    pieces.swap(next);
    if (pieces.empty()) return;
  }
  rects_.insert(rects_.end(), pieces.begin(), pieces.end());
  if (rects_.size() > most_) rects_ = {bounds()};
}

void Region::add(const Region& other) {
  for (const Rect& rect : other.rects_) add(rect);
}

void Region::subtract(const Rect& rect) {
  std::vector<Rect> left;
  for (const Rect& have : rects_) appendOutside(have, rect, left);
  rects_.swap(left);
}

void Region::clip(const Rect& limits) {
  for (Rect& rect : rects_) rect = rect.intersected(limits);
  std::erase_if(rects_, [](const Rect& rect) { return rect.empty(); });
}

Rect Region::bounds() const {
  Rect all;
  for (const Rect& rect : rects_) all = all.united(rect);
  return all;
}

std::int64_t Region::area() const {
  std::int64_t sum = 0;
  for (const Rect& rect : rects_) sum += rect.area();
  return sum;
}

bool Region::covers(const Rect& rect) const {
  Region rest(rect);
  for (const Rect& have : rects_) rest.subtract(have);
  return rest.empty();
}

bool Region::contains(Point p) const {
  return std::any_of(rects_.begin(), rects_.end(), [&](const Rect& rect) { return rect.contains(p); });
}

}  // namespace kw
