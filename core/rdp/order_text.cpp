// Text of drawing orders: glyphs that are kept, and stretches of them.
#include "rdp/orders.hpp"

namespace kw::rdp {

namespace {
constexpr const char* kWhat = "text order";
constexpr unsigned kFastIndex = 0x13;  // 2.2.2.2.1.1.2 orderType
}  // namespace

/// 2.2.2.2.1.1.2.13, 2.2.2.2.1.1.2.14: the "back" colour draws the letters, the "fore" colour what lies
/// below.
void Orders::text(const Fields& f, Region& damage) {
  constexpr unsigned kEqualSteps = 0x20, kVertical = 0x04, kAddFragment = 0xff, kUseFragment = 0xfe;
  const auto area = [](const int(&v)[4]) { return Rect{v[0], v[1], v[2] - v[0], v[3] - v[1]}; };
  Pattern below;
  below.colour = colour(f.fore);
  const Rect opaque = area(f.opaque), ground = area(f.ground);
  if (!opaque.empty() && f.redundant == 0)
    fill(opaque, 0xf0, below, damage);
  else if (type_ == kFastIndex && opaque.empty() && !ground.empty())
    fill(ground, 0xf0, below, damage);
  const Pixel ink = colour(f.back);
  Point at{f.from[0], f.from[1]};
  const auto advance = [&](int by) { ((f.accel & kVertical) != 0 ? at.y : at.x) += by; };
  const std::function<void(ByteView, int)> run = [&](ByteView list, int depth) {
    LittleReader in(list, kWhat);
    const auto step = [&] {
      if (f.increment != 0 || (f.accel & kEqualSteps) != 0 || in.atEnd()) return;
      const unsigned by = in.u8();
      advance(by == 0x80 ? in.s16() : static_cast<int>(by));
    };
    while (!in.atEnd()) {
      const std::size_t begin = in.offset();
      const unsigned index = in.u8();
      if (index == kAddFragment) {  // what was read so far is remembered
        const unsigned slot = in.u8(), size = in.u8();
        if (size > begin) protocolBroken(kWhat, "a fragment longer than its text");
        fragments_[{f.cache, slot}] = Bytes(list.begin() + static_cast<std::ptrdiff_t>(begin - size),
                                            list.begin() + static_cast<std::ptrdiff_t>(begin));
        continue;
      }
      if (index == kUseFragment) {
        const auto found = fragments_.find({f.cache, in.u8()});
        if (found == fragments_.end() || depth > 0) protocolBroken(kWhat, "a fragment that was not kept");
        step();
        run(found->second, depth + 1);
        continue;
      }
      step();
      const Glyph* g = caches_.glyph(f.cache, index);
      if (g == nullptr) protocolBroken(kWhat, "a glyph that was not kept");
      drawGlyph(*g, at, ink, damage);
      if ((f.accel & kEqualSteps) != 0)
        advance(g->size.width);
      else if (f.increment != 0)
        advance(static_cast<int>(f.increment));
    }
  };
  run(f.list, 0);
}

void Orders::drawGlyph(const Glyph& g, Point at, Pixel ink, Region& damage) {
  const Rect box = Rect{at.x + g.origin.x, at.y + g.origin.y, g.size.width, g.size.height};
  const Rect shown = box.intersected(clip_).intersected(target().rect());
  if (shown.empty()) return;
  const std::size_t row = static_cast<std::size_t>(g.size.width + 7) / 8;
  for (int y = shown.y; y < shown.bottom(); ++y)
    for (int x = shown.x; x < shown.right(); ++x) {
      const int column = x - box.x;
      const Byte bits =
          g.rows[static_cast<std::size_t>(y - box.y) * row + static_cast<std::size_t>(column / 8)];
      if ((bits << (column % 8) & 0x80) != 0) *target().at(x, y) = ink;
    }
  touched(shown, damage);
}

}  // namespace kw::rdp
