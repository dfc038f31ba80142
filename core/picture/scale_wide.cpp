// The scaler's loops for machines with AVX2: sixteen 16-bit channels at a time.
#include "base/simd.hpp"
#include "picture/scale_kernels.hpp"

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace kw {

#if defined(__x86_64__)

namespace {

constexpr int kShift = kAcrossBits + kDownBits;

/// 32 channels of two rows, blended. A weight of 128 does not fit a signed byte; it is alone then.
KW_AVX2 inline void mixed(const Byte* a, const Byte* b, __m256i weights, __m256i& low, __m256i& high) {
  const __m256i va = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(a));
  const __m256i vb = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(b));
  low = _mm256_maddubs_epi16(_mm256_unpacklo_epi8(va, vb), weights);
  high = _mm256_maddubs_epi16(_mm256_unpackhi_epi8(va, vb), weights);
}

KW_AVX2 inline __m256i pairOf(std::uint16_t a, std::uint16_t b) {
  return _mm256_set1_epi16(static_cast<short>(a | b << 8));
}

/// Unpacking left the halves of each 128 bits apart.
KW_AVX2 inline void storeInOrder(std::uint16_t* to, __m256i low, __m256i high) {
  _mm256_storeu_si256(reinterpret_cast<__m256i*>(to), _mm256_permute2x128_si256(low, high, 0x20));
  _mm256_storeu_si256(reinterpret_cast<__m256i*>(to + 16), _mm256_permute2x128_si256(low, high, 0x31));
}

KW_AVX2 void sumRows(std::uint16_t* sum, std::span<const Byte* const> rows, const std::uint16_t* weights,
                     std::size_t channels) {
  const bool alone = rows.size() == 1 || *std::max_element(weights, weights + rows.size()) > 127;
  if (alone || rows.size() > 4 || channels < 32)
    return plainScaleKernels().sumRows(sum, rows, weights, channels);
  const bool more = rows.size() > 2;
  const Byte* third = more ? rows[2] : rows[0];
  const Byte* fourth = rows.size() > 3 ? rows[3] : rows[0];
  const __m256i first = pairOf(weights[0], weights[1]);
  const __m256i second = more ? pairOf(weights[2], rows.size() > 3 ? weights[3] : 0) : _mm256_setzero_si256();
  // The last step may go over channels that are done already.
  for (std::size_t at = 0; at < channels; at += 32) {
    const std::size_t i = std::min(at, channels - 32);
    __m256i low, high;
    mixed(rows[0] + i, rows[1] + i, first, low, high);
    if (more) {
      __m256i otherLow, otherHigh;
      mixed(third + i, fourth + i, second, otherLow, otherHigh);
      low = _mm256_add_epi16(low, otherLow);
      high = _mm256_add_epi16(high, otherHigh);
    }
    storeInOrder(sum + i, low, high);
  }
}

/// Weights of pair `i` of two columns beside each other, each four times.
template <int Pairs>
KW_AVX2 inline __m256i weightsOf(const std::uint16_t* weights, int pairs, int i) {
  if constexpr (Pairs == 1) {
    const __m128i two = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(weights));
    return _mm256_permutevar8x32_epi32(_mm256_castsi128_si256(two),
                                       _mm256_setr_epi32(0, 0, 0, 0, 1, 1, 1, 1));
  } else if constexpr (Pairs == 2) {
    const __m128i four = _mm_loadu_si128(reinterpret_cast<const __m128i*>(weights));
    return _mm256_permutevar8x32_epi32(
        _mm256_castsi128_si256(four),
        _mm256_add_epi32(_mm256_setr_epi32(0, 0, 0, 0, 2, 2, 2, 2), _mm256_set1_epi32(i)));
  } else {
    std::int32_t a = 0, b = 0;
    std::memcpy(&a, weights + std::ptrdiff_t{2} * i, sizeof a);
    std::memcpy(&b, weights + std::ptrdiff_t{2} * (pairs + i), sizeof b);
    return _mm256_inserti128_si256(_mm256_castsi128_si256(_mm_set1_epi32(a)), _mm_set1_epi32(b), 1);
  }
}

/// The four channels of two columns, 32 bits each.
template <int Pairs>
KW_AVX2 inline __m256i sumOfTwoColumns(const ScaleColumns& c, const std::uint16_t* row, std::size_t x) {
  const __m256i together = _mm256_setr_epi8(0, 1, 8, 9, 2, 3, 10, 11, 4, 5, 12, 13, 6, 7, 14, 15, 0, 1, 8, 9,
                                            2, 3, 10, 11, 4, 5, 12, 13, 6, 7, 14, 15);
  __m256i sum = _mm256_set1_epi32(1 << (kShift - 1));
  const int pairs = Pairs > 0 ? Pairs : c.pairs;
  const std::uint16_t* weights = c.weights.data() + x * static_cast<std::size_t>(pairs) * 2;
  const std::uint16_t* first = row + c.from[x];
  const std::uint16_t* second = row + c.from[x + 1];
  for (int i = 0; i < pairs; ++i, first += 8, second += 8) {
    const __m256i both = _mm256_inserti128_si256(
        _mm256_castsi128_si256(_mm_loadu_si128(reinterpret_cast<const __m128i*>(first))),
        _mm_loadu_si128(reinterpret_cast<const __m128i*>(second)), 1);
    sum = _mm256_add_epi32(
        sum, _mm256_madd_epi16(_mm256_shuffle_epi8(both, together), weightsOf<Pairs>(weights, pairs, i)));
  }
  return _mm256_srai_epi32(sum, kShift);
}

template <int Pairs>
KW_AVX2 void blendPairs(const ScaleColumns& c, const std::uint16_t* row, Pixel* out) {
  const __m256i opaque = _mm256_set1_epi32(static_cast<int>(kOpaque));
  const __m256i inOrder = _mm256_setr_epi32(0, 4, 1, 5, 2, 6, 3, 7);
  const std::size_t count = c.from.size();
  // The last step may go over columns that are done already.
  for (std::size_t at = 0; at < count; at += 8) {
    const std::size_t x = std::min(at, count - 8);
    const __m256i low =
        _mm256_packs_epi32(sumOfTwoColumns<Pairs>(c, row, x), sumOfTwoColumns<Pairs>(c, row, x + 2));
    const __m256i high =
        _mm256_packs_epi32(sumOfTwoColumns<Pairs>(c, row, x + 4), sumOfTwoColumns<Pairs>(c, row, x + 6));
    const __m256i pixels = _mm256_permutevar8x32_epi32(_mm256_packus_epi16(low, high), inOrder);
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + x), _mm256_or_si256(pixels, opaque));
  }
}

void blendColumns(const ScaleColumns& c, const std::uint16_t* row, Pixel* out) {
  if (c.from.size() < 8) return plainScaleKernels().blendColumns(c, row, out);
  switch (c.pairs) {
    case 1: return blendPairs<1>(c, row, out);
    case 2: return blendPairs<2>(c, row, out);
    default: return blendPairs<0>(c, row, out);
  }
}

/// Four pixels, of 16 bits a channel, out of eight of both rows.
KW_AVX2 inline __m256i halved(const Pixel* above, const Pixel* below) {
  const __m256i zero = _mm256_setzero_si256();
  const __m256i a = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(above));
  const __m256i b = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(below));
  const __m256i low = _mm256_add_epi16(_mm256_unpacklo_epi8(a, zero), _mm256_unpacklo_epi8(b, zero));
  const __m256i high = _mm256_add_epi16(_mm256_unpackhi_epi8(a, zero), _mm256_unpackhi_epi8(b, zero));
  const __m256i sum = _mm256_add_epi16(_mm256_unpacklo_epi64(low, high), _mm256_unpackhi_epi64(low, high));
  return _mm256_srli_epi16(_mm256_add_epi16(sum, _mm256_set1_epi16(2)), 2);
}

KW_AVX2 void halveRow(const Pixel* above, const Pixel* below, Pixel* out, std::size_t count) {
  if (count < 8) return plainScaleKernels().halveRow(above, below, out, count);
  const __m256i opaque = _mm256_set1_epi32(static_cast<int>(kOpaque));
  for (std::size_t at = 0; at < count; at += 8) {
    const std::size_t x = std::min(at, count - 8);
    const __m256i both = _mm256_packus_epi16(halved(above + 2 * x, below + 2 * x),
                                             halved(above + 2 * x + 8, below + 2 * x + 8));
    const __m256i pixels = _mm256_permute4x64_epi64(both, 0xd8);
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + x), _mm256_or_si256(pixels, opaque));
  }
}

KW_AVX2 inline __m128i pairAt(const Pixel* at) {
  return _mm_loadl_epi64(reinterpret_cast<const __m128i*>(at));
}

KW_AVX2 void growRow(const Pixel* row, const std::uint32_t* from, const std::uint16_t* shares,
                     std::uint16_t* out, std::size_t count) {
  if (count < 4) return plainScaleKernels().growRow(row, from, shares, out, count);
  const __m256i together =
      _mm256_broadcastsi128_si256(_mm_setr_epi8(0, 4, 1, 5, 2, 6, 3, 7, 8, 12, 9, 13, 10, 14, 11, 15));
  const __m256i each = _mm256_setr_epi8(0, 1, 0, 1, 0, 1, 0, 1, 2, 3, 2, 3, 2, 3, 2, 3,  //
                                        4, 5, 4, 5, 4, 5, 4, 5, 6, 7, 6, 7, 6, 7, 6, 7);
  // A share of 128 does not fit a signed byte; so the shares are the unsigned side, and the channels are
  // lowered by 128 for the signed one, which takes 128 * 128 from each sum.
  const __m256i lower = _mm256_set1_epi8(-128), lost = _mm256_set1_epi16(128 * kGrowAcross);
  // The last step may go over columns that are done already.
  for (std::size_t at = 0; at < count; at += 4) {
    const std::size_t x = std::min(at, count - 4);
    const __m128i one = _mm_unpacklo_epi64(pairAt(row + from[x]), pairAt(row + from[x + 1]));
    const __m128i other = _mm_unpacklo_epi64(pairAt(row + from[x + 2]), pairAt(row + from[x + 3]));
    const __m256i pairs = _mm256_inserti128_si256(_mm256_castsi128_si256(one), other, 1);
    const __m256i four =
        _mm256_broadcastq_epi64(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(shares + x)));
    const __m256i sums = _mm256_maddubs_epi16(_mm256_shuffle_epi8(four, each),
                                              _mm256_xor_si256(_mm256_shuffle_epi8(pairs, together), lower));
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + 4 * x), _mm256_add_epi16(sums, lost));
  }
}

/// Sixteen channels, of eight bits each.
KW_AVX2 inline __m256i between(const std::uint16_t* above, const std::uint16_t* below, __m256i share) {
  const __m256i a = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(above));
  const __m256i b = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(below));
  const __m256i mixed = _mm256_add_epi16(a, _mm256_mulhrs_epi16(_mm256_sub_epi16(b, a), share));
  return _mm256_srli_epi16(_mm256_add_epi16(mixed, _mm256_set1_epi16(kGrowAcross / 2)), 7);
}

KW_AVX2 void mixRows(const std::uint16_t* above, const std::uint16_t* below, std::int16_t share, Pixel* out,
                     std::size_t count) {
  if (count < 8) return plainScaleKernels().mixRows(above, below, share, out, count);
  const __m256i opaque = _mm256_set1_epi32(static_cast<int>(kOpaque)), shares = _mm256_set1_epi16(share);
  for (std::size_t at = 0; at < count; at += 8) {
    const std::size_t x = std::min(at, count - 8);
    const __m256i both = _mm256_packus_epi16(between(above + 4 * x, below + 4 * x, shares),
                                             between(above + 4 * x + 16, below + 4 * x + 16, shares));
    const __m256i pixels = _mm256_permute4x64_epi64(both, 0xd8);
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + x), _mm256_or_si256(pixels, opaque));
  }
}

}  // namespace

const ScaleKernels* wideScaleKernels() {
  static constexpr ScaleKernels kernels{sumRows, blendColumns, halveRow, growRow, mixRows};
  static const bool have = __builtin_cpu_supports("avx2") != 0;
  return have ? &kernels : nullptr;
}

#else

const ScaleKernels* wideScaleKernels() { return nullptr; }

#endif

}  // namespace kw
