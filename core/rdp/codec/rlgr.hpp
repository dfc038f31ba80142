// Run-length Golomb-Rice coding of transform coefficients (MS-RDPRFX 3.1.8.1.7), in its two modes.
#pragma once
#include <cstdint>
#include <span>

#include "base/bytes.hpp"

namespace kw::rdp {

enum class RlgrMode { One = 1, Three = 3 };

/// Fills `out` whole: what the data leaves out is zero (the coder drops zeros at the end). Never throws: a
/// stream of nonsense gives coefficients of nonsense.
void decodeRlgr(RlgrMode mode, ByteView data, std::span<std::int16_t> out);
Bytes encodeRlgr(RlgrMode mode, std::span<const std::int16_t> values);

}  // namespace kw::rdp
