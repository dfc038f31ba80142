#include "picture/scale_kernels.hpp"

#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#include "base/simd.hpp"

namespace kw {

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
void blendPairs(const ScaleColumns& c, const std::uint16_t* row, Pixel* out) {
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

void blendColumns(const ScaleColumns& c, const std::uint16_t* row, Pixel* out) {
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

KW_VECTOR void blendColumns(const ScaleColumns& c, const std::uint16_t* row, Pixel* out) {
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

void sumRows(std::uint16_t* sum, std::span<const Byte* const> rows, const std::uint16_t* weights,
             std::size_t channels) {
  if (rows.size() == 1)
    beginSum(sum, rows[0], weights[0], channels);
  else
    sumOfTwo(sum, rows[0], weights[0], rows[1], weights[1], channels);
  for (std::size_t i = 2; i < rows.size(); ++i)
    if (weights[i] != 0) addToSum(sum, rows[i], weights[i], channels);
}

KW_VECTOR void halveRow(const Pixel* above, const Pixel* below, Pixel* out, std::size_t count) {
  constexpr Pixel kOdd = 0x00ff00ff;
  for (std::size_t x = 0; x < count; ++x) {
    Pixel odd = 0x00020002, even = 0x00020002;
    for (const Pixel p : {above[2 * x], above[2 * x + 1], below[2 * x], below[2 * x + 1]}) {
      odd += p & kOdd;
      even += p >> 8 & kOdd;
    }
    out[x] = (odd >> 2 & kOdd) | (even >> 2 & kOdd) << 8 | kOpaque;
  }
}

void growPixels(const Pixel* row, const std::uint32_t* from, const std::uint16_t* shares, std::uint16_t* out,
                std::size_t count) {
  for (std::size_t x = 0; x < count; ++x, out += 4) {
    const Pixel a = row[from[x]], b = row[from[x] + 1];
    const unsigned ofA = shares[x] & 0xff, ofB = shares[x] >> 8;
    for (unsigned c = 0; c < 4; ++c)
      out[c] = static_cast<std::uint16_t>((a >> 8 * c & 0xff) * ofA + (b >> 8 * c & 0xff) * ofB);
  }
}

/// The channels of both are at most 128 * 255, so that their difference fits 16 bits.
void mixPixels(const std::uint16_t* above, const std::uint16_t* below, std::int16_t share, Pixel* out,
               std::size_t count) {
  constexpr int kHalf = 1 << (kGrowDownBits - 1);
  for (std::size_t x = 0; x < count; ++x) {
    Pixel pixel = kOpaque;
    for (std::size_t c = 0; c < 4; ++c) {
      const int a = above[4 * x + c], b = below[4 * x + c];
      const int mixed = a + (((b - a) * share + kHalf) >> kGrowDownBits);
      pixel |= static_cast<Pixel>((mixed + kGrowAcross / 2) / kGrowAcross) << 8 * c;
    }
    out[x] = pixel;
  }
}

#if defined(__SSE2__)

/// The channels of two pixels beside each other, each times its share: the first pixel's four, then the
/// second's.
inline __m128i shared(const Pixel* pair, std::uint16_t shares) {
  const __m128i zero = _mm_setzero_si128();
  const __m128i both = _mm_unpacklo_epi8(_mm_cvtsi32_si128(shares), zero);
  const __m128i twice = _mm_shufflelo_epi16(both, _MM_SHUFFLE(1, 1, 0, 0));
  const __m128i channels = _mm_unpacklo_epi8(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(pair)), zero);
  return _mm_mullo_epi16(channels, _mm_unpacklo_epi16(twice, twice));
}

void growRow(const Pixel* row, const std::uint32_t* from, const std::uint16_t* shares, std::uint16_t* out,
             std::size_t count) {
  std::size_t x = 0;
  for (; x + 2 <= count; x += 2) {
    const __m128i one = shared(row + from[x], shares[x]), other = shared(row + from[x + 1], shares[x + 1]);
    _mm_storeu_si128(reinterpret_cast<__m128i*>(out + 4 * x),
                     _mm_add_epi16(_mm_unpacklo_epi64(one, other), _mm_unpackhi_epi64(one, other)));
  }
  growPixels(row, from + x, shares + x, out + 4 * x, count - x);
}

/// Eight channels; `weights` is the share beside the half that rounds.
inline __m128i between(const std::uint16_t* above, const std::uint16_t* below, __m128i weights) {
  const __m128i a = _mm_loadu_si128(reinterpret_cast<const __m128i*>(above));
  const __m128i b = _mm_loadu_si128(reinterpret_cast<const __m128i*>(below));
  const __m128i one = _mm_set1_epi16(1), more = _mm_sub_epi16(b, a);
  const __m128i low = _mm_srai_epi32(_mm_madd_epi16(_mm_unpacklo_epi16(more, one), weights), kGrowDownBits);
  const __m128i high = _mm_srai_epi32(_mm_madd_epi16(_mm_unpackhi_epi16(more, one), weights), kGrowDownBits);
  const __m128i mixed = _mm_add_epi16(a, _mm_packs_epi32(low, high));
  return _mm_srli_epi16(_mm_add_epi16(mixed, _mm_set1_epi16(kGrowAcross / 2)), 7);
}

void mixRows(const std::uint16_t* above, const std::uint16_t* below, std::int16_t share, Pixel* out,
             std::size_t count) {
  const __m128i opaque = _mm_set1_epi32(static_cast<int>(kOpaque));
  const __m128i weights = _mm_set1_epi32(1 << (kGrowDownBits - 1 + 16) | share);
  std::size_t x = 0;
  for (; x + 4 <= count; x += 4) {
    const __m128i pixels = _mm_packus_epi16(between(above + 4 * x, below + 4 * x, weights),
                                            between(above + 4 * x + 8, below + 4 * x + 8, weights));
    _mm_storeu_si128(reinterpret_cast<__m128i*>(out + x), _mm_or_si128(pixels, opaque));
  }
  mixPixels(above + 4 * x, below + 4 * x, share, out + x, count - x);
}

#else

constexpr auto growRow = growPixels;
constexpr auto mixRows = mixPixels;

#endif

}  // namespace

const ScaleKernels& plainScaleKernels() {
  static constexpr ScaleKernels kernels{sumRows, blendColumns, halveRow, growRow, mixRows};
  return kernels;
}

const ScaleKernels& scaleKernels() {
  static const ScaleKernels& best = wideScaleKernels() != nullptr ? *wideScaleKernels() : plainScaleKernels();
  return best;
}

}  // namespace kw
