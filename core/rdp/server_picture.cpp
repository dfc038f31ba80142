// What a visitor sees: pictures in the form that was agreed, and the pointer.
#include "rdp/bitmap_codec.hpp"
#include "rdp/codec/nscodec.hpp"
#include "rdp/server.hpp"
#include "rdp/surface_commands.hpp"

namespace kw::rdp {

namespace {
constexpr int kTile = 64;
}  // namespace

void Server::damaged(const Region& region) {
  damage_.add(region);
  if (live_) work_.notify();
}

/// 2.2.3.1: the share is ended and begun anew with the new size.
void Server::resized(std::vector<Rect> monitors) {
  monitors_ = std::move(monitors);
  if (!live_) return;
  damage_.clear();
  if (graphics_ && graphics_->agreed()) {  // the pipeline says it by itself
    graphics_->reset(monitors_.empty() ? std::vector<Rect>{picture_->rect()} : monitors_);
    return damaged(Region(picture_->rect()));
  }
  reactivating_ = true;
  LittleWriter out;
  out.u32(shareId_).u16(1).u8(0);
  LittleWriter head;
  head.u16(static_cast<unsigned>(out.size() + 6))
      .u16(share::kDeactivateAll | 0x10)
      .u16(kServerChannel)
      .bytes(out.view());
  sendOn(kIo, head.view());
  demandActive();
}

BulkWriter::Packed Server::pack(ByteView data) {
  if (!wideBulk_) return bulk_->close(data);
  return {bulk::kRdp61 | bulk::kCompressed, wideBulk_->close(data)};
}

void Server::fast(unsigned code, ByteView body) {
  constexpr std::size_t kMost = 16000;
  std::size_t at = 0;
  do {
    const std::size_t n = std::min(kMost, body.size() - at);
    const bool first = at == 0, last = at + n == body.size();
    const unsigned fragment = first && last ? 0 : first ? 2 : last ? 1 : 3;
    LittleWriter inner;
    if (bulk_ || wideBulk_) {
      const BulkWriter::Packed packed = pack(body.subspan(at, n));
      inner.u8(code | (fragment << 4) | 0x80).u8(packed.flags).u16(static_cast<unsigned>(packed.data.size()));
      inner.bytes(packed.data);
    } else {
      inner.u8(code | (fragment << 4)).u16(static_cast<unsigned>(n)).bytes(body.subspan(at, n));
    }
    Bytes text = inner.take();
    LittleWriter out;
    if (security_.active()) text = security_.sealed(text);
    out.u8(security_.active() ? 0x80 : 0).be16(static_cast<unsigned>(0x8000 | (text.size() + 3)));
    out.bytes(text);
    queue(out.take());
    at += n;
  } while (at < body.size());
}

void Server::composeUpdate() {
  const Region now = std::exchange(damage_, {});
  const auto lock = picture_->lock();
  if (graphics_) return graphics_->frame(now);
  for (const Rect& rect : now.rects()) {
    const Rect r = rect.intersected(picture_->rect());
    if (options_.plain != PlainForm::Bitmaps) {
      if (!r.empty()) surfaceTile(r);
      continue;
    }
    for (int y = r.y; y < r.bottom(); y += kTile)
      for (int x = r.x; x < r.right(); x += kTile)
        tile({x, y, std::min(kTile, r.right() - x), std::min(kTile, r.bottom() - y)});
  }
}

/// One bitmap; with fewer than 32 bits its width is a multiple of four (2.2.9.1.1.3.1.2.2).
void Server::tile(const Rect& area) {
  const int bits = client_.colours;
  Bytes data;
  int width = area.width;
  if (bits == 32) {
    data = encodePlanar(picture_->at(area.x, area.y), picture_->stride(), area.width, area.height, true);
  } else {
    width = (area.width + 3) / 4 * 4;
    PixelFormat format = PixelFormat::native();
    if (bits == 16) format = PixelFormat::rgb565();
    if (bits == 15)
      format = PixelFormat::rgb565(), format.redShift = 10, format.greenMax = 31, format.redMax = 31;
    if (bits == 24) format.bitsPerPixel = 24;
    const PixelWriter writer(format);
    const std::size_t row = static_cast<std::size_t>(width) * writer.bytesPerPixel();
    Bytes pixels(row * static_cast<std::size_t>(area.height));
    for (int y = 0; y < area.height; ++y)
      writer.many(picture_->at(area.x, area.bottom() - 1 - y),
                  pixels.data() + static_cast<std::size_t>(y) * row, static_cast<std::size_t>(area.width));
    data = encodeInterleaved(pixels.data(), width, area.height, static_cast<int>(writer.bytesPerPixel()));
  }
  LittleWriter body;
  body.u16(1).u16(1);
  body.u16(static_cast<unsigned>(area.x)).u16(static_cast<unsigned>(area.y));
  body.u16(static_cast<unsigned>(area.right() - 1)).u16(static_cast<unsigned>(area.bottom() - 1));
  body.u16(static_cast<unsigned>(width))
      .u16(static_cast<unsigned>(area.height))
      .u16(static_cast<unsigned>(bits));
  body.u16(0x401).u16(static_cast<unsigned>(data.size())).bytes(data);
  fast(update::kBitmap, body.view());
}

/// 2.2.9.2.1: one picture for the whole area.
void Server::surfaceTile(const Rect& area) {
  constexpr unsigned kFine = 6;  // one step of quantisation in every band
  Quant quant;
  quant.fill(kFine);
  Bytes data;
  if (options_.plain == PlainForm::RemoteFx) {
    data = encodeRemoteFx(*picture_, area, RlgrMode::One, quant);
  } else {
    std::vector<Pixel> pixels;
    for (int y = area.bottom() - 1; y >= area.y; --y)
      pixels.insert(pixels.end(), picture_->row(y) + area.x, picture_->row(y) + area.right());
    data = encodeNsCodec(pixels, area.size(), 1, false);
  }
  const unsigned codec = options_.plain == PlainForm::RemoteFx ? kRemoteFxId : kNsCodecId;
  fast(update::kSurfaceCommands, writeSurfaceBits(area, codec, data, ++surfaceFrames_));
}

void Server::setCursor(Cursor cursor) {
  cursor_ = cursor;
  if (!live_) return;
  const std::size_t maskRow = (static_cast<std::size_t>(cursor.size.width) + 15) / 16 * 2;
  LittleWriter colours, mask;
  for (int y = cursor.size.height - 1; y >= 0; --y) {
    Bytes bits(maskRow, 0);
    for (int x = 0; x < cursor.size.width; ++x) {
      const Pixel p = cursor.pixels[static_cast<std::size_t>(y * cursor.size.width + x)];
      colours.u32(p);
      if (p >> 24 == 0) bits[static_cast<std::size_t>(x) / 8] |= static_cast<Byte>(0x80 >> (x % 8));
    }
    mask.bytes(bits);
  }
  LittleWriter body;
  body.u16(32)
      .u16(0)
      .u16(static_cast<unsigned>(cursor.hotspot.x))
      .u16(static_cast<unsigned>(cursor.hotspot.y));
  body.u16(static_cast<unsigned>(cursor.size.width)).u16(static_cast<unsigned>(cursor.size.height));
  body.u16(static_cast<unsigned>(mask.size())).u16(static_cast<unsigned>(colours.size()));
  body.bytes(colours.view()).bytes(mask.view());
  fast(update::kPointerNew, body.view());
}

}  // namespace kw::rdp
