// The same for machines with AVX2: 32 pixels at a time. What is unpacked in both halves of 128 bits is packed
// in them again, so that only the last step has to put pixels in order.
#include "rdp/codec/yuv_rows.hpp"

#include "base/simd.hpp"

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace kw::rdp {

#if defined(__x86_64__)

namespace {

struct WideShares {
  __m256i red, green, blue;
};

KW_AVX2 inline __m256i packedShares(__m256i low, __m256i high) {
  return _mm256_packs_epi32(_mm256_srai_epi32(low, 8), _mm256_srai_epi32(high, 8));
}
KW_AVX2 inline __m256i shareOf(__m256i colour, __m256i factor) {
  const __m256i one = _mm256_set1_epi16(1);
  return packedShares(_mm256_madd_epi16(_mm256_unpacklo_epi16(colour, one), factor),
                      _mm256_madd_epi16(_mm256_unpackhi_epi16(colour, one), factor));
}
KW_AVX2 inline __m256i colourWordsOf(const Byte* sixteen) {
  const __m128i bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(sixteen));
  return _mm256_sub_epi16(_mm256_cvtepu8_epi16(bytes), _mm256_set1_epi16(128));
}
/// Of sixteen colours, in order.
KW_AVX2 inline WideShares sharesOf(const Byte* us, const Byte* vs) {
  const __m256i u = colourWordsOf(us), v = colourWordsOf(vs), half = _mm256_set1_epi32(128);
  const __m256i green = _mm256_set1_epi32(static_cast<int>(0xff880000U) | (-48 & 0xffff));  // -120 and -48
  return {shareOf(v, _mm256_set1_epi32(128 << 16 | 403)),
          packedShares(_mm256_add_epi32(_mm256_madd_epi16(_mm256_unpacklo_epi16(u, v), green), half),
                       _mm256_add_epi32(_mm256_madd_epi16(_mm256_unpackhi_epi16(u, v), green), half)),
          shareOf(u, _mm256_set1_epi32(128 << 16 | 475))};
}

/// 32 pixels; colours of the first and last eight of each half.
KW_AVX2 inline void putPixels(const Byte* y, const WideShares& first, const WideShares& last, Pixel* out) {
  const __m256i bytes = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(y)),
                zero = _mm256_setzero_si256();
  const __m256i yFirst = _mm256_unpacklo_epi8(bytes, zero), yLast = _mm256_unpackhi_epi8(bytes, zero);
  const __m256i r =
      _mm256_packus_epi16(_mm256_add_epi16(yFirst, first.red), _mm256_add_epi16(yLast, last.red));
  const __m256i g =
      _mm256_packus_epi16(_mm256_add_epi16(yFirst, first.green), _mm256_add_epi16(yLast, last.green));
  const __m256i b =
      _mm256_packus_epi16(_mm256_add_epi16(yFirst, first.blue), _mm256_add_epi16(yLast, last.blue));
  const __m256i opaque = _mm256_set1_epi8(-1);
  const __m256i bgFirst = _mm256_unpacklo_epi8(b, g), bgLast = _mm256_unpackhi_epi8(b, g),
                raFirst = _mm256_unpacklo_epi8(r, opaque), raLast = _mm256_unpackhi_epi8(r, opaque);
  const __m256i p0 = _mm256_unpacklo_epi16(bgFirst, raFirst), p1 = _mm256_unpackhi_epi16(bgFirst, raFirst),
                p2 = _mm256_unpacklo_epi16(bgLast, raLast), p3 = _mm256_unpackhi_epi16(bgLast, raLast);
  auto* to = reinterpret_cast<__m256i*>(out);
  _mm256_storeu_si256(to, _mm256_permute2x128_si256(p0, p1, 0x20));
  _mm256_storeu_si256(to + 1, _mm256_permute2x128_si256(p2, p3, 0x20));
  _mm256_storeu_si256(to + 2, _mm256_permute2x128_si256(p0, p1, 0x31));
  _mm256_storeu_si256(to + 3, _mm256_permute2x128_si256(p2, p3, 0x31));
}

KW_AVX2 inline WideShares doubledFirst(const WideShares& s) {
  return {_mm256_unpacklo_epi16(s.red, s.red), _mm256_unpacklo_epi16(s.green, s.green),
          _mm256_unpacklo_epi16(s.blue, s.blue)};
}
KW_AVX2 inline WideShares doubledLast(const WideShares& s) {
  return {_mm256_unpackhi_epi16(s.red, s.red), _mm256_unpackhi_epi16(s.green, s.green),
          _mm256_unpackhi_epi16(s.blue, s.blue)};
}
/// Colours 0 to 7 and 16 to 23 of two that have 0 to 15 and 16 to 31; or the others.
template <int Which>
KW_AVX2 inline WideShares halvesOf(const WideShares& a, const WideShares& b) {
  return {_mm256_permute2x128_si256(a.red, b.red, Which), _mm256_permute2x128_si256(a.green, b.green, Which),
          _mm256_permute2x128_si256(a.blue, b.blue, Which)};
}

KW_AVX2 void row420(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int first, int count) {
  int x = first;
  const int end = first + count;
  if (x % 2 != 0 && x < end) out[x - first] = pixelOfYuv(y[x], u[x / 2], v[x / 2]), ++x;
  for (; x + 32 <= end; x += 32) {
    const WideShares shares = sharesOf(u + x / 2, v + x / 2);
    putPixels(y + x, doubledFirst(shares), doubledLast(shares), out + (x - first));
  }
  plainYuvRows().row420(y, u, v, out + (x - first), x, end - x);
}

KW_AVX2 void row444(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int count) {
  int x = 0;
  for (; x + 32 <= count; x += 32) {
    const WideShares a = sharesOf(u + x, v + x), b = sharesOf(u + x + 16, v + x + 16);
    putPixels(y + x, halvesOf<0x20>(a, b), halvesOf<0x31>(a, b), out + x);
  }
  plainYuvRows().row444(y + x, u + x, v + x, out + x, count - x);
}

constexpr YuvRows kWide{row420, row444};

}  // namespace

const YuvRows* wideYuvRows() {
  static const bool have = __builtin_cpu_supports("avx2") != 0;
  return have ? &kWide : nullptr;
}

#else

const YuvRows* wideYuvRows() { return nullptr; }

#endif

}  // namespace kw::rdp
