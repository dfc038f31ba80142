// The bitmap codecs of RDP's classic updates: interleaved RLE (MS-RDPBCGR 2.2.9.1.1.3.1.2.4) for 8 to 24
// bits, and planar (MS-RDPEGDI 2.2.2.5.1) for 32. Pictures come bottom row first.
#pragma once
#include "base/bytes.hpp"
#include "picture/pixel_format.hpp"

namespace kw::rdp {

/// `out` gets height rows of width pixels of bytesPerPixel (1, 2 or 3) bytes, in the order they come; must
/// have that size. What the data leaves out stays as it was. Throws Error{ProtocolBroken}.
void decodeInterleaved(ByteView data, int width, int height, int bytesPerPixel, ByteSpan out);
/// Only what a server needs: runs of a colour and of the row before, and plain pixels.
Bytes encodeInterleaved(const Byte* pixels, int width, int height, int bytesPerPixel);

/// `out` gets width * height native pixels, in the order they come. With `flip` the first row goes last.
/// `alpha`, where one wants it, gets a byte a pixel in the order they come, or nothing when none are there.
/// Throws Error{ProtocolBroken}.
void decodePlanar(ByteView data, int width, int height, Pixel* out, std::size_t stride, bool flip,
                  Bytes* alpha = nullptr);
/// Runs in each plane, no alpha, bottom row first when `flip`.
Bytes encodePlanar(const Pixel* pixels, std::size_t stride, int width, int height, bool flip);

}  // namespace kw::rdp
