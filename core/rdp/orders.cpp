#include "rdp/orders.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "drawing order";
// 2.2.2.2.1 controlFlags
constexpr unsigned kStandard = 0x01, kSecondary = 0x02, kBounds = 0x04, kTypeChange = 0x08, kDeltas = 0x10,
                   kZeroBounds = 0x20, kZeroField0 = 0x40, kZeroField1 = 0x80;
// 2.2.2.2.1.1.2 orderType
constexpr unsigned kDstBlt = 0x00, kPatBlt = 0x01, kScrBlt = 0x02, kNineGrid = 0x07, kMultiNineGrid = 0x08,
                   kLineTo = 0x09, kOpaqueRect = 0x0a, kSaveBitmap = 0x0b, kMemBlt = 0x0d, kMem3Blt = 0x0e,
                   kMultiDstBlt = 0x0f, kMultiPatBlt = 0x10, kMultiScrBlt = 0x11, kMultiOpaqueRect = 0x12,
                   kFastIndex = 0x13, kPolygonSolid = 0x14, kPolygonBrush = 0x15, kPolyline = 0x16,
                   kEllipseSolid = 0x19, kEllipseBrush = 0x1a, kGlyphIndex = 0x1b;
// 2.2.2.2.1.3.1 orderType
constexpr unsigned kSwitchSurface = 0x00, kCreateSurface = 0x01, kStreamFirst = 0x02, kStreamNext = 0x03,
                   kCreateNineGrid = 0x04, kFrame = 0x0d;
constexpr unsigned kFromSurface = 0xff;  // 2.2.2.2.1.1.2.9 cacheId: the index names a surface

/// How many bytes of field flags each order has; 0: one that was not offered.
unsigned flagBytes(unsigned type) {
  switch (type) {
    case kDstBlt:
    case kScrBlt:
    case kOpaqueRect:
    case kSaveBitmap:
    case kNineGrid:
    case kMultiNineGrid:
    case kPolygonSolid:
    case kEllipseSolid:
    case kMultiDstBlt:
    case kPolyline: return 1;
    case kPatBlt:
    case kLineTo:
    case kMemBlt:
    case kMultiPatBlt:
    case kMultiScrBlt:
    case kMultiOpaqueRect:
    case kPolygonBrush:
    case kEllipseBrush:
    case kFastIndex: return 2;
    case kMem3Blt:
    case kGlyphIndex: return 3;
    default: return 0;
  }
}

}  // namespace

std::array<std::uint8_t, 32> orderSupport() {
  std::array<std::uint8_t, 32> out{};
  // Indices of their own (2.2.7.1.3), equal to the order's number but for lines, the bitmaps and many
  // nine-grids.
  for (unsigned index : {0x00, 0x01, 0x02, 0x03, 0x04, 0x07, 0x08, 0x09, 0x0b, 0x0f,
                         0x10, 0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x19, 0x1a, 0x1b})
    out[index] = 1;
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
  void four(std::uint32_t& v) {
    if (next()) v = in_.u32();
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
  surfaces_.clear();
  nineGrids_.clear();
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
  switch (flags >> 2) {
    case kSwitchSurface: return surfaces_.switchTo(in.u16());
    case kCreateSurface: return surfaces_.create(in);
    case kStreamFirst: return nineGrids_.streamFirst(in);
    case kStreamNext: return nineGrids_.streamNext(in);
    case kCreateNineGrid: return nineGrids_.create(in);
    case kFrame: return in.skip(4);
    default: protocolBroken(kWhat, "of a kind that was not offered");
  }
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
  bounds_ = target().rect();
  if ((flags & kBounds) != 0) {
    if ((flags & kZeroBounds) == 0) bounds(in);
    bounds_ = {edge_[0], edge_[1], edge_[2] - edge_[0] + 1, edge_[3] - edge_[1] + 1};
  }
  clip_ = bounds_.intersected(target().rect());
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
    case kSaveBitmap: in.four(f.position), place(f.a), in.byte(f.accel); return;
    case kNineGrid: place(f.a), in.word(f.index); return;
    case kMultiNineGrid: place(f.a), in.word(f.index), in.byte(f.entries), in.list(f.list, true); return;
    case kMultiDstBlt: place(f.a), in.byte(f.rop), in.byte(f.entries), in.list(f.list, true); return;
    case kMultiPatBlt:
      place(f.a), in.byte(f.rop), in.colour(f.back), in.colour(f.fore), readBrush(in, f.brush);
      in.byte(f.entries), in.list(f.list, true);
      return;
    case kMultiScrBlt:
      place(f.a), in.byte(f.rop), source(), in.byte(f.entries), in.list(f.list, true);
      return;
    case kPolygonSolid:
    case kPolygonBrush:
      in.coordinate(f.a[0]), in.coordinate(f.a[1]), in.byte(f.rop), in.byte(f.fillMode);
      if (type_ == kPolygonBrush) in.colour(f.back);
      in.colour(f.fore);
      if (type_ == kPolygonBrush) readBrush(in, f.brush);
      in.byte(f.entries), in.list(f.list, false);
      return;
    case kEllipseSolid:
    case kEllipseBrush:
      place(f.a), in.byte(f.rop), in.byte(f.fillMode);
      if (type_ == kEllipseBrush) in.colour(f.back);
      in.colour(f.fore);
      if (type_ == kEllipseBrush) readBrush(in, f.brush);
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
  blit(target(), to, clip_, rop, pattern, from, at);
  touched(shown, damage);
}
Framebuffer& Orders::target() {
  Framebuffer* surface = surfaces_.target();
  return surface == nullptr ? *picture_ : *surface;
}
void Orders::touched(const Rect& area, Region& damage) {
  if (!area.empty() && surfaces_.target() == nullptr) damage.add(area);
}

void Orders::draw(const Fields& f, Region& damage) {
  const Rect to{f.a[0], f.a[1], f.a[2], f.a[3]};
  const Point from{f.from[0], f.from[1]};
  Pattern solid;
  switch (type_) {
    case kDstBlt: return fill(to, f.rop, solid, damage);
    case kPatBlt: return fill(to, f.rop, patternOf(f), damage);
    case kScrBlt: return copy(to, f.rop, solid, &target(), from, damage);
    case kOpaqueRect:
      solid.colour =
          colour(f.rgb[0] | static_cast<unsigned>(f.rgb[1]) << 8 | static_cast<unsigned>(f.rgb[2]) << 16);
      return fill(to, 0xf0, solid, damage);
    case kMultiOpaqueRect: return fillMany(f, damage);
    case kMemBlt:
    case kMem3Blt: {
      const Framebuffer* bitmap = (f.cache & 0xff) == kFromSurface ? &surfaces_.surface(f.index)
                                                                   : caches_.bitmap(f.cache & 0xff, f.index);
      if (bitmap == nullptr) protocolBroken(kWhat, "shows a bitmap that was not kept");
      return copy(to, f.rop, type_ == kMem3Blt ? patternOf(f) : solid, bitmap, from, damage);
    }
    case kLineTo: {
      const Point a{f.a[0], f.a[1]}, b{f.a[2], f.a[3]};
      line(target(), a, b, clip_, f.rop, colour(f.fore));
      const Rect box{std::min(a.x, b.x), std::min(a.y, b.y), std::abs(a.x - b.x) + 1,
                     std::abs(a.y - b.y) + 1};
      return touched(box.intersected(clip_), damage);
    }
    case kSaveBitmap: return saveOrRestore(f, damage);
    case kNineGrid:
    case kMultiNineGrid: return nineGrid(f, damage);
    case kMultiDstBlt: return many(f, f.rop, solid, false, damage);
    case kMultiPatBlt: return many(f, f.rop, patternOf(f), false, damage);
    case kMultiScrBlt: return many(f, f.rop, solid, true, damage);
    case kPolygonSolid:
    case kPolygonBrush: return polygon(f, damage);
    case kEllipseSolid:
    case kEllipseBrush: return ellipse(f, damage);
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
  many(f, 0xf0, solid, false, damage);
}

/// 2.2.2.2.1.1.2.2, .4, .6, .8: one operation, in many rectangles. Copies keep their distance to the source.
void Orders::many(const Fields& f, unsigned rop, const Pattern& pattern, bool copies, Region& damage) {
  for (const Rect& to : rectangles(f)) {
    const Point from{f.from[0] + to.x - f.a[0], f.from[1] + to.y - f.a[1]};
    copy(to, rop, pattern, copies ? &target() : nullptr, from, damage);
  }
}

/// 2.2.2.2.1.1.1.5: a corner, as its distance to the one before, and a size.
std::vector<Rect> Orders::rectangles(const Fields& f) const {
  const std::vector<Point> list = deltas(f, 2);
  std::vector<Rect> out;
  Point at;
  for (std::size_t i = 0; i + 1 < list.size(); i += 2) {
    at = {std::clamp(at.x + list[i].x, -65536, 65536), std::clamp(at.y + list[i].y, -65536, 65536)};
    out.push_back({at.x, at.y, list[i + 1].x, list[i + 1].y});
  }
  return out;
}

/// 2.2.2.2.1.1.2.20, 2.2.2.2.1.1.2.21: as large as the order's bounds; of many, only what the rectangles
/// show.
void Orders::nineGrid(const Fields& f, Region& damage) {
  const NineGrid& grid = nineGrids_.at(f.index);
  const Rect source{f.a[0], f.a[1], f.a[2] - f.a[0], f.a[3] - f.a[1]};
  std::vector<Rect> parts{clip_};
  if (type_ == kMultiNineGrid) parts = rectangles(f);
  for (const Rect& part : parts) {
    const Rect shown = part.intersected(clip_);
    grid.draw(target(), bounds_, shown, source);
    touched(shown, damage);
  }
}

/// 2.2.2.2.1.1.2.12; the right and lower edge belong to it.
void Orders::saveOrRestore(const Fields& f, Region& damage) {
  const Rect area{f.a[0], f.a[1], f.a[2] - f.a[0] + 1, f.a[3] - f.a[1] + 1};
  if (f.accel == 0) return surfaces_.save(f.position, target(), area);
  if (const Framebuffer* kept = surfaces_.saved(f.position)) copy(area, 0xcc, {}, kept, {}, damage);
}

void Orders::fillSpans(const std::vector<Span>& spans, const Fields& f, const Pattern& pattern,
                       Region& damage) {
  Rect box;
  for (const Span& s : spans) {
    Pixel* row = target().row(s.y);
    for (int x = s.left; x < s.right; ++x) row[x] = rop2(f.rop, pattern.at(x, s.y), row[x]) | kOpaque;
    box = box.united({s.left, s.y, s.right - s.left, 1});
  }
  touched(box, damage);
}

/// 2.2.2.2.1.1.2.16, 2.2.2.2.1.1.2.17
void Orders::polygon(const Fields& f, Region& damage) {
  constexpr unsigned kWinding = 2;
  std::vector<Point> corners{{f.a[0], f.a[1]}};
  for (const Point& step : deltas(f, 1))
    corners.push_back({std::clamp(corners.back().x + step.x, -65536, 65536),
                       std::clamp(corners.back().y + step.y, -65536, 65536)});
  const Rect room = clip_.intersected(target().rect());
  fillSpans(polygonSpans(corners, f.fillMode == kWinding, room), f, shapePattern(f), damage);
}

/// 2.2.2.2.1.1.2.19, 2.2.2.2.1.1.2.20; without a fill mode only its edge is drawn.
void Orders::ellipse(const Fields& f, Region& damage) {
  const Rect box{f.a[0], f.a[1], f.a[2] - f.a[0] + 1, f.a[3] - f.a[1] + 1};
  const Rect room = clip_.intersected(target().rect());
  fillSpans(ellipseSpans(box, f.fillMode != 0, room), f, shapePattern(f), damage);
}

Pattern Orders::shapePattern(const Fields& f) const {
  if (type_ == kPolygonBrush || type_ == kEllipseBrush) return patternOf(f);
  Pattern solid;
  solid.colour = colour(f.fore);
  return solid;
}

/// 2.2.2.2.1.1.2.18
void Orders::polyline(const Fields& f, Region& damage) {
  Point at{f.a[0], f.a[1]};
  Rect box{at.x, at.y, 1, 1};
  for (const Point& step : deltas(f, 1)) {
    const Point next{std::clamp(at.x + step.x, -65536, 65536), std::clamp(at.y + step.y, -65536, 65536)};
    line(target(), at, next, clip_, f.rop, colour(f.fore));
    at = next;
    box = box.united({at.x, at.y, 1, 1});
  }
  touched(box.intersected(clip_), damage);
}

}  // namespace kw::rdp
