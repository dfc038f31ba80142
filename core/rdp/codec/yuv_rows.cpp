#include "rdp/codec/yuv_rows.hpp"

#include <algorithm>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace kw::rdp {

namespace {

Pixel clamped(int v) { return static_cast<Pixel>(std::clamp(v, 0, 255)); }

#ifdef __SSE2__
/// What colours add to luma, as words: since 256 times luma is shifted out whole, it can be added afterwards,
/// and each colour of 4:2:0 is reckoned once for two pixels.
struct ColourShares {
  __m128i red, green, blue;
};
inline __m128i wordsOf(const Byte* eight) {
  return _mm_unpacklo_epi8(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(eight)), _mm_setzero_si128());
}
/// Of eight colours.
inline ColourShares sharesOf(const Byte* us, const Byte* vs) {
  const __m128i middle = _mm_set1_epi16(128), one = _mm_set1_epi16(1), half = _mm_set1_epi32(128);
  const __m128i red = _mm_set1_epi32(128 << 16 | 403), blue = _mm_set1_epi32(128 << 16 | 475);
  const __m128i green = _mm_set1_epi32(static_cast<int>(0xff880000U) | (-48 & 0xffff));  // -120 and -48
  const __m128i u = _mm_sub_epi16(wordsOf(us), middle), v = _mm_sub_epi16(wordsOf(vs), middle);
  const auto packed = [](__m128i low, __m128i high) {
    return _mm_packs_epi32(_mm_srai_epi32(low, 8), _mm_srai_epi32(high, 8));
  };
  const auto alone = [&](__m128i colour, __m128i factor) {
    return packed(_mm_madd_epi16(_mm_unpacklo_epi16(colour, one), factor),
                  _mm_madd_epi16(_mm_unpackhi_epi16(colour, one), factor));
  };
  return {alone(v, red),
          packed(_mm_add_epi32(_mm_madd_epi16(_mm_unpacklo_epi16(u, v), green), half),
                 _mm_add_epi32(_mm_madd_epi16(_mm_unpackhi_epi16(u, v), green), half)),
          alone(u, blue)};
}
/// Sixteen pixels, of colours that are in both halves or doubled into them.
inline void sixteenPixels(const Byte* y, const ColourShares& first, const ColourShares& last, Pixel* out) {
  const __m128i yFirst = wordsOf(y), yLast = wordsOf(y + 8);
  const auto channel = [&](__m128i a, __m128i b) {
    return _mm_packus_epi16(_mm_add_epi16(yFirst, a), _mm_add_epi16(yLast, b));
  };
  const __m128i r = channel(first.red, last.red), g = channel(first.green, last.green),
                b = channel(first.blue, last.blue), opaque = _mm_set1_epi8(-1);
  const __m128i bgFirst = _mm_unpacklo_epi8(b, g), bgLast = _mm_unpackhi_epi8(b, g),
                raFirst = _mm_unpacklo_epi8(r, opaque), raLast = _mm_unpackhi_epi8(r, opaque);
  auto* to = reinterpret_cast<__m128i*>(out);
  _mm_storeu_si128(to, _mm_unpacklo_epi16(bgFirst, raFirst));
  _mm_storeu_si128(to + 1, _mm_unpackhi_epi16(bgFirst, raFirst));
  _mm_storeu_si128(to + 2, _mm_unpacklo_epi16(bgLast, raLast));
  _mm_storeu_si128(to + 3, _mm_unpackhi_epi16(bgLast, raLast));
}
inline ColourShares doubledFirst(const ColourShares& s) {
  return {_mm_unpacklo_epi16(s.red, s.red), _mm_unpacklo_epi16(s.green, s.green),
          _mm_unpacklo_epi16(s.blue, s.blue)};
}
inline ColourShares doubledLast(const ColourShares& s) {
  return {_mm_unpackhi_epi16(s.red, s.red), _mm_unpackhi_epi16(s.green, s.green),
          _mm_unpackhi_epi16(s.blue, s.blue)};
}
#endif

void row420(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int first, int count) {
  int x = first;
  const int end = first + count;
#ifdef __SSE2__
  if (x % 2 != 0 && x < end) out[x - first] = pixelOfYuv(y[x], u[x / 2], v[x / 2]), ++x;
  for (; x + 16 <= end; x += 16) {
    const ColourShares shares = sharesOf(u + x / 2, v + x / 2);
    sixteenPixels(y + x, doubledFirst(shares), doubledLast(shares), out + (x - first));
  }
#endif
  for (; x < end; ++x) out[x - first] = pixelOfYuv(y[x], u[x / 2], v[x / 2]);
}

void row444(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int count) {
  int x = 0;
#ifdef __SSE2__
  for (; x + 16 <= count; x += 16)
    sixteenPixels(y + x, sharesOf(u + x, v + x), sharesOf(u + x + 8, v + x + 8), out + x);
#endif
  for (; x < count; ++x) out[x] = pixelOfYuv(y[x], u[x], v[x]);
}

}  // namespace

Pixel pixelOfYuv(int y, int u, int v) {
  u -= 128;
  v -= 128;
  const int l = 256 * y + 128;
  return kOpaque | clamped((l + 403 * v) >> 8) << 16 | clamped((l - 48 * u - 120 * v) >> 8) << 8 |
         clamped((l + 475 * u) >> 8);
}

const YuvRows& plainYuvRows() {
  static constexpr YuvRows rows{row420, row444};
  return rows;
}

const YuvRows& yuvRows() {
  static const YuvRows& fastest = wideYuvRows() != nullptr ? *wideYuvRows() : plainYuvRows();
  return fastest;
}

}  // namespace kw::rdp
