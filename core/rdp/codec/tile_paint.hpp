// Puts a decoded tile into a picture, but only where the message's rectangles let it.
#pragma once
#include <array>
#include <cstring>
#include <vector>

#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/codec/tile.hpp"

namespace kw::rdp {

using TilePixels = std::array<Pixel, kTileArea>;

/// `tile` is where the tile's corner lies in the picture; `rects` are in the picture's coordinates.
inline void paintTile(const TilePixels& pixels, Point tile, const std::vector<Rect>& rects,
                      Framebuffer& picture, Region& damage) {
  const Rect whole = Rect{tile.x, tile.y, kTileSide, kTileSide}.intersected(picture.rect());
  for (const Rect& r : rects) {
    const Rect part = r.intersected(whole);
    if (part.empty()) continue;
    for (int y = part.y; y < part.bottom(); ++y)
      std::memcpy(picture.at(part.x, y),
                  &pixels[static_cast<std::size_t>((y - tile.y) * kTileSide + part.x - tile.x)],
                  static_cast<std::size_t>(part.width) * sizeof(Pixel));
    damage.add(part);
  }
}

}  // namespace kw::rdp
