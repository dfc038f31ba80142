// What a serial line really carries, bit by bit: so that listening with the wrong speed or framing gives the
// garbage that a real line would give.
#pragma once
#include "base/bytes.hpp"
#include "line/line.hpp"

namespace kw::lab {

/// The bytes that a listener with settings `to` hears of `bytes` sent with settings `from`. A byte with a
/// broken frame is heard as most receivers give it: with the bits that were there. `errors` counts on.
Bytes overTheWire(ByteView bytes, const LineSettings& from, const LineSettings& to,
                  LineErrors* errors = nullptr);

}  // namespace kw::lab
