#include "rdp/surface_commands.hpp"

#include "rdp/codec/nscodec.hpp"

namespace kw::rdp {

namespace {
constexpr const char* kWhat = "surface command";
constexpr unsigned kSetBits = 1, kFrameMarker = 4, kStreamBits = 6;  // 2.2.9.1.2.1.10.1 cmdType
constexpr unsigned kFrameBegin = 0, kFrameEnd = 1;
constexpr unsigned kLongHeader = 1;
}  // namespace

Region SurfaceCommands::take(ByteView commands) {
  LittleReader in(commands, kWhat);
  Region damage;
  while (!in.atEnd()) {
    const unsigned kind = in.u16();
    if (kind == kSetBits || kind == kStreamBits) {
      bits(in, damage);
    } else if (kind == kFrameMarker) {
      const unsigned action = in.u16();
      const std::uint32_t frame = in.u32();
      if (action == kFrameEnd) frameEnded_(frame);
    } else {
      protocolBroken(kWhat, "of an unknown kind");
    }
  }
  return damage;
}

/// 2.2.9.2.1, 2.2.9.2.1.1
void SurfaceCommands::bits(LittleReader& in, Region& damage) {
  const int left = in.u16(), top = in.u16();
  in.skip(4);  // right and bottom: what the picture's own size says too
  const unsigned bitsPerPixel = in.u8(), flags = in.u8();
  in.skip(1);
  const unsigned codec = in.u8();
  const int width = in.u16();
  const Rect to{left, top, width, in.u16()};
  const std::size_t length = in.u32();
  if ((flags & kLongHeader) != 0) in.skip(24);
  const ByteView data = in.bytes(length);
  if (!to.empty()) draw(codec, bitsPerPixel, to, data, damage);
}

void SurfaceCommands::draw(unsigned codec, unsigned bitsPerPixel, const Rect& to, ByteView data,
                           Region& damage) {
  if (codec == kRemoteFxId) {
    ++forms_["RemoteFX"];
    const auto lock = picture_->lock();
    damage.add(remoteFx_.decode(data, *picture_, {to.x, to.y}));
    return;
  }
  const Rect shown = to.intersected(picture_->rect());
  if (to.size().area() > kMostPictureArea) protocolBroken(kWhat, "a picture of an impossible size");
  bool bottomFirst = false;
  if (codec == kNsCodecId) {
    ++forms_["NSCodec"];
    decodeNsCodec(data, to.size(), pixels_);
    bottomFirst = true;  // unlike inside of ClearCodec
  } else if (codec == 0 && bitsPerPixel == 32) {
    ++forms_["raw"];
    if (data.size() < static_cast<std::size_t>(to.area()) * 4)
      protocolBroken(kWhat, "fewer pixels than its place");
    pixels_.resize(static_cast<std::size_t>(to.area()));
    copyOpaque(data.data(), pixels_.data(), pixels_.size());
    bottomFirst = true;
  } else {
    protocolBroken(kWhat, "a picture in a codec that was not offered");
  }
  const auto lock = picture_->lock();
  for (int y = shown.y; y < shown.bottom(); ++y) {
    const int row = bottomFirst ? to.bottom() - 1 - y : y - to.y;
    std::copy_n(pixels_.data() + static_cast<std::ptrdiff_t>(row) * to.width + (shown.x - to.x), shown.width,
                picture_->at(shown.x, y));
  }
  if (!shown.empty()) damage.add(shown);
}

Bytes writeSurfaceBits(const Rect& to, unsigned codec, ByteView data, std::uint32_t frame) {
  LittleWriter out;
  out.u16(kFrameMarker).u16(kFrameBegin).u32(frame);
  out.u16(kSetBits);
  for (int v : {to.x, to.y, to.right(), to.bottom()}) out.u16(static_cast<unsigned>(v));
  out.u8(32).u8(0).u8(0).u8(codec);
  out.u16(static_cast<unsigned>(to.width)).u16(static_cast<unsigned>(to.height));
  out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
  out.u16(kFrameMarker).u16(kFrameEnd).u32(frame);
  return out.take();
}

}  // namespace kw::rdp
