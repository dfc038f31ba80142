#include "spice/display.hpp"

#include <algorithm>
#include <utility>

namespace kw::spice {

namespace {
constexpr const char* kWhat = "SPICE display message";
}  // namespace

Bytes Display::initMessage(unsigned channelId) {
  LittleWriter out;
  out.u8(channelId + 1).u64(kMostCachePixels).u8(channelId + 1).u32(kMostWindowPixels);
  return out.take();
}

bool Display::sizeAllowed(std::uint32_t w, std::uint32_t h) {
  return w <= 16384 && h <= 16384 && std::size_t{w} * h <= kMostSurfacePixels;
}

std::uint32_t Display::capabilities() {
  return 1U << cap::kSizedStream | 1U << cap::kMonitorsConfig | 1U << cap::kComposite |
         1U << cap::kA8Surface | 1U << cap::kLz4 | 1U << cap::kPreferredCompression | 1U << cap::kMultiCodec |
         1U << cap::kCodecMjpeg;
}

const Surface* Display::primary() const {
  const auto found = surfaces_.find(0);
  return found == surfaces_.end() ? nullptr : &found->second;
}

Surface& Display::surfaceOf(std::uint32_t id) {
  const auto found = surfaces_.find(id);
  if (found == surfaces_.end())
    protocolBroken(kWhat, "names surface " + std::to_string(id) + ", which does not exist");
  return found->second;
}

void Display::take(unsigned type, ByteView body) {
  LittleReader in(body, kWhat);
  message_ = body;
  if ((type >= msg::kDrawFill && type <= msg::kDrawAlphaBlend) || type == msg::kDrawComposite) {
    ++commands_;
    return draw(type, body);
  }
  switch (type) {
    case msg::kMode: {  // of hosts that know no surfaces yet
      LittleWriter create;
      create.u32(0).u32(in.u32()).u32(in.u32()).u32(32).u32(1);
      const Bytes message = create.take();
      LittleReader again(message, kWhat);
      return createSurface(again);
    }
    case msg::kMark: return events_.primaryWhole();
    case msg::kReset:
      surfaces_.clear();
      surfacePixels_ = 0;
      cache_.clear();
      cachePixels_ = 0;
      palettes_.clear();
      window_.clear();
      streams_.clear();
      return events_.primaryResized();
    case msg::kCopyBits: {
      const Base base = readBase(in);
      copyBits(*base.surface, base.target, readPoint(in));
      ++commands_;
      return touched(base);
    }
    case msg::kInvalList:
      for (unsigned n = in.u16(); n > 0; --n) {
        in.u8();
        if (const auto found = cache_.find(in.u64()); found != cache_.end()) {
          cachePixels_ -= found->second->pixels.size();
          cache_.erase(found);
        }
      }
      return;
    case msg::kInvalAllPixmaps:
      cache_.clear();
      cachePixels_ = 0;
      return;
    case msg::kInvalPalette: palettes_.erase(in.u64()); return;
    case msg::kInvalAllPalettes: palettes_.clear(); return;
    case msg::kSurfaceCreate: return createSurface(in);
    case msg::kSurfaceDestroy: {
      const std::uint32_t id = in.u32();
      if (const auto found = surfaces_.find(id); found != surfaces_.end()) {
        surfacePixels_ -= found->second.pixels.size();
        surfaces_.erase(found);
      }
      if (id == 0) {
        streams_.clear();
        events_.primaryResized();
      }
      return;
    }
    case msg::kMonitorsConfig: return monitors(in);
    case msg::kStreamCreate: return createStream(in);
    case msg::kStreamData: return streamData(in, false);
    case msg::kStreamDataSized: return streamData(in, true);
    case msg::kStreamClip: {
      const auto found = streams_.find(in.u32());
      if (found == streams_.end()) return;
      found->second.clip.clear();
      found->second.clipped = in.u8() == 1;
      if (!found->second.clipped) return;
      const std::uint32_t count = in.u32();
      if (count > kMostRects) protocolBroken(kWhat, "a clip of " + std::to_string(count) + " rectangles");
      for (std::uint32_t i = 0; i < count; ++i) found->second.clip.push_back(readRect(in));
      return;
    }
    case msg::kStreamDestroy: streams_.erase(in.u32()); return;
    case msg::kStreamDestroyAll: streams_.clear(); return;
    default: return;
  }
}

void Display::createSurface(LittleReader& in) {
  const std::uint32_t id = in.u32(), width = in.u32(), height = in.u32(), format = in.u32();
  if (!sizeAllowed(width, height) || surfaces_.size() >= kMostSurfaces)
    protocolBroken(kWhat, "a surface of " + std::to_string(width) + " by " + std::to_string(height));
  const std::size_t pixels = std::size_t{width} * height;
  if (const auto old = surfaces_.find(id); old != surfaces_.end())
    surfacePixels_ -= old->second.pixels.size();
  if (surfacePixels_ + pixels > kMostSurfacePixels)
    protocolBroken(kWhat, "more surfaces than there is room for");
  surfacePixels_ += pixels;
  const bool alpha = format == 96 || format == 8 || format == 1;
  surfaces_[id] = {{static_cast<int>(width), static_cast<int>(height)},
                   std::vector<Pixel>(pixels, alpha ? 0 : kOpaque),
                   alpha};
  if (id == 0) events_.primaryResized();
}

void Display::monitors(LittleReader& in) {
  const unsigned count = in.u16();
  mostHeads_ = std::min<std::uint32_t>(in.u16(), 16);
  std::vector<Head> heads;
  for (unsigned i = 0; i < count; ++i) {
    Head head;
    head.id = in.u32();
    const std::uint32_t surface = in.u32();
    head.area.width = static_cast<int>(in.u32() & 0xffff);
    head.area.height = static_cast<int>(in.u32() & 0xffff);
    head.area.x = static_cast<int>(in.u32() & 0xffff);
    head.area.y = static_cast<int>(in.u32() & 0xffff);
    in.u32();
    if (surface == 0 && !head.area.empty() && heads.size() < 16) heads.push_back(head);
  }
  heads_ = std::move(heads);
  events_.headsChanged();
}

/// No place lies so far away that sums of a few could overflow.
Point Display::readPoint(LittleReader& in) {
  const int x = in.s32(), y = in.s32();
  constexpr int most = 1 << 28;
  if (x > most || x < -most || y > most || y < -most) protocolBroken(kWhat, "a point far outside");
  return {x, y};
}

Rect Display::readRect(LittleReader& in) {
  const std::int64_t top = in.s32(), left = in.s32(), bottom = in.s32(), right = in.s32();
  constexpr std::int64_t most = 1 << 24;
  if (std::abs(top) > most || std::abs(left) > most || std::abs(bottom) > most || std::abs(right) > most)
    protocolBroken(kWhat, "a rectangle far outside");
  return {static_cast<int>(left), static_cast<int>(top),
          static_cast<int>(std::max<std::int64_t>(0, right - left)),
          static_cast<int>(std::max<std::int64_t>(0, bottom - top))};
}

void Display::readClip(LittleReader& in, const Rect& box, std::vector<Rect>& parts) const {
  if (in.u8() != 1) {
    parts = {box};
    return;
  }
  const std::uint32_t count = in.u32();
  if (count > kMostRects) protocolBroken(kWhat, "a clip of " + std::to_string(count) + " rectangles");
  for (std::uint32_t i = 0; i < count; ++i)
    if (const Rect r = readRect(in).intersected(box); !r.empty()) parts.push_back(r);
}

Display::Base Display::readBase(LittleReader& in) {
  Base base;
  base.surfaceId = in.u32();
  base.surface = &surfaceOf(base.surfaceId);
  base.target.box = readRect(in);
  readClip(in, base.target.box, base.target.parts);
  return base;
}

void Display::touched(const Base& base) {
  if (base.surfaceId != 0) return;
  Region damage;
  for (const Rect& part : base.target.parts) damage.add(part.intersected(base.surface->rect()));
  if (!damage.empty()) events_.primaryDamaged(damage);
}

Brush Display::readBrush(LittleReader& in) {
  Brush brush;
  const unsigned kind = in.u8();
  if (kind == 1) {
    brush.kind = Brush::Kind::Solid;
    brush.colour = in.u32() | kOpaque;
  } else if (kind == 2) {
    brush.kind = Brush::Kind::Pattern;
    brush.pattern = imageAt(message_, in.u32());
    brush.origin = readPoint(in);
  }
  return brush;
}

Mask Display::readMask(LittleReader& in) {
  Mask mask;
  mask.inverted = (in.u8() & 1) != 0;
  mask.at = readPoint(in);
  mask.bits = imageAt(message_, in.u32());
  return mask;
}

void Display::draw(unsigned type, ByteView body) {
  LittleReader in(body, kWhat);
  const Base base = readBase(in);
  Surface& s = *base.surface;
  const auto image = [&] {
    ImagePtr found = imageAt(body, in.u32());
    if (!found) protocolBroken(kWhat, "its image is missing");
    return found;
  };
  switch (type) {
    case msg::kDrawFill: {
      const Brush brush = readBrush(in);
      const unsigned rop = in.u16();
      if (brush.kind != Brush::Kind::None) fill(s, base.target, brush, rop, readMask(in));
      break;
    }
    case msg::kDrawOpaque: {
      const ImagePtr source = image();
      const Rect area = readRect(in);
      const Brush brush = readBrush(in);
      const unsigned rop = in.u16();
      in.u8();
      opaque(s, base.target, *source, area, brush, rop, readMask(in));
      break;
    }
    case msg::kDrawCopy:
    case msg::kDrawBlend: {
      const ImagePtr source = image();
      const Rect area = readRect(in);
      const unsigned rop = in.u16();
      in.u8();
      copyImage(s, base.target, *source, area, rop, readMask(in));
      break;
    }
    case msg::kDrawBlackness:
    case msg::kDrawWhiteness:
    case msg::kDrawInvers: {
      const unsigned rop = type == msg::kDrawBlackness   ? ropd::kBlackness
                           : type == msg::kDrawWhiteness ? ropd::kWhiteness
                                                         : ropd::kInvers;
      Brush brush;
      brush.kind = Brush::Kind::Solid;
      fill(s, base.target, brush, rop, readMask(in));
      break;
    }
    case msg::kDrawRop3: {
      const ImagePtr source = image();
      const Rect area = readRect(in);
      const Brush brush = readBrush(in);
      const unsigned code = in.u8();
      in.u8();
      rop3(s, base.target, *source, area, brush, code, readMask(in));
      break;
    }
    case msg::kDrawTransparent: {
      const ImagePtr source = image();
      const Rect area = readRect(in);
      in.u32();
      transparent(s, base.target, *source, area, in.u32());
      break;
    }
    case msg::kDrawAlphaBlend: {
      in.u8();
      const unsigned alpha = in.u8();
      const ImagePtr source = image();
      alphaBlend(s, base.target, *source, readRect(in), alpha);
      break;
    }
    case msg::kDrawText: drawText(in, base, body); break;
    case msg::kDrawStroke: drawStroke(in, base, body); break;
    case msg::kDrawComposite: drawComposite(in, base, body); break;
    default: break;
  }
  touched(base);
}

void Display::drawText(LittleReader& in, const Base& base, ByteView body) {
  const std::uint32_t at = in.u32();
  const Rect back = readRect(in);
  const Brush fore = readBrush(in), ground = readBrush(in);
  const unsigned foreRop = in.u16(), backRop = in.u16();
  (void)foreRop;
  if (!back.empty() && ground.kind != Brush::Kind::None) {
    Target behind = base.target;
    behind.box = behind.box.intersected(back);
    fill(*base.surface, behind, ground, backRop, {});
  }
  if (at == 0 || at >= body.size()) protocolBroken(kWhat, "its text is missing");
  LittleReader text(body.subspan(at), kWhat);
  const unsigned count = text.u16(), flags = text.u8();
  const unsigned bits = (flags & 1) != 0 ? 1 : (flags & 2) != 0 ? 4 : 8;
  for (unsigned i = 0; i < count; ++i) {
    const Point place = readPoint(text), origin = readPoint(text);
    const Point where{place.x + origin.x, place.y + origin.y};
    const Size size{text.u16(), text.u16()};
    const std::size_t row = (static_cast<std::size_t>(size.width) * bits + 7) / 8;
    const ByteView data = text.bytes(row * static_cast<std::size_t>(size.height));
    Bytes coverage(static_cast<std::size_t>(size.area()));
    for (int y = 0; y < size.height; ++y) {
      // Glyphs come bottom row first unless they say otherwise.
      const int from = (flags & 8) != 0 ? y : size.height - 1 - y;
      const Byte* bytes = data.data() + static_cast<std::size_t>(from) * row;
      for (int x = 0; x < size.width; ++x) {
        const std::size_t n = static_cast<std::size_t>(x);
        Byte& out = coverage[static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) + n];
        if (bits == 1) out = (bytes[n / 8] >> (7 - n % 8) & 1) != 0 ? 255 : 0;
        if (bits == 4) out = static_cast<Byte>((bytes[n / 2] >> (n % 2 == 0 ? 4 : 0) & 0xf) * 17);
        if (bits == 8) out = bytes[n];
      }
    }
    glyph(*base.surface, base.target, fore, where, size, coverage);
  }
}

/// Flags, and for a dashed line how many lengths and where they are: 28.4 fixed point each.
Dashes Display::readDashes(LittleReader& in, ByteView body) const {
  constexpr unsigned kGapFirst = 4, kStyled = 8;
  const unsigned flags = in.u8();
  if ((flags & kStyled) == 0) return {};
  const unsigned count = in.u8();
  const std::uint32_t at = in.u32();
  if (at == 0 || at >= body.size()) protocolBroken(kWhat, "its dashes are missing");
  LittleReader style(body.subspan(at), kWhat);
  std::vector<int> lengths;
  bool any = false;
  for (unsigned i = 0; i < count; ++i) {
    const std::int64_t length = (std::int64_t{style.s32()} + 8) >> 4;
    if (length < 0 || length > 65536) protocolBroken(kWhat, "a dash of an impossible length");
    lengths.push_back(static_cast<int>(length));
    any = any || length > 0;
  }
  if (!any) return {};
  if (lengths.size() % 2 != 0) lengths.insert(lengths.end(), lengths.begin(), lengths.end());
  return {std::move(lengths), (flags & kGapFirst) != 0};
}

Operand Display::readOperand(ByteView body, std::uint32_t image, unsigned filter, unsigned repeat) {
  Operand operand;
  operand.image = imageAt(body, image);
  if (!operand.image) protocolBroken(kWhat, "its image is missing");
  operand.filter = filter, operand.repeat = repeat;
  return operand;
}

void Display::drawComposite(LittleReader& in, const Base& base, ByteView body) {
  const std::uint32_t flags = in.u32();
  const auto has = [flags](unsigned bit) { return (flags >> bit & 1) != 0; };
  constexpr unsigned kComponentAlpha = 18, kMask = 19, kSourceTransform = 20, kMaskTransform = 21,
                     kSourceOpaque = 22, kMaskOpaque = 23;
  Composition c;
  c.op = flags & 0xff;
  c.componentAlpha = has(kComponentAlpha);
  c.source = readOperand(body, in.u32(), flags >> 8 & 7, flags >> 14 & 3);
  if (has(kMask)) c.mask = readOperand(body, in.u32(), flags >> 11 & 7, flags >> 16 & 3);
  const auto transform = [&in](Operand& operand) {
    operand.transform.emplace();
    for (std::int32_t& v : *operand.transform) v = in.s32();
  };
  if (has(kSourceTransform)) transform(c.source);
  if (has(kMaskTransform)) transform(c.mask);
  const auto origin = [&in] {
    const int x = static_cast<std::int16_t>(in.u16());
    return Point{x, static_cast<std::int16_t>(in.u16())};
  };
  c.source.origin = origin();
  c.mask.origin = origin();
  c.source.isOpaque = has(kSourceOpaque), c.mask.isOpaque = has(kMaskOpaque);
  compose(*base.surface, base.target, c);
}

void Display::drawStroke(LittleReader& in, const Base& base, ByteView body) {
  const std::uint32_t at = in.u32();
  Dashes dashes = readDashes(in, body);
  const Brush brush = readBrush(in);
  const unsigned rop = in.u16();
  if (at == 0 || at >= body.size()) protocolBroken(kWhat, "its path is missing");
  LittleReader path(body.subspan(at), kWhat);
  const std::uint32_t segments = path.u32();
  if (segments > kMostRects) protocolBroken(kWhat, "a path of " + std::to_string(segments) + " segments");
  std::optional<Point> pen;
  bool goesOn = false;
  std::uint64_t total = 0;
  Point first;
  for (std::uint32_t i = 0; i < segments; ++i) {
    const unsigned flags = path.u8();
    const std::uint32_t points = path.u32();
    total += points;
    if (total > kMostRects) protocolBroken(kWhat, "a path of " + std::to_string(total) + " points");
    if ((flags & 1) != 0) pen.reset(), goesOn = false;
    for (std::uint32_t n = 0; n < points; ++n) {
      const Point fixed = readPoint(path);  // 28.4 fixed point
      const Point to{(fixed.x + 8) >> 4, (fixed.y + 8) >> 4};
      if (pen)
        line(*base.surface, base.target, *pen, to, brush, rop, dashes, std::exchange(goesOn, true));
      else
        first = to;
      pen = to;
    }
    if ((flags & 8) != 0 && pen)
      line(*base.surface, base.target, *pen, first, brush, rop, dashes, std::exchange(goesOn, true));
  }
}

}  // namespace kw::spice
