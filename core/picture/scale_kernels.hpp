// The loops of the scaler, once for every machine and once for those with AVX2; both give the same pixels.
#pragma once
#include <span>
#include <vector>

#include "picture/framebuffer.hpp"

namespace kw {

/// Rows are blended with seven bits of weight, so that a sum of channels fits 15 bits, columns with fourteen:
/// then the machine's multiply-and-add of signed 16-bit pairs does both taps of a pair at once.
constexpr int kDownBits = 7, kAcrossBits = 14;

/// The target columns of a part: where each begins in the blended row, and its weights; all have the same
/// number of pairs, so that the loop over them is short and known.
struct ScaleColumns {
  std::vector<std::uint32_t> from;     ///< index of the first channel
  std::vector<std::uint16_t> weights;  ///< 2 * pairs for each, signed 15 bits
  int pairs = 1;
};

/// What of a pixel beyond the first a column or row between two has: of a column 128ths, of a row 32768ths.
constexpr int kGrowAcross = 128, kGrowDownBits = 15;

struct ScaleKernels {
  /// sum[i] of `channels` becomes the rows' channels times their weights, which sum to 128.
  void (*sumRows)(std::uint16_t* sum, std::span<const Byte* const> rows, const std::uint16_t* weights,
                  std::size_t channels);
  /// One pixel a column. `row` has room for a pair behind its last channel.
  void (*blendColumns)(const ScaleColumns& columns, const std::uint16_t* row, Pixel* out);
  /// Every two by two pixels of both rows become one of `count`, rounded to the next.
  void (*halveRow)(const Pixel* above, const Pixel* below, Pixel* out, std::size_t count);
  /// `count` columns, each between the pixel at from[i] and the next: 128 times the channels. The low byte of
  /// shares[i] is the first pixel's, the high byte the second's; they sum to 128.
  void (*growRow)(const Pixel* row, const std::uint32_t* from, const std::uint16_t* shares,
                  std::uint16_t* out, std::size_t count);
  /// A row of `count` pixels between two that growRow made; `share` is the lower one's.
  void (*mixRows)(const std::uint16_t* above, const std::uint16_t* below, std::int16_t share, Pixel* out,
                  std::size_t count);
};

const ScaleKernels& plainScaleKernels();
/// Null on a machine without AVX2.
const ScaleKernels* wideScaleKernels();
/// The fastest of this machine.
const ScaleKernels& scaleKernels();

}  // namespace kw
