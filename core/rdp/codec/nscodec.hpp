// NSCodec (MS-RDPNSC): luma and two chroma planes, each with runs, and perhaps alpha.
#pragma once
#include <vector>

#include "base/bytes.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw::rdp {

/// `out` gets size.width * size.height pixels, top row first. Throws Error{ProtocolBroken}.
void decodeNsCodec(ByteView stream, Size size, std::vector<Pixel>& out);
/// With the loss of colour given, 1 to 7, and without thinning the chroma planes unless told.
Bytes encodeNsCodec(const std::vector<Pixel>& pixels, Size size, int colourLoss, bool thin);

}  // namespace kw::rdp
