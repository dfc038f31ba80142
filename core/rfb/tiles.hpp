// The tile forms shared by TRLE and ZRLE (RFC 6143 7.7.5, 7.7.6), and the Hextile tile (7.7.4).
// Each function looks at the bytes that are here; it either decodes a whole tile or answers "not yet".
#pragma once
#include <optional>

#include "picture/framebuffer.hpp"

namespace kw::rfb {

/// Tight's TPIXEL: three bytes red, green, blue when the format is plain 888 (registry, Tight Encoding).
PixelFormat tightForm(const PixelFormat& format);

struct RlePalette {
  Pixel colours[128] = {};
  int size = 0;
};

/// The largest number of bytes one tile can take, for 4-byte pixels.
constexpr std::size_t mostTileBytes(int side) {
  return 1 + 127 * 4 + static_cast<std::size_t>(side) * side * 5;
}

/// Decodes one TRLE or ZRLE tile into `target` of the picture. `reusable` allows TRLE's palette reuse.
/// Returns the bytes used, or nothing when `bytes` ends inside the tile. Throws Error{ProtocolBroken}.
std::optional<std::size_t> decodeRleTile(ByteView bytes, const PixelReader& compact, Framebuffer& picture,
                                         const Rect& target, RlePalette& palette, bool reusable);

struct HextileColours {
  Pixel background = kOpaque, foreground = kOpaque;
};
std::optional<std::size_t> decodeHextile(ByteView bytes, const PixelReader& pixels, Framebuffer& picture,
                                         const Rect& target, HextileColours& colours);

}  // namespace kw::rfb
