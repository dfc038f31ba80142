#include "picture/scale.hpp"

#include <cmath>
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#include "base/simd.hpp"

namespace kw {

namespace {
// Rows are blended with seven bits of weight, so that a sum of channels fits 15 bits, columns with fourteen:
// then the machine's multiply-and-add of signed 16-bit pairs does both taps of a pair at once.
constexpr int kDownBits = 7, kAcrossBits = 14;

/// Rounds weights to integers that sum to kWeightSum exactly; the largest takes the remainder.
void quantize(const std::vector<double>& exact, int kWeightSum, std::vector<std::uint16_t>& out) {
  double sum = 0;
  for (double w : exact) sum += w;
  int total = 0;
  std::size_t largest = 0;
  const std::size_t start = out.size();
  for (std::size_t i = 0; i < exact.size(); ++i) {
    const int w = static_cast<int>(std::lround(exact[i] / sum * kWeightSum));
    out.push_back(static_cast<std::uint16_t>(w));
    total += w;
    if (exact[i] > exact[largest]) largest = i;
  }
  out[start + largest] = static_cast<std::uint16_t>(out[start + largest] + kWeightSum - total);
}
}  // namespace

Scaler::Axis Scaler::makeAxis(int source, int target, int weightBits) {
  Axis axis;
  const double step = static_cast<double>(source) / target;
  // Shrinking: each target averages the source pixels it covers. Growing: a tent over two neighbours.
  const double reach = std::max(step, 1.0);
  std::vector<double> exact;
  for (int t = 0; t < target; ++t) {
    const double centre = (t + 0.5) * step;
    const double low = centre - reach / (step > 1 ? 2 : 1), high = centre + reach / (step > 1 ? 2 : 1);
    const int first = std::clamp(static_cast<int>(std::floor(low)), 0, source - 1);
    const int last = std::clamp(static_cast<int>(std::ceil(high)) - 1, first, source - 1);
    exact.clear();
    for (int s = first; s <= last; ++s) {
      const double weight = step > 1 ? std::min<double>(s + 1, high) - std::max<double>(s, low)
                                     : std::max(0.0, 1.0 - std::abs(s + 0.5 - centre));
      exact.push_back(std::max(weight, 0.0));
    }
    if (step <= 1 && exact.size() == 1) exact[0] = 1;
    axis.taps.push_back({first, static_cast<int>(exact.size()), static_cast<int>(axis.weights.size())});
    quantize(exact, 1 << weightBits, axis.weights);
  }
  return axis;
}

Scaler::Scaler(Rect source, Size target)
    : source_(source),
      target_(target),
      across_(makeAxis(source.width, target.width, kAcrossBits)),
      down_(makeAxis(source.height, target.height, kDownBits)) {}

Rect Scaler::targetOf(const Rect& damage) const {
  const Rect d = damage.intersected(source_);
  if (d.empty()) return {};
  const auto map = [](int v, int from, int to) { return static_cast<double>(v) * to / from; };
  const int margin = 2;
  const int left = static_cast<int>(map(d.x - source_.x, source_.width, target_.width)) - margin;
  const int top = static_cast<int>(map(d.y - source_.y, source_.height, target_.height)) - margin;
  const int right =
      static_cast<int>(std::ceil(map(d.right() - source_.x, source_.width, target_.width))) + margin;
  const int bottom =
      static_cast<int>(std::ceil(map(d.bottom() - source_.y, source_.height, target_.height))) + margin;
  // When growing, a source pixel reaches up to one whole source pixel further.
  const int growX = target_.width / std::max(source_.width, 1),
            growY = target_.height / std::max(source_.height, 1);
  return Rect{left - growX, top - growY, right - left + 2 * growX, bottom - top + 2 * growY}.intersected(
      {0, 0, target_.width, target_.height});
}

namespace {

KW_VECTOR void beginSum(std::uint16_t* sum, const Byte* channels, std::uint16_t weight, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) sum[i] = static_cast<std::uint16_t>(channels[i] * weight);
}

KW_VECTOR void sumOfTwo(std::uint16_t* sum, const Byte* a, std::uint16_t weightA, const Byte* b,
                        std::uint16_t weightB, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i)
    sum[i] = static_cast<std::uint16_t>(a[i] * weightA + b[i] * weightB);
}

/// sum[i] += channel[i] * weight; all weights together are 128, so nothing overflows.
KW_VECTOR void addToSum(std::uint16_t* sum, const Byte* channels, std::uint16_t weight, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) sum[i] = static_cast<std::uint16_t>(sum[i] + channels[i] * weight);
}

/// The target columns of a part: where each begins in the blended row, and its weights; all have the same
/// number of pairs, so that the loop over them is short and known.
struct Columns {
  std::vector<std::uint32_t> from;     ///< index of the first channel
  std::vector<std::uint16_t> weights;  ///< 2 * pairs for each
  int pairs = 1;
};

constexpr int kShift = kAcrossBits + kDownBits;

#if defined(__SSE2__)

/// The four channels of one column, 32 bits each.
template <int Pairs>
inline __m128i sumOf(const std::uint16_t* from, const std::uint16_t* weights, int pairs) {
  __m128i sum = _mm_set1_epi32(1 << (kShift - 1));
  const int count = Pairs > 0 ? Pairs : pairs;
  for (int i = 0; i < count; ++i) {
    const __m128i two = _mm_loadu_si128(reinterpret_cast<const __m128i*>(from + std::ptrdiff_t{8} * i));
    const __m128i mixed = _mm_unpacklo_epi16(two, _mm_unpackhi_epi64(two, two));
    std::int32_t weight = 0;
    std::memcpy(&weight, weights + std::ptrdiff_t{2} * i, sizeof weight);
    sum = _mm_add_epi32(sum, _mm_madd_epi16(mixed, _mm_set1_epi32(weight)));
  }
  return _mm_srai_epi32(sum, kShift);
}

/// `Pairs` 0: as many as the columns have.
template <int Pairs>
void blendPairs(const Columns& c, const std::uint16_t* row, Pixel* out) {
  const __m128i opaque = _mm_set1_epi32(static_cast<int>(kOpaque));
  const std::uint32_t* from = c.from.data();
  const std::size_t step = static_cast<std::size_t>(c.pairs) * 2, count = c.from.size();
  const std::uint16_t* weights = c.weights.data();
  const auto at = [&](std::size_t x) { return sumOf<Pairs>(row + from[x], weights + x * step, c.pairs); };
  std::size_t x = 0;
  for (; x + 4 <= count; x += 4) {
    const __m128i low = _mm_packs_epi32(at(x), at(x + 1)), high = _mm_packs_epi32(at(x + 2), at(x + 3));
    _mm_storeu_si128(reinterpret_cast<__m128i*>(out + x), _mm_or_si128(_mm_packus_epi16(low, high), opaque));
  }
  for (; x < count; ++x) {
    const __m128i words = _mm_packs_epi32(at(x), _mm_setzero_si128());
    out[x] = static_cast<Pixel>(_mm_cvtsi128_si32(_mm_packus_epi16(words, words))) | kOpaque;
  }
}

void blendColumns(const Columns& c, const std::uint16_t* row, Pixel* out) {
  switch (c.pairs) {
    case 1: return blendPairs<1>(c, row, out);
    case 2: return blendPairs<2>(c, row, out);
    default: return blendPairs<0>(c, row, out);
  }
}

#else

// Four channels at once; the compilers turn these into the machine's own vectors.
typedef std::uint16_t FourShorts __attribute__((vector_size(8)));
typedef std::uint32_t FourWords __attribute__((vector_size(16)));
typedef std::uint8_t FourBytes __attribute__((vector_size(4)));

KW_VECTOR void blendColumns(const Columns& c, const std::uint16_t* row, Pixel* out) {
  constexpr std::uint32_t half = 1U << (kShift - 1);
  for (std::size_t x = 0; x < c.from.size(); ++x) {
    FourWords sum = {half, half, half, half};
    const std::uint16_t* weights = c.weights.data() + 2 * static_cast<std::size_t>(c.pairs) * x;
    for (int i = 0; i < 2 * c.pairs; ++i) {
      FourShorts channels;
      std::memcpy(&channels, row + c.from[x] + 4 * i, sizeof channels);
      sum += __builtin_convertvector(channels, FourWords) * std::uint32_t{weights[i]};
    }
    const FourBytes bytes = __builtin_convertvector(sum >> kShift, FourBytes);
    Pixel pixel;
    std::memcpy(&pixel, &bytes, sizeof pixel);
    out[x] = pixel | kOpaque;
  }
}

#endif

}  // namespace

void Scaler::scale(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  if (part.empty()) return;
  const Tap& leftTap = across_.taps[static_cast<std::size_t>(part.x)];
  const Tap& rightTap = across_.taps[static_cast<std::size_t>(part.right() - 1)];
  const int firstColumn = leftTap.first;
  const auto channels = static_cast<std::size_t>(rightTap.first + rightTap.count - firstColumn) * 4;
  Columns columns;
  for (int x = part.x; x < part.right(); ++x)
    columns.pairs = std::max(columns.pairs, (across_.taps[static_cast<std::size_t>(x)].count + 1) / 2);
  const auto each = static_cast<std::size_t>(columns.pairs) * 2;
  for (int x = part.x; x < part.right(); ++x) {
    const Tap& tap = across_.taps[static_cast<std::size_t>(x)];
    columns.from.push_back(static_cast<std::uint32_t>(tap.first - firstColumn) * 4);
    const auto weights = across_.weights.begin() + tap.weight;
    columns.weights.insert(columns.weights.end(), weights, weights + tap.count);
    columns.weights.resize(columns.from.size() * each, 0);
  }
  // Pairs may reach beyond the last pixel, where they weigh nothing.
  std::vector<std::uint16_t> blended(channels + each * 4);
  for (int y = part.y; y < part.bottom(); ++y) {
    const Tap& tap = down_.taps[static_cast<std::size_t>(y)];
    const auto bytesOf = [&](int i) {
      return reinterpret_cast<const Byte*>(picture.row(source_.y + tap.first + i) + source_.x + firstColumn);
    };
    const auto weightOf = [&](int i) { return down_.weights[static_cast<std::size_t>(tap.weight + i)]; };
    if (tap.count == 1)
      beginSum(blended.data(), bytesOf(0), weightOf(0), channels);
    else
      sumOfTwo(blended.data(), bytesOf(0), weightOf(0), bytesOf(1), weightOf(1), channels);
    for (int i = 2; i < tap.count; ++i)
      if (weightOf(i) != 0) addToSum(blended.data(), bytesOf(i), weightOf(i), channels);
    blendColumns(columns, blended.data(), out + static_cast<std::size_t>(y) * stride + part.x);
  }
}

void scaleWhole(const Framebuffer& picture, const Rect& area, int factor, Pixel* out, std::size_t stride) {
  for (int y = 0; y < area.height; ++y) {
    const Pixel* from = picture.row(area.y + y) + area.x;
    Pixel* first = out + static_cast<std::size_t>(y) * static_cast<std::size_t>(factor) * stride;
    Pixel* to = first;
    for (int x = 0; x < area.width; ++x, to += factor) std::fill_n(to, factor, from[x]);
    const auto width = static_cast<std::size_t>(area.width) * static_cast<std::size_t>(factor);
    for (int i = 1; i < factor; ++i) std::copy_n(first, width, first + static_cast<std::size_t>(i) * stride);
  }
}

}  // namespace kw
