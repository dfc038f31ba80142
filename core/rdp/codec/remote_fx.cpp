#include "rdp/codec/remote_fx.hpp"

#include "rdp/codec/blocks.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "RemoteFX message";
// 2.2.2.1.1 blockType
constexpr unsigned kVersions = 0xccc1, kChannels = 0xccc2, kContext = 0xccc3, kFrameBegin = 0xccc4,
                   kFrameEnd = 0xccc5, kRegion = 0xccc6, kTileSet = 0xccc7, kTile = 0xcac3;
constexpr unsigned kEntropyThree = 4;  // 2.2.2.2.4 et

void decodeComponent(RlgrMode mode, ByteView data, const Quant& quant, Coefficients& out) {
  decodeRlgr(mode, data, out);
  const Band& low = bandsOf(BandLayout::Even)[kLowBand];
  sumUp(std::span(out).subspan(static_cast<std::size_t>(low.offset), static_cast<std::size_t>(low.count())));
  dequantize(out, quant, BandLayout::Even);
  inverseTransform(out, BandLayout::Even);
}

}  // namespace

Region RemoteFxDecoder::decode(ByteView message, Framebuffer& picture, Point at) {
  LittleReader in(message, kWhat);
  Region damage;
  while (in.left() >= kBlockHead) {
    Block block = readBlock(in, kWhat);
    switch (block.type) {
      case kSyncBlock: checkSync(block.body, kWhat); break;
      case kRegion: region(block.body); break;
      case kTileSet: tileSet(block.body, picture, at, damage); break;
      default: break;  // versions, channels, contexts and frames tell nothing that a tile set does not
    }
  }
  return damage;
}

/// 2.2.2.3.3
void RemoteFxDecoder::region(LittleReader& in) {
  in.skip(3);
  const unsigned count = in.u16();
  rects_.clear();
  for (unsigned i = 0; i < count; ++i) {
    const int x = in.u16(), y = in.u16(), w = in.u16();
    rects_.push_back({x, y, w, in.u16()});
  }
}

/// 2.2.2.3.4
void RemoteFxDecoder::tileSet(LittleReader& in, Framebuffer& picture, Point at, Region& damage) {
  in.skip(2 + 2 + 2);
  mode_ = (in.u16() >> 10 & 0xf) == kEntropyThree ? RlgrMode::Three : RlgrMode::One;
  const unsigned quants = in.u8();
  if (in.u8() != kTileSide) protocolBroken(kWhat, "tiles of another size than 64");
  const unsigned tiles = in.u16();
  in.skip(4);
  quants_.clear();
  for (unsigned i = 0; i < quants; ++i) quants_.push_back(quantOfRemoteFx(in.bytes(5)));
  for (Rect& r : rects_) r = r.moved(at.x, at.y);
  for (unsigned i = 0; i < tiles; ++i) {
    Block block = readBlock(in, kWhat);
    if (block.type != kTile) protocolBroken(kWhat, "something else where a tile should be");
    tile(block.body, picture, at, damage);
  }
  for (Rect& r : rects_) r = r.moved(-at.x, -at.y);
}

/// 2.2.2.3.4.1
void RemoteFxDecoder::tile(LittleReader& in, Framebuffer& picture, Point at, Region& damage) {
  const auto quant = [&]() -> const Quant& {
    const unsigned index = in.u8();
    if (index >= quants_.size()) protocolBroken(kWhat, "a tile with quantisation it did not send");
    return quants_[index];
  };
  const Quant &qy = quant(), &qb = quant(), &qr = quant();
  const int x = in.u16() * kTileSide, y = in.u16() * kTileSide;
  const std::size_t ny = in.u16(), nb = in.u16(), nr = in.u16();
  decodeComponent(mode_, in.bytes(ny), qy, y_);
  decodeComponent(mode_, in.bytes(nb), qb, cb_);
  decodeComponent(mode_, in.bytes(nr), qr, cr_);
  toPixels(y_, cb_, cr_, pixels_.data(), kTileSide);
  paintTile(pixels_, {x + at.x, y + at.y}, rects_, picture, damage);
}

Bytes encodeRemoteFx(const Framebuffer& picture, const Rect& area, RlgrMode mode, const Quant& quant) {
  const unsigned entropy = mode == RlgrMode::Three ? kEntropyThree : 1;
  LittleWriter out, versions, channels, context, begin, region, tiles, set, end;
  writeSync(out);
  writeBlock(out, kVersions, versions.u8(1).u8(1).u16(0x100).view());
  channels.u8(1).u8(0).u16(static_cast<unsigned>(area.width)).u16(static_cast<unsigned>(area.height));
  writeBlock(out, kChannels, channels.view());
  // 2.2.2.2.4: image mode, the colour conversion, the wavelet, the entropy coder, the quantiser
  context.u8(1).u8(0xff).u8(0).u16(kTileSide).u16(2 | 1 << 3 | 1 << 5 | entropy << 9 | 1 << 13);
  writeBlock(out, kContext, context.view());
  writeBlock(out, kFrameBegin, begin.u8(1).u8(0).u32(0).u16(1).view());
  region.u8(1).u8(0).u8(1).u16(1).u16(0).u16(0);
  region.u16(static_cast<unsigned>(area.width)).u16(static_cast<unsigned>(area.height)).u16(0xcac1).u16(1);
  writeBlock(out, kRegion, region.view());
  unsigned count = 0;
  for (int y = 0; y < area.height; y += kTileSide)
    for (int x = 0; x < area.width; x += kTileSide, ++count) {
      LittleWriter tile;
      tile.u8(0).u8(0).u8(0);
      tile.u16(static_cast<unsigned>(x / kTileSide)).u16(static_cast<unsigned>(y / kTileSide));
      const auto data = codedTile(picture, area, x, y, BandLayout::Even, mode, quant);
      for (const Bytes& d : data) tile.u16(static_cast<unsigned>(d.size()));
      for (const Bytes& d : data) tile.bytes(d);
      writeBlock(tiles, kTile, tile.view());
    }
  set.u8(1).u8(0).u16(0xcac2).u16(0).u16(1 | 2 << 1 | 1 << 4 | 1 << 6 | entropy << 10 | 1 << 14);
  set.u8(1).u8(kTileSide).u16(count).u32(static_cast<std::uint32_t>(tiles.size()));
  set.bytes(writeQuantOfRemoteFx(quant)).bytes(tiles.view());
  writeBlock(out, kTileSet, set.view());
  writeBlock(out, kFrameEnd, end.u8(1).u8(0).view());
  return out.take();
}

}  // namespace kw::rdp
