// Pointers of RDP (MS-RDPBCGR 2.2.9.1.1.4, 2.2.9.1.2.1.10, .11): masks become pictures with transparency.
#pragma once
#include <optional>
#include <vector>

#include "base/little.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw::rdp {

/// Pixels are 0xAARRGGBB, premultiplied. Size {0, 0}: hidden.
struct Cursor {
  Size size;
  Point hotspot;
  std::vector<Pixel> pixels;
};

enum class PointerKind { Colour, New, Large };

struct PointerMessage {
  unsigned cacheIndex = 0;
  Cursor cursor;
};
/// `palette` is for pointers of 8 bits. Throws Error{ProtocolBroken}.
PointerMessage readPointer(LittleReader& in, PointerKind kind, const ColourMap& palette);
/// The arrow that "the usual pointer" stands for.
Cursor usualPointer();

}  // namespace kw::rdp
