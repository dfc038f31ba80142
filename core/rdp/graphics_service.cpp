#include "rdp/graphics_service.hpp"

#include "rdp/bitmap_codec.hpp"
#include "rdp/share.hpp"

namespace kw::rdp {

namespace {

constexpr unsigned kSurface = 1, kContext = 1, kOpaquePixels = 0x20;  // 2.2.1.4 pixel format
constexpr std::size_t kResetSize = 340;                               // 2.2.2.14: always padded to it
constexpr int kBandHeight = 256;  ///< tall areas go in parts, so that no message grows beyond its limit

/// As exact as the codec is: one step of quantisation in every band.
Quant finest() {
  Quant q;
  q.fill(6);
  return q;
}

void putRect(LittleWriter& out, const Rect& r) {
  for (int v : {r.x, r.y, r.right(), r.bottom()}) out.u16(static_cast<unsigned>(v));
}

}  // namespace

void GraphicsService::take(ByteView message) {
  LittleReader in(message, "graphics pipeline");
  while (!in.atEnd()) {
    const unsigned which = in.u16();
    in.skip(2);
    const std::uint32_t length = in.u32();
    if (length < 8) protocolBroken("graphics pipeline", "a message is too short");
    LittleReader body(in.bytes(length - 8), "graphics pipeline");
    if (which == graphics::kAcknowledge) {
      body.skip(4);
      answered_ = std::min(body.u32(), sent_);
    } else if (which == graphics::kAdvertise) {
      LittleWriter confirm;  // the oldest version has all that is used here
      send_(writeGraphics(graphics::kConfirm, confirm.u32(0x00080004).u32(4).u32(0).view()));
      agreed_ = true;
      reset({picture_->rect()});
    }
  }
}

void GraphicsService::reset(const std::vector<Rect>& monitors) {
  if (!agreed_) return;
  const auto width = static_cast<unsigned>(picture_->width()),
             height = static_cast<unsigned>(picture_->height());
  LittleWriter out, surface, map;
  if (begun_) send_(writeGraphics(graphics::kDeleteSurface, LittleWriter().u16(kSurface).view()));
  begun_ = true;
  out.u32(width).u32(height).u32(static_cast<std::uint32_t>(monitors.size()));
  writeMonitors(out, monitors);
  out.zeros(kResetSize - 8 - out.size());
  send_(writeGraphics(graphics::kReset, out.view()));
  surface.u16(kSurface).u16(width).u16(height).u8(kOpaquePixels);
  send_(writeGraphics(graphics::kCreateSurface, surface.view()));
  send_(writeGraphics(graphics::kMapToOutput, map.u16(kSurface).u16(0).u32(0).u32(0).view()));
}

void GraphicsService::frame(const Region& damage) {
  LittleWriter start, end;
  ++sent_;
  send_(writeGraphics(graphics::kStartFrame, start.u32(0).u32(sent_).view()));
  for (const Rect& rect : damage.rects()) {
    const Rect r = rect.intersected(picture_->rect());
    for (int y = r.y; y < r.bottom(); y += kBandHeight)
      part({r.x, y, r.width, std::min(kBandHeight, r.bottom() - y)});
  }
  send_(writeGraphics(graphics::kEndFrame, end.u32(sent_).view()));
}

void GraphicsService::part(const Rect& area) {
  const Bytes data = coded(area);
  LittleWriter out;
  if (form_ == PipelineForm::Progressive) {
    out.u16(kSurface).u16(graphics::kProgressive).u32(kContext).u8(kOpaquePixels);
    out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
    return send_(writeGraphics(graphics::kWireToSurface2, out.view()));
  }
  const unsigned codec = form_ == PipelineForm::Planar     ? graphics::kPlanar
                         : form_ == PipelineForm::Clear    ? graphics::kClear
                         : form_ == PipelineForm::RemoteFx ? graphics::kRemoteFx
                                                           : graphics::kRaw;
  out.u16(kSurface).u16(codec).u8(kOpaquePixels);
  putRect(out, area);
  out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
  send_(writeGraphics(graphics::kWireToSurface1, out.view()));
}

Bytes GraphicsService::coded(const Rect& area) const {
  if (form_ == PipelineForm::Progressive) return encodeProgressive(*picture_, area, finest(), true, sent_);
  if (form_ == PipelineForm::RemoteFx) return encodeRemoteFx(*picture_, area, RlgrMode::Three, finest());
  if (form_ == PipelineForm::Planar)
    return encodePlanar(picture_->at(area.x, area.y), picture_->stride(), area.width, area.height, false);
  std::vector<Pixel> pixels;
  pixels.reserve(static_cast<std::size_t>(area.area()));
  for (int y = area.y; y < area.bottom(); ++y)
    pixels.insert(pixels.end(), picture_->row(y) + area.x, picture_->row(y) + area.right());
  if (form_ == PipelineForm::Clear) return encodeClearRuns(pixels, sent_ & 0xff);
  LittleWriter out;
  for (Pixel p : pixels) out.u32(p);
  return out.take();
}

}  // namespace kw::rdp
