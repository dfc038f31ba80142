#include "rdp/orders.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "drawing order";
// 2.2.2.2.1 controlFlags
constexpr unsigned kStandard = 0x01, kSecondary = 0x02, kBounds = 0x04, kTypeChange = 0x08, kDeltas = 0x10,
                   kZeroBounds = 0x20, kZeroField0 = 0x40, kZeroField1 = 0x80;
// 2.2.2.2.1.1.2 orderType
constexpr unsigned kDstBlt = 0x00, kPatBlt = 0x01, kScrBlt = 0x02, kLineTo = 0x09, kOpaqueRect = 0x0a,
                   kMemBlt = 0x0d, kMem3Blt = 0x0e, kMultiOpaqueRect = 0x12, kFastIndex = 0x13,
                   kPolyline = 0x16, kGlyphIndex = 0x1b;
constexpr unsigned kAlternateFrame = 0x0d;  // 2.2.2.2.1.3.7

/// How many bytes of field flags each order has; 0: one that was not offered.
unsigned flagBytes(unsigned type) {
  switch (type) {
    case kDstBlt:
    case kScrBlt:
    case kOpaqueRect:
    case kPolyline: return 1;
    case kPatBlt:
    case kLineTo:
    case kMemBlt:
    case kMultiOpaqueRect:
    case kFastIndex: return 2;
    case kMem3Blt:
    case kGlyphIndex: return 3;
    default: return 0;
  }
}

}  // namespace

std::array<std::uint8_t, 32> orderSupport() {
  std::array<std::uint8_t, 32> out{};
  // Indices of their own (2.2.7.1.3), equal to the order's number but for lines and the bitmaps.
  for (unsigned index : {0x00, 0x01, 0x02, 0x03, 0x04, 0x08, 0x12, 0x13, 0x16, 0x1b}) out[index] = 1;
  return out;
}

/// 2.2.2.2.1.1.1: fields in their order, each there when its bit is set.
class Orders::FieldReader {
 public:
  FieldReader(LittleReader& in, std::uint32_t present, bool deltas)
      : in_(in), present_(present), deltas_(deltas) {}
  void coordinate(int& v) {
    if (!next()) return;
    v = deltas_ ? v + static_cast<std::int8_t>(in_.u8()) : in_.s16();
    v = std::clamp(v, -32768, 32767);
  }
  void byte(unsigned& v) {
    if (next()) v = in_.u8();
  }
  void byte(std::uint8_t& v) {
    if (next()) v = in_.u8();
  }
  void word(unsigned& v) {
    if (next()) v = in_.u16();
  }
  void colour(std::uint32_t& v) {
    if (!next()) return;
    const ByteView b = in_.bytes(3);
    v = b[0] | static_cast<std::uint32_t>(b[1]) << 8 | static_cast<std::uint32_t>(b[2]) << 16;
  }
  void bytes(std::span<std::uint8_t> v) {
    if (!next()) return;
    const ByteView b = in_.bytes(v.size());
    std::copy(b.begin(), b.end(), v.begin());
  }
  void list(Bytes& v, bool wide) {
    if (!next()) return;
    const std::size_t n = wide ? in_.u16() : in_.u8();
    const ByteView b = in_.bytes(n);
    v.assign(b.begin(), b.end());
  }

 private:
  bool next() { return (present_ >> field_++ & 1) != 0; }
  LittleReader& in_;
  std::uint32_t present_;
  bool deltas_;
  unsigned field_ = 0;
};

Region Orders::take(ByteView orders, unsigned count, unsigned bitsPerPixel, const ColourMap& colours) {
  LittleReader in(orders, kWhat);
  bits_ = bitsPerPixel;
  colours_ = &colours;
  Region damage;
  const auto lock = picture_->lock();
  for (unsigned i = 0; i < count; ++i) one(in, damage);
  return damage;
}

void Orders::reset() {
  caches_.clear();
  fields_.clear();
  fragments_.clear();
  type_ = kPatBlt;
  std::fill(std::begin(edge_), std::end(edge_), 0);
}

void Orders::one(LittleReader& in, Region& damage) {
  const unsigned flags = in.u8();
  if ((flags & kStandard) == 0) return alternate(in, flags);
  if ((flags & kSecondary) != 0) return secondary(in);
  primary(in, flags, damage);
}

/// 2.2.2.2.1.2.1.1: the length counts from a place thirteen bytes later than the order's beginning.
void Orders::secondary(LittleReader& in) {
  const int length = in.s16() + 13 - 6;
  const unsigned flags = in.u16(), type = in.u8();
  if (length < 0) protocolBroken(kWhat, "a cache order of a negative length");
  caches_.take(type, flags, LittleReader(in.bytes(static_cast<std::size_t>(length)), kWhat), *colours_);
}

void Orders::alternate(LittleReader& in, unsigned flags) {
  if ((flags & kSecondary) == 0) protocolBroken(kWhat, "of no kind");
  if (flags >> 2 != kAlternateFrame) protocolBroken(kWhat, "of a kind that was not offered");
  in.skip(4);
}

/// 2.2.2.2.1.1.1.1 TS_BOUNDS
void Orders::bounds(LittleReader& in) {
  const unsigned flags = in.u8();
  for (unsigned i = 0; i < 4; ++i) {
    if ((flags >> i & 1) != 0)
      edge_[i] = in.s16();
    else if ((flags >> (i + 4) & 1) != 0)
      edge_[i] = std::clamp(edge_[i] + static_cast<std::int8_t>(in.u8()), -32768, 32767);
  }
}

void Orders::primary(LittleReader& in, unsigned flags, Region& damage) {
  if ((flags & kTypeChange) != 0) type_ = in.u8();
  unsigned bytes = flagBytes(type_);
  if (bytes == 0) protocolBroken(kWhat, "number " + std::to_string(type_) + ", which was not offered");
  bytes -= std::min(bytes, ((flags & kZeroField0) != 0 ? 1U : 0U) + ((flags & kZeroField1) != 0 ? 2U : 0U));
  std::uint32_t present = 0;
  for (unsigned i = 0; i < bytes; ++i) present |= static_cast<std::uint32_t>(in.u8()) << (8 * i);
  clip_ = picture_->rect();
  if ((flags & kBounds) != 0) {
    if ((flags & kZeroBounds) == 0) bounds(in);
    clip_ = clip_.intersected({edge_[0], edge_[1], edge_[2] - edge_[0] + 1, edge_[3] - edge_[1] + 1});
  }
  Fields& f = fields_[type_];
  FieldReader reader(in, present, (flags & kDeltas) != 0);
  read(reader, f);
  ++drawn_;
  draw(f, damage);
}

void Orders::readBrush(FieldReader& in, Brush& b) {
  in.byte(b.x);
  in.byte(b.y);
  in.byte(b.style);
  in.byte(b.hatch);
  in.bytes(b.extra);
}

void Orders::read(FieldReader& in, Fields& f) {
  const auto place = [&in](int(&v)[4]) {
    for (int& c : v) in.coordinate(c);
  };
  const auto source = [&] { in.coordinate(f.from[0]), in.coordinate(f.from[1]); };
  switch (type_) {
    case kDstBlt: place(f.a), in.byte(f.rop); return;
    case kPatBlt:
      place(f.a), in.byte(f.rop), in.colour(f.back), in.colour(f.fore);
      return readBrush(in, f.brush);
    case kScrBlt: place(f.a), in.byte(f.rop), source(); return;
    case kLineTo:
      in.word(f.backMode), place(f.a), in.colour(f.back), in.byte(f.rop), in.byte(f.penStyle);
      in.byte(f.penWidth), in.colour(f.fore);
      return;
    case kOpaqueRect: place(f.a), in.byte(f.rgb[0]), in.byte(f.rgb[1]), in.byte(f.rgb[2]); return;
    case kMultiOpaqueRect:
      place(f.a), in.byte(f.rgb[0]), in.byte(f.rgb[1]), in.byte(f.rgb[2]);
      in.byte(f.entries), in.list(f.list, true);
      return;
    case kMemBlt: in.word(f.cache), place(f.a), in.byte(f.rop), source(), in.word(f.index); return;
    case kMem3Blt:
      in.word(f.cache), place(f.a), in.byte(f.rop), source(), in.colour(f.back), in.colour(f.fore);
      readBrush(in, f.brush), in.word(f.index);
      return;
    case kPolyline:
      in.coordinate(f.a[0]), in.coordinate(f.a[1]), in.byte(f.rop), in.word(f.index), in.colour(f.fore);
      in.byte(f.entries), in.list(f.list, false);
      return;
    case kFastIndex: {
      unsigned drawing = f.increment | f.accel << 8;
      in.byte(f.cache), in.word(drawing), in.colour(f.back), in.colour(f.fore);
      f.increment = drawing & 0xff, f.accel = drawing >> 8;
      place(f.ground), place(f.opaque), source(), in.list(f.list, false);
      return;
    }
    default:  // kGlyphIndex
      in.byte(f.cache), in.byte(f.accel), in.byte(f.increment), in.byte(f.redundant);
      in.colour(f.back), in.colour(f.fore), place(f.ground), place(f.opaque);
      readBrush(in, f.brush), source(), in.list(f.list, false);
  }
}

/// 2.2.2.2.1.1.1.8: red first; with fewer bits, the pixel as it is.
Pixel Orders::colour(std::uint32_t v) const {
  if (bits_ == 8) return (*colours_)[v & 0xff];
  const auto wide = [](unsigned c, unsigned most) { return c * 255 / most; };
  if (bits_ == 16) return rgb(wide(v >> 11 & 31, 31), wide(v >> 5 & 63, 63), wide(v & 31, 31));
  if (bits_ == 15) return rgb(wide(v >> 10 & 31, 31), wide(v >> 5 & 31, 31), wide(v & 31, 31));
  return rgb(v & 0xff, v >> 8 & 0xff, v >> 16 & 0xff);
}

/// 2.2.2.2.1.1.1.4 to 2.2.2.2.1.1.1.7
Pattern Orders::patternOf(const Fields& f) const {
  const Brush& b = f.brush;
  Pattern solid;
  solid.colour = colour(f.fore);
  const Point origin{static_cast<int>(b.x), static_cast<int>(b.y)};
  const unsigned style = b.style & 0xf;
  if ((b.style & 0x80) != 0) {
    const auto* kept = caches_.brush(b.hatch);
    return kept == nullptr ? solid : monochrome(*kept, colour(f.fore), colour(f.back), origin);
  }
  if (style == 2) return monochrome(hatch(b.hatch), colour(f.fore), colour(f.back), origin);
  if (style != 3) return solid;
  std::array<std::uint8_t, 8> rows{static_cast<std::uint8_t>(b.hatch)};
  for (std::size_t i = 0; i < 7; ++i) rows[7 - i] = b.extra[i];
  return monochrome(rows, colour(f.fore), colour(f.back), origin);
}

void Orders::fill(const Rect& to, unsigned rop, const Pattern& pattern, Region& damage) {
  copy(to, rop, pattern, nullptr, {}, damage);
}
void Orders::copy(const Rect& to, unsigned rop, const Pattern& pattern, const Framebuffer* from, Point at,
                  Region& damage) {
  const Rect shown = to.intersected(clip_);
  if (shown.empty()) return;
  blit(*picture_, to, clip_, rop, pattern, from, at);
  damage.add(shown);
}

void Orders::draw(const Fields& f, Region& damage) {
  const Rect to{f.a[0], f.a[1], f.a[2], f.a[3]};
  const Point from{f.from[0], f.from[1]};
  Pattern solid;
  switch (type_) {
    case kDstBlt: return fill(to, f.rop, solid, damage);
    case kPatBlt: return fill(to, f.rop, patternOf(f), damage);
    case kScrBlt: return copy(to, f.rop, solid, picture_.get(), from, damage);
    case kOpaqueRect:
      solid.colour =
          colour(f.rgb[0] | static_cast<unsigned>(f.rgb[1]) << 8 | static_cast<unsigned>(f.rgb[2]) << 16);
      return fill(to, 0xf0, solid, damage);
    case kMultiOpaqueRect: return fillMany(f, damage);
    case kMemBlt:
    case kMem3Blt: {
      const Framebuffer* bitmap = caches_.bitmap(f.cache & 0xff, f.index);
      if (bitmap == nullptr) protocolBroken(kWhat, "shows a bitmap that was not kept");
      return copy(to, f.rop, type_ == kMem3Blt ? patternOf(f) : solid, bitmap, from, damage);
    }
    case kLineTo: {
      const Point a{f.a[0], f.a[1]}, b{f.a[2], f.a[3]};
      line(*picture_, a, b, clip_, f.rop, colour(f.fore));
      const Rect box{std::min(a.x, b.x), std::min(a.y, b.y), std::abs(a.x - b.x) + 1,
                     std::abs(a.y - b.y) + 1};
      if (!box.intersected(clip_).empty()) damage.add(box.intersected(clip_));
      return;
    }
    case kPolyline: return polyline(f, damage);
    default: return text(f, damage);
  }
}

/// 2.2.2.2.1.1.1.5: two bits an entry say which of x and y stand in the list; each is one byte or two.
std::vector<Point> Orders::deltas(const Fields& f, unsigned perEntry) const {
  const std::size_t count = static_cast<std::size_t>(f.entries) * perEntry;
  LittleReader in(f.list, kWhat);
  const ByteView zeros = in.bytes((count * 2 + 7) / 8);
  const auto one = [&in]() -> int {
    const unsigned first = in.u8();
    const int low = static_cast<int>((first & 0x40) != 0 ? (first & 0x7f) | ~0x7fU : first & 0x3f);
    return (first & 0x80) != 0 ? static_cast<int>(static_cast<unsigned>(low) << 8) | in.u8() : low;
  };
  std::vector<Point> out(count);
  for (std::size_t i = 0; i < count; ++i) {
    const unsigned bits = zeros[i / 4] << (i % 4 * 2);
    if ((bits & 0x80) == 0) out[i].x = one();
    if ((bits & 0x40) == 0) out[i].y = one();
  }
  return out;
}

/// 2.2.2.2.1.1.2.6
void Orders::fillMany(const Fields& f, Region& damage) {
  Pattern solid;
  solid.colour =
      colour(f.rgb[0] | static_cast<unsigned>(f.rgb[1]) << 8 | static_cast<unsigned>(f.rgb[2]) << 16);
  const std::vector<Point> list = deltas(f, 2);  // a corner, and a size
  Point at;
  for (std::size_t i = 0; i + 1 < list.size(); i += 2) {
    at = {std::clamp(at.x + list[i].x, -65536, 65536), std::clamp(at.y + list[i].y, -65536, 65536)};
    fill({at.x, at.y, list[i + 1].x, list[i + 1].y}, 0xf0, solid, damage);
  }
}

/// 2.2.2.2.1.1.2.18
void Orders::polyline(const Fields& f, Region& damage) {
  Point at{f.a[0], f.a[1]};
  Rect box{at.x, at.y, 1, 1};
  for (const Point& step : deltas(f, 1)) {
    const Point next{std::clamp(at.x + step.x, -65536, 65536), std::clamp(at.y + step.y, -65536, 65536)};
    line(*picture_, at, next, clip_, f.rop, colour(f.fore));
    at = next;
    box = box.united({at.x, at.y, 1, 1});
  }
  if (!box.intersected(clip_).empty()) damage.add(box.intersected(clip_));
}

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
  const Rect shown = box.intersected(clip_).intersected(picture_->rect());
  if (shown.empty()) return;
  const std::size_t row = static_cast<std::size_t>(g.size.width + 7) / 8;
  for (int y = shown.y; y < shown.bottom(); ++y)
    for (int x = shown.x; x < shown.right(); ++x) {
      const int column = x - box.x;
      const Byte bits =
          g.rows[static_cast<std::size_t>(y - box.y) * row + static_cast<std::size_t>(column / 8)];
      if ((bits << (column % 8) & 0x80) != 0) *picture_->at(x, y) = ink;
    }
  damage.add(shown);
}

}  // namespace kw::rdp
