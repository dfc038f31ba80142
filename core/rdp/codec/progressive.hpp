// The pipeline's progressive codec (MS-RDPEGFX 2.2.4.2, 3.2.8.1): tiles whose quality grows with each pass.
#pragma once
#include <map>
#include <memory>

#include "base/little.hpp"
#include "rdp/codec/tile_paint.hpp"

namespace kw::rdp {

/// One codec context of one surface: tiles keep their coefficients while they can still grow.
class ProgressiveDecoder {
 public:
  /// Draws a stream of blocks; gives what it touched. Throws Error{ProtocolBroken}.
  Region decode(ByteView stream, Framebuffer& picture);
  /// Tiles that wait for further passes.
  [[nodiscard]] std::size_t tilesKept() const { return tiles_.size(); }

 private:
  struct Component {
    Coefficients now;                         ///< as decoded so far
    std::array<std::int8_t, kTileArea> sign;  ///< of each coefficient: -1, 0 not known yet, 1
    Quant bits;                               ///< position of the lowest bit that is known
  };
  struct Tile {
    std::array<Component, 3> components;
  };
  struct ProgressiveQuant {
    std::array<Quant, 3> components;
  };
  void region(LittleReader& in, Framebuffer& picture, Region& damage);
  void tile(LittleReader& in, unsigned type, Framebuffer& picture, Region& damage);
  /// The tile, if it is kept; else its coefficients are in samples_.
  const Tile* first(LittleReader& in, bool simple);
  void upgrade(LittleReader& in);
  void firstPass(Component& c, ByteView data, const Quant& quant, const Quant& later, bool adds);
  void nextPass(Component& c, ByteView newOnes, ByteView grown, const Quant& quant, const Quant& later);
  void show(const Tile& tile, Framebuffer& picture, Region& damage);
  /// What samples_ hold.
  void paint(Framebuffer& picture, Region& damage);
  const Quant& quantAt(unsigned index) const;
  const ProgressiveQuant& laterAt(unsigned index) const;
  Tile& tileAt(int x, int y);

  BandLayout layout_ = BandLayout::Extended;
  bool differences_ = false;  ///< the context lets tiles be differences
  std::vector<Rect> rects_;
  std::vector<Quant> quants_;
  std::vector<ProgressiveQuant> laterQuants_;
  std::map<std::pair<int, int>, std::unique_ptr<Tile>> tiles_;
  int x_ = 0, y_ = 0;
  std::array<Coefficients, 3> samples_;
  TilePixels pixels_;
};

/// One frame of whole tiles for a rectangle whose corner lies on the grid of tiles.
Bytes encodeProgressive(const Framebuffer& picture, const Rect& area, const Quant& quant, bool withContext,
                        std::uint32_t frame);

}  // namespace kw::rdp
