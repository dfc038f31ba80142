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

struct ScaleKernels {
  /// sum[i] of `channels` becomes the rows' channels times their weights, which sum to 128.
  void (*sumRows)(std::uint16_t* sum, std::span<const Byte* const> rows, const std::uint16_t* weights,
                  std::size_t channels);
  /// One pixel a column. `row` has room for a pair behind its last channel.
  void (*blendColumns)(const ScaleColumns& columns, const std::uint16_t* row, Pixel* out);
  /// Every two by two pixels of both rows become one of `count`, rounded to the next.
  void (*halveRow)(const Pixel* above, const Pixel* below, Pixel* out, std::size_t count);
};

const ScaleKernels& plainScaleKernels();
/// Null on a machine without AVX2.
const ScaleKernels* wideScaleKernels();
/// The fastest of this machine.
const ScaleKernels& scaleKernels();

}  // namespace kw
