#include "rdp/graphics.hpp"

#include <utility>

#include "picture/scale.hpp"
#include "rdp/bitmap_codec.hpp"
#include "rdp/constants.hpp"
#include "rdp/share.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "graphics pipeline";
constexpr std::size_t kMostSurfaces = 256;
constexpr unsigned kMostSlots = 25600;                                // 3.3.1.4
constexpr std::int64_t kMostSurfaceArea = std::int64_t{8192} * 8192;  ///< of all surfaces together
constexpr std::int64_t kMostKeptArea = std::int64_t{100} << 18;       ///< 100 MB of pixels

// 2.2.3 capability versions, and flags of theirs
constexpr std::uint32_t kVersion8 = 0x00080004, kVersion81 = 0x00080105, kVersion10 = 0x000a0002,
                        kVersion102 = 0x000a0200, kVersion103 = 0x000a0301, kVersion104 = 0x000a0400,
                        kVersion105 = 0x000a0502, kVersion106 = 0x000a0600;
constexpr std::uint32_t kAvc420 = 0x10, kAvcDisabled = 0x20;

Rect readRect(LittleReader& in) {  // 2.2.1.2
  const int left = in.u16(), top = in.u16(), right = in.u16(), bottom = in.u16();
  if (right < left || bottom < top) protocolBroken(kWhat, "a rectangle inside out");
  return {left, top, right - left, bottom - top};
}
Point readPoint(LittleReader& in) {
  const int x = in.s16();
  return {x, in.s16()};
}

const char* nameOf(unsigned codec) {
  switch (codec) {
    case graphics::kRaw: return "raw";
    case graphics::kRemoteFx: return "RemoteFX";
    case graphics::kClear: return "ClearCodec";
    case graphics::kProgressive:
    case graphics::kProgressive2: return "progressive";
    case graphics::kPlanar: return "planar";
    case graphics::kAvc420: return "H.264";
    case graphics::kAvc444:
    case graphics::kAvc444v2: return "H.264 4:4:4";
    default: return "other";
  }
}

}  // namespace

Bytes writeGraphics(unsigned command, ByteView body) {
  LittleWriter out;
  out.u16(command).u16(0).u32(static_cast<std::uint32_t>(body.size() + 8)).bytes(body);
  return out.take();
}

Graphics::Graphics(std::shared_ptr<Framebuffer> picture, Events events, Video video)
    : picture_(std::move(picture)), events_(std::move(events)), video_(video) {}

/// 2.2.2.18
void Graphics::opened() {
  struct Offer {
    std::uint32_t version, flags;
  };
  const bool video = video_ != Video::None;
  const std::uint32_t avc = video ? 0 : kAvcDisabled;
  const Offer offers[] = {{kVersion8, 0},     {kVersion81, video ? kAvc420 : 0},
                          {kVersion10, avc},  {kVersion102, avc},
                          {kVersion103, avc}, {kVersion104, avc},
                          {kVersion105, avc}, {kVersion106, avc}};
  LittleWriter out;
  out.u16(static_cast<unsigned>(std::size(offers)));
  for (const Offer& o : offers) out.u32(o.version).u32(4).u32(o.flags);
  events_.send(writeGraphics(graphics::kAdvertise, out.view()));
}

void Graphics::closed() {
  surfaces_.clear();
  kept_.clear();
  keptArea_ = 0;
}

void Graphics::take(ByteView message) {
  LittleReader in(bulk_.open(message), kWhat);
  while (!in.atEnd()) {
    const unsigned which = in.u16();
    in.skip(2);
    const std::uint32_t length = in.u32();
    if (length < 8) protocolBroken(kWhat, "a message of " + std::to_string(length) + " bytes");
    LittleReader body(in.bytes(length - 8), kWhat);
    command(which, body);
  }
}

void Graphics::command(unsigned which, LittleReader& in) {
  switch (which) {
    case graphics::kConfirm: return confirm(in);
    case graphics::kReset: return reset(in);
    case graphics::kCreateSurface: return createSurface(in);
    case graphics::kDeleteSurface: surfaces_.erase(in.u16()); return;
    case graphics::kMapToOutput: return mapSurface(in, false);
    case graphics::kMapToScaled: return mapSurface(in, true);
    case graphics::kWireToSurface1: return wireToSurface1(in);
    case graphics::kWireToSurface2: return wireToSurface2(in);
    case graphics::kDeleteContext: {
      Surface& s = surface(in.u16());
      s.contexts.erase(in.u32());
      return;
    }
    case graphics::kSolidFill: return solidFill(in);
    case graphics::kSurfaceToSurface: return surfaceToSurface(in);
    case graphics::kSurfaceToCache: return surfaceToCache(in);
    case graphics::kCacheToSurface: return cacheToSurface(in);
    case graphics::kEvict: return forget(in.u16());
    case graphics::kStartFrame: inFrame_ = true; return;
    case graphics::kEndFrame: return endFrame(in);
    default: return;  // windows of single programs are not asked for
  }
}

/// 2.2.2.19
void Graphics::confirm(LittleReader& in) {
  const std::uint32_t version = in.u32();
  if (version < kVersion8) protocolBroken(kWhat, "a version that was not offered");
}

/// 2.2.2.14
void Graphics::reset(LittleReader& in) {
  const std::uint32_t width = in.u32(), height = in.u32();
  if (width > kMostPictureSide || height > kMostPictureSide)
    protocolBroken(kWhat, "a desktop of an impossible size");
  const Size size{static_cast<int>(width), static_cast<int>(height)};
  if (!pictureSizeAllowed(size)) protocolBroken(kWhat, "a desktop of an impossible size");
  std::vector<Rect> monitors = readMonitors(in, in.u32());
  if (size != picture_->size()) {
    const auto lock = picture_->lock();
    picture_->resize(size);
  }
  events_.resized(size, std::move(monitors));
}

void Graphics::roomFor(std::int64_t area) {
  for (const auto& [id, s] : surfaces_) area += s.picture.size().area();
  if (area > kMostSurfaceArea || surfaces_.size() >= kMostSurfaces)
    protocolBroken(kWhat, "more surfaces than this program keeps");
}

/// 2.2.2.9
void Graphics::createSurface(LittleReader& in) {
  const unsigned id = in.u16();
  const int width = in.u16();
  const Size size{width, in.u16()};
  if (!pictureSizeAllowed(size)) protocolBroken(kWhat, "a surface of an impossible size");
  surfaces_.erase(id);
  roomFor(size.area());
  surfaces_[id].picture.resize(size);
}

Graphics::Surface& Graphics::surface(unsigned id) {
  const auto found = surfaces_.find(id);
  if (found == surfaces_.end()) protocolBroken(kWhat, "draws on a surface that there is not");
  return found->second;
}

/// 2.2.2.15, 2.2.2.22
void Graphics::mapSurface(LittleReader& in, bool scaled) {
  Surface& s = surface(in.u16());
  in.skip(2);
  const std::uint32_t x = in.u32(), y = in.u32();
  if (x > kMostPictureSide || y > kMostPictureSide) protocolBroken(kWhat, "a surface far off the desktop");
  s.origin = {static_cast<int>(x), static_cast<int>(y)};
  s.scaledTo = {};
  if (scaled) {
    const std::uint32_t width = in.u32(), height = in.u32();
    if (width > kMostPictureSide || height > kMostPictureSide)
      protocolBroken(kWhat, "a surface of an impossible size");
    s.scaledTo = {static_cast<int>(width), static_cast<int>(height)};
    if (s.scaledTo == s.picture.size()) s.scaledTo = {};
  }
  s.shown = true;
  s.damage.add(s.picture.rect());
}

AvcDecoder& Graphics::avcOf(Surface& s) {
  if (!s.avc) s.avc = std::make_unique<AvcDecoder>(video_ == Video::Hardware);
  return *s.avc;
}

/// Asked after a picture, because a processor may not know the stream's profile; once a surface.
void Graphics::tellSoftware(Surface& s) {
  if (video_ != Video::Hardware || s.avc->byHardware() || s.softwareTold) return;
  s.softwareTold = true;
  events_.decodesItself();
}

/// Brings what was decoded aside onto the surface.
void Graphics::putPixels(Surface& s, const Rect& to) {
  if (!s.picture.rect().contains(to)) protocolBroken(kWhat, "draws beyond a surface");
  s.picture.put(to, pixels_.data());
  s.damage.add(to);
}

/// 2.2.2.1
void Graphics::wireToSurface1(LittleReader& in) {
  Surface& s = surface(in.u16());
  const unsigned codec = in.u16();
  in.skip(1);
  const Rect to = readRect(in);
  const std::size_t length = in.u32();
  const ByteView data = in.bytes(length);
  if (to.empty()) return;
  if (!s.picture.rect().contains(to)) protocolBroken(kWhat, "draws beyond a surface");
  ++forms_[nameOf(codec)];
  switch (codec) {
    case graphics::kRaw: {
      const auto area = static_cast<std::size_t>(to.area());
      if (data.size() < area * 4) protocolBroken(kWhat, "fewer pixels than its place");
      pixels_.resize(area);
      copyOpaque(data.data(), pixels_.data(), area);
      return putPixels(s, to);
    }
    case graphics::kPlanar:
      pixels_.resize(static_cast<std::size_t>(to.area()));
      decodePlanar(data, to.width, to.height, pixels_.data(), static_cast<std::size_t>(to.width), false);
      return putPixels(s, to);
    case graphics::kClear: clear_.decode(data, to.size(), pixels_); return putPixels(s, to);
    case graphics::kRemoteFx: s.damage.add(remoteFx_.decode(data, s.picture, {to.x, to.y})); return;
    case graphics::kAvc420:
      s.damage.add(avcOf(s).decode420(data, s.picture, {to.x, to.y}));
      tellSoftware(s);
      return;
    case graphics::kAvc444:
    case graphics::kAvc444v2:
      s.damage.add(avcOf(s).decode444(data,
                                      codec == graphics::kAvc444 ? FullColour::First : FullColour::Second,
                                      s.picture, {to.x, to.y}));
      tellSoftware(s);
      return;
    case graphics::kAlpha: return;  // what shines through matters only for windows of single programs
    default: protocolBroken(kWhat, "a picture in an unknown codec");
  }
}

/// 2.2.2.2
void Graphics::wireToSurface2(LittleReader& in) {
  Surface& s = surface(in.u16());
  const unsigned codec = in.u16();
  const std::uint32_t context = in.u32();
  in.skip(1);
  const std::size_t length = in.u32();
  const ByteView data = in.bytes(length);
  if (codec != graphics::kProgressive && codec != graphics::kProgressive2)
    protocolBroken(kWhat, "a picture in an unknown codec");
  if (s.contexts.size() >= 16 && s.contexts.count(context) == 0)
    protocolBroken(kWhat, "more codec contexts than a surface needs");
  ++forms_[nameOf(codec)];
  s.damage.add(s.contexts[context].decode(data, s.picture));
}

/// 2.2.2.4
void Graphics::solidFill(LittleReader& in) {
  Surface& s = surface(in.u16());
  const Pixel colour = in.u32() | kOpaque;
  const unsigned count = in.u16();
  for (unsigned i = 0; i < count; ++i) {
    const Rect r = readRect(in).intersected(s.picture.rect());
    if (r.empty()) continue;
    s.picture.fill(r, colour);
    s.damage.add(r);
  }
}

/// 2.2.2.5
void Graphics::surfaceToSurface(LittleReader& in) {
  Surface& from = surface(in.u16());
  Surface& to = surface(in.u16());
  const Rect source = readRect(in);
  if (!from.picture.rect().contains(source)) protocolBroken(kWhat, "copies from beyond a surface");
  const unsigned count = in.u16();
  for (unsigned i = 0; i < count; ++i) {
    const Point p = readPoint(in);
    const Rect target = Rect{p.x, p.y, source.width, source.height}.intersected(to.picture.rect());
    if (target.empty()) continue;
    const Point origin{source.x + target.x - p.x, source.y + target.y - p.y};
    if (&from == &to) {
      to.picture.copy(origin, target);
    } else {
      for (int y = 0; y < target.height; ++y)
        std::copy_n(from.picture.at(origin.x, origin.y + y), target.width,
                    to.picture.at(target.x, target.y + y));
    }
    to.damage.add(target);
  }
}

void Graphics::forget(unsigned slot) {
  const auto found = kept_.find(slot);
  if (found == kept_.end()) return;
  keptArea_ -= found->second.size.area();
  kept_.erase(found);
}

/// 2.2.2.6
void Graphics::surfaceToCache(LittleReader& in) {
  const Surface& s = surface(in.u16());
  in.skip(8);
  const unsigned slot = in.u16();
  const Rect r = readRect(in);
  if (!s.picture.rect().contains(r)) protocolBroken(kWhat, "keeps what lies beyond a surface");
  if (slot == 0 || slot > kMostSlots) protocolBroken(kWhat, "a place to keep pictures that there is not");
  forget(slot);
  keptArea_ += r.area();
  if (keptArea_ > kMostKeptArea) protocolBroken(kWhat, "keeps more pictures than was agreed");
  Kept& k = kept_[slot];
  k.size = r.size();
  k.pixels.reserve(static_cast<std::size_t>(r.area()));
  for (int y = r.y; y < r.bottom(); ++y)
    k.pixels.insert(k.pixels.end(), s.picture.row(y) + r.x, s.picture.row(y) + r.right());
}

/// 2.2.2.7
void Graphics::cacheToSurface(LittleReader& in) {
  const auto found = kept_.find(in.u16());
  Surface& s = surface(in.u16());
  if (found == kept_.end()) protocolBroken(kWhat, "shows a picture that was not kept");
  const Kept& k = found->second;
  const unsigned count = in.u16();
  for (unsigned i = 0; i < count; ++i) {
    const Point p = readPoint(in);
    const Rect target = Rect{p.x, p.y, k.size.width, k.size.height}.intersected(s.picture.rect());
    for (int y = target.y; y < target.bottom(); ++y)
      std::copy_n(k.pixels.data() + static_cast<std::ptrdiff_t>(y - p.y) * k.size.width + (target.x - p.x),
                  target.width, s.picture.at(target.x, y));
    if (!target.empty()) s.damage.add(target);
  }
}

/// 2.2.2.12: the frame is shown whole, and told of.
void Graphics::endFrame(LittleReader& in) {
  const std::uint32_t frame = in.u32();
  inFrame_ = false;
  ++frames_;
  Region shown;
  for (auto& [id, s] : surfaces_) present(s, shown);
  LittleWriter out;
  out.u32(0).u32(frame).u32(++decoded_);  // 2.2.2.13: nothing waits to be decoded here
  events_.send(writeGraphics(graphics::kAcknowledge, out.view()));
  if (!shown.empty()) events_.damaged(shown);
}

void Graphics::present(Surface& s, Region& shown) {
  if (!s.shown || s.damage.empty()) return;
  const Region damage = std::exchange(s.damage, {});
  const auto lock = picture_->lock();
  if (!s.scaledTo.empty()) {
    const Rect all = Rect{s.origin.x, s.origin.y, s.scaledTo.width, s.scaledTo.height};
    const Rect part = all.intersected(picture_->rect());
    if (part.empty()) return;
    Scaler(s.picture.rect(), s.scaledTo)
        .scale(s.picture, {0, 0, part.width, part.height}, picture_->at(part.x, part.y), picture_->stride());
    shown.add(part);
    return;
  }
  for (const Rect& r : damage.rects()) {
    const Rect to = r.moved(s.origin.x, s.origin.y).intersected(picture_->rect());
    for (int y = to.y; y < to.bottom(); ++y)
      std::copy_n(s.picture.at(to.x - s.origin.x, y - s.origin.y), to.width, picture_->at(to.x, y));
    if (!to.empty()) shown.add(to);
  }
}

}  // namespace kw::rdp
