// What RemoteFX and the pipeline's progressive codec share beside the tile itself: blocks of a type and a
// length (MS-RDPRFX 2.2.2.1.1, MS-RDPEGFX 2.2.4.2.1), how they begin, and a tile on its way out.
#pragma once
#include "base/little.hpp"
#include "rdp/codec/rlgr.hpp"
#include "rdp/codec/tile_paint.hpp"

namespace kw::rdp {

constexpr unsigned kSyncBlock = 0xccc0;
constexpr std::uint32_t kSyncMagic = 0xcaccacca;
constexpr std::size_t kBlockHead = 6;

struct Block {
  unsigned type;
  LittleReader body;
};
/// `what` names the message in errors. Throws Error{ProtocolBroken}.
inline Block readBlock(LittleReader& in, const char* what) {
  const unsigned type = in.u16();
  const std::uint32_t length = in.u32();
  if (length < kBlockHead) protocolBroken(what, "a block of " + std::to_string(length) + " bytes");
  return {type, LittleReader(in.bytes(length - kBlockHead), what)};
}
inline void writeBlock(LittleWriter& out, unsigned type, ByteView body) {
  out.u16(type).u32(static_cast<std::uint32_t>(body.size() + kBlockHead)).bytes(body);
}

inline void checkSync(LittleReader& body, const char* what) {
  if (body.u32() != kSyncMagic) protocolBroken(what, "begins with another number than it shall");
}
inline void writeSync(LittleWriter& out) {
  LittleWriter sync;
  writeBlock(out, kSyncBlock, sync.u32(kSyncMagic).u16(0x100).view());
}

/// The three components of a tile whose corner is at x, y of `area`; beyond it the last row and column go on.
inline std::array<Bytes, 3> codedTile(const Framebuffer& picture, const Rect& area, int x, int y,
                                      BandLayout layout, RlgrMode mode, const Quant& quant) {
  TilePixels pixels;
  for (int row = 0; row < kTileSide; ++row)
    for (int column = 0; column < kTileSide; ++column)
      pixels[static_cast<std::size_t>(row * kTileSide + column)] = picture.pixel(
          area.x + std::min(x + column, area.width - 1), area.y + std::min(y + row, area.height - 1));
  std::array<Coefficients, 3> components;
  fromPixels(pixels.data(), kTileSide, components[0], components[1], components[2]);
  std::array<Bytes, 3> out;
  for (std::size_t i = 0; i < 3; ++i) {
    forwardTransform(components[i], layout);
    quantize(components[i], quant, layout);
    out[i] = encodeRlgr(mode, components[i]);
  }
  return out;
}

}  // namespace kw::rdp
