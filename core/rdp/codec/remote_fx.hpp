// RemoteFX messages (MS-RDPRFX 2.2.2): tiles of a wavelet, in a surface command or in the graphics pipeline.
#pragma once
#include "base/little.hpp"
#include "rdp/codec/rlgr.hpp"
#include "rdp/codec/tile_paint.hpp"

namespace kw::rdp {

class RemoteFxDecoder {
 public:
  /// Draws one message with its corner at `at`; gives what it touched. Throws Error{ProtocolBroken}.
  Region decode(ByteView message, Framebuffer& picture, Point at);

 private:
  void region(LittleReader& in);
  void tileSet(LittleReader& in, Framebuffer& picture, Point at, Region& damage);
  void tile(LittleReader& in, Framebuffer& picture, Point at, Region& damage);

  RlgrMode mode_ = RlgrMode::One;
  std::vector<Rect> rects_;
  std::vector<Quant> quants_;
  Coefficients y_, cb_, cr_;
  TilePixels pixels_;
};

/// A whole message for a rectangle of a picture, as a server sends it: headers, one region, one tile set.
Bytes encodeRemoteFx(const Framebuffer& picture, const Rect& area, RlgrMode mode, const Quant& quant);

}  // namespace kw::rdp
