// A tile of 64 by 64 pixels as RemoteFX has it: coefficients of a wavelet in ten bands, quantised, and back
// to pixels (MS-RDPRFX 3.1.8.1, 3.1.8.2; MS-RDPEGFX 3.2.8.1 for the second layout).
#pragma once
#include <array>
#include <cstdint>
#include <span>

#include "base/bytes.hpp"
#include "picture/pixel_format.hpp"

namespace kw::rdp {

constexpr int kTileSide = 64;
constexpr std::size_t kTileArea = 4096;
constexpr std::size_t kBands = 10, kLowBand = 9;

/// Coefficients of one component, band after band: HL1 LH1 HH1 HL2 LH2 HH2 HL3 LH3 HH3 LL3.
using Coefficients = std::array<std::int16_t, kTileArea>;

enum class BandLayout {
  Even,      ///< each level halves: 32, 16, 8
  Extended,  ///< "reduce extrapolate": low parts of 33, 17, 9
};
struct Band {
  int offset, width, height;
  [[nodiscard]] int count() const { return width * height; }
};
const std::array<Band, kBands>& bandsOf(BandLayout layout);

/// Bits per band, in the order of the bands above.
using Quant = std::array<std::uint8_t, kBands>;
/// Five bytes with ten halves, in the order that RemoteFX and the pipeline's codec each have.
Quant quantOfRemoteFx(ByteView five);
Quant quantOfProgressive(ByteView five);
Bytes writeQuantOfRemoteFx(const Quant& quant);
Bytes writeQuantOfProgressive(const Quant& quant);

/// The lowest band comes as differences.
void sumUp(std::span<std::int16_t> low);
/// Shifts each band up by quant - 1 (none below 1).
void dequantize(Coefficients& tile, const Quant& quant, BandLayout layout);
/// In place: coefficients become 64 rows of 64 samples.
void inverseTransform(Coefficients& tile, BandLayout layout);
void toPixels(const Coefficients& y, const Coefficients& cb, const Coefficients& cr, Pixel* out,
              std::size_t stride);

// The other way, for a server.
void fromPixels(const Pixel* in, std::size_t stride, Coefficients& y, Coefficients& cb, Coefficients& cr);
void forwardTransform(Coefficients& tile, BandLayout layout);
/// Shifts down with rounding, and takes differences of the lowest band.
void quantize(Coefficients& tile, const Quant& quant, BandLayout layout);

}  // namespace kw::rdp
