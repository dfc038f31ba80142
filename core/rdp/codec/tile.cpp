#include "rdp/codec/tile.hpp"

#include <algorithm>
#include <cstring>

#include "base/simd.hpp"

namespace kw::rdp {

namespace {

constexpr std::array<Band, kBands> kEven{{{0, 32, 32},
                                          {1024, 32, 32},
                                          {2048, 32, 32},
                                          {3072, 16, 16},
                                          {3328, 16, 16},
                                          {3584, 16, 16},
                                          {3840, 8, 8},
                                          {3904, 8, 8},
                                          {3968, 8, 8},
                                          {4032, 8, 8}}};
constexpr std::array<Band, kBands> kExtended{{{0, 31, 33},
                                              {1023, 33, 31},
                                              {2046, 31, 31},
                                              {3007, 16, 17},
                                              {3279, 17, 16},
                                              {3551, 16, 16},
                                              {3807, 8, 9},
                                              {3879, 9, 8},
                                              {3951, 8, 8},
                                              {4015, 9, 9}}};

/// One level: how many samples are low, how many high, how many come out.
struct Level {
  int first;  ///< index of its HL band
  int low, high, size;
};
Level levelOf(BandLayout layout, int level) {  // 3, 2, 1
  const bool even = layout == BandLayout::Even;
  const int high = level == 3 ? 8 : level == 2 ? 16 : even ? 32 : 31;
  const int low = even ? high : level == 1 ? 33 : high + 1;
  return {(level - 1) * 3, low, high, level == 1 ? 64 : low + high};
}

/// 3.1.8.2.4 of whole rows: low and high samples become rows of l.size samples.
KW_VECTOR void joinRows(const std::int16_t* low, const std::int16_t* high, int rows, const Level& l,
                        std::int16_t* out) {
  // With one sample more at either end: before the first stands the first once more; behind the last itself,
  // or nothing where the layout made it vanish.
  std::int16_t h[kTileSide / 2 + 3], even[kTileSide / 2 + 2], odd[kTileSide / 2];
  const bool vanishes = l.low == l.high + 2;
  const int odds = l.size / 2;
  for (int row = 0; row < rows; ++row, low += l.low, high += l.high, out += l.size) {
    h[0] = high[0];
    std::memcpy(h + 1, high, static_cast<std::size_t>(l.high) * 2);
    h[l.high + 1] = vanishes ? std::int16_t{0} : high[l.high - 1];
    if (vanishes) h[l.high + 2] = 0;
    for (int i = 0; i < l.low; ++i)
      even[i] = static_cast<std::int16_t>(low[i] - ((h[i] + h[i + 1] + 1) >> 1));
    if (vanishes) even[l.low - 1] = low[l.low - 1];
    if (l.low == l.high) even[l.low] = even[l.low - 1];
    for (int i = 0; i < odds; ++i)
      odd[i] = static_cast<std::int16_t>((h[i + 1] << 1) + ((even[i] + even[i + 1]) >> 1));
    for (int i = 0; i < odds; ++i) {
      out[2 * i] = even[i];
      out[2 * i + 1] = odd[i];
    }
    if ((l.size & 1) != 0) out[l.size - 1] = even[l.low - 1];
  }
}

/// even = low - (highBefore + highAfter + 1) / 2, a row at a time
KW_VECTOR void evenRow(const std::int16_t* low, const std::int16_t* before, const std::int16_t* after,
                       std::int16_t* out, int n) {
  for (int i = 0; i < n; ++i) out[i] = static_cast<std::int16_t>(low[i] - ((before[i] + after[i] + 1) >> 1));
}
KW_VECTOR void oddRow(const std::int16_t* high, const std::int16_t* above, const std::int16_t* below,
                      std::int16_t* out, int n) {
  for (int i = 0; i < n; ++i)
    out[i] = static_cast<std::int16_t>((high[i] << 1) + ((above[i] + below[i]) >> 1));
}

/// The same down the columns, whole rows at a time: rows of `low` and `high` parts are `width` apart.
void joinColumns(const std::int16_t* low, const std::int16_t* high, const Level& l, std::int16_t* out) {
  static constexpr std::int16_t kNothing[kTileSide] = {};
  const int width = l.size;
  const auto highRow = [&](int i) {
    if (i < 0) return high;
    if (i < l.high) return high + static_cast<std::ptrdiff_t>(i) * width;
    return l.low == l.high + 2 ? kNothing : high + static_cast<std::ptrdiff_t>(l.high - 1) * width;
  };
  const auto outRow = [&](int y) { return out + static_cast<std::ptrdiff_t>(y) * width; };
  std::int16_t beyond[kTileSide];  // the even row after the last one, where the layout has it
  const int evens = (l.size + 1) / 2;
  for (int i = 0; i < evens; ++i)
    evenRow(low + static_cast<std::ptrdiff_t>(i) * width, highRow(i - 1), highRow(i), outRow(2 * i), width);
  if (l.low == l.high + 2)
    std::memcpy(beyond, low + static_cast<std::ptrdiff_t>(l.low - 1) * width,
                static_cast<std::size_t>(width) * 2);
  for (int i = 0; i < l.size / 2; ++i) {
    const std::int16_t* below = 2 * i + 2 < l.size    ? outRow(2 * i + 2)
                                : l.low == l.high + 2 ? beyond
                                                      : outRow(2 * i);
    oddRow(i < l.high ? highRow(i) : kNothing, outRow(2 * i), below, outRow(2 * i + 1), width);
  }
}

int halfOf(Byte b, bool high) { return high ? b >> 4 : b & 0xf; }

// Where the halves go, for each of the two orders.
constexpr std::size_t kRemoteFxOrder[kBands] = {9, 7, 6, 8, 4, 3, 5, 1, 0, 2};
constexpr std::size_t kProgressiveOrder[kBands] = {9, 6, 7, 8, 3, 4, 5, 0, 1, 2};

Quant readQuant(ByteView five, const std::size_t* order) {
  Quant out{};
  for (std::size_t i = 0; i < kBands; ++i)
    out[order[i]] = static_cast<std::uint8_t>(halfOf(five[i / 2], i % 2 == 1));
  return out;
}
Bytes writeQuant(const Quant& quant, const std::size_t* order) {
  Bytes out(5);
  for (std::size_t i = 0; i < kBands; ++i)
    out[i / 2] = static_cast<Byte>(out[i / 2] | (quant[order[i]] & 0xfU) << (i % 2 * 4));
  return out;
}

Pixel clamped(int v) { return static_cast<Pixel>(std::clamp(v, 0, 255)); }

}  // namespace

const std::array<Band, kBands>& bandsOf(BandLayout layout) {
  return layout == BandLayout::Even ? kEven : kExtended;
}

Quant quantOfRemoteFx(ByteView five) { return readQuant(five, kRemoteFxOrder); }
Quant quantOfProgressive(ByteView five) { return readQuant(five, kProgressiveOrder); }
Bytes writeQuantOfRemoteFx(const Quant& quant) { return writeQuant(quant, kRemoteFxOrder); }
Bytes writeQuantOfProgressive(const Quant& quant) { return writeQuant(quant, kProgressiveOrder); }

void sumUp(std::span<std::int16_t> low) {
  for (std::size_t i = 1; i < low.size(); ++i) low[i] = static_cast<std::int16_t>(low[i] + low[i - 1]);
}

namespace {
KW_VECTOR void shiftUp(std::int16_t* values, int count, int shift) {
  for (int i = 0; i < count; ++i) values[i] = static_cast<std::int16_t>(values[i] * (1 << shift));
}
}  // namespace

void dequantize(Coefficients& tile, const Quant& quant, BandLayout layout) {
  const auto& bands = bandsOf(layout);
  for (std::size_t b = 0; b < kBands; ++b) {
    if (quant[b] <= 1) continue;
    shiftUp(&tile[static_cast<std::size_t>(bands[b].offset)], bands[b].count(), quant[b] - 1);
  }
}

void inverseTransform(Coefficients& tile, BandLayout layout) {
  const auto& bands = bandsOf(layout);
  std::int16_t wide[2 * 33 * kTileSide];  // rows of low parts, then of high parts, joined across
  Coefficients out;
  for (int level = 3; level >= 1; --level) {
    const Level l = levelOf(layout, level);
    const std::int16_t* hl = &tile[static_cast<std::size_t>(bands[static_cast<std::size_t>(l.first)].offset)];
    const std::int16_t* lh = hl + l.high * l.low;
    const std::int16_t* hh = lh + l.low * l.high;
    const std::int16_t* ll = hh + l.high * l.high;
    std::int16_t* lowRows = wide;
    std::int16_t* highRows = wide + l.low * l.size;
    joinRows(ll, hl, l.low, l, lowRows);
    joinRows(lh, hh, l.high, l, highRows);
    joinColumns(lowRows, highRows, l, out.data());
    std::memcpy(&tile[static_cast<std::size_t>(bands[static_cast<std::size_t>(l.first)].offset)], out.data(),
                static_cast<std::size_t>(l.size * l.size) * 2);
  }
}

/// 3.1.8.1.3 the other way: samples have five bits behind the point, y lies around 128.
KW_VECTOR void toPixels(const Coefficients& y, const Coefficients& cb, const Coefficients& cr, Pixel* out,
                        std::size_t stride) {
  constexpr int kRound = 1 << 18;
  for (int row = 0; row < kTileSide; ++row) {
    const std::int16_t* py = &y[static_cast<std::size_t>(row * kTileSide)];
    const std::int16_t* pb = &cb[static_cast<std::size_t>(row * kTileSide)];
    const std::int16_t* pr = &cr[static_cast<std::size_t>(row * kTileSide)];
    for (int x = 0; x < kTileSide; ++x) {
      const int luma = (py[x] + 4096) * (1 << 14) + kRound;
      const int r = (luma + 22979 * pr[x]) >> 19;
      const int g = (luma - 5632 * pb[x] - 11705 * pr[x]) >> 19;
      const int b = (luma + 28998 * pb[x]) >> 19;
      out[x] = kOpaque | clamped(r) << 16 | clamped(g) << 8 | clamped(b);
    }
    out += stride;
  }
}

void fromPixels(const Pixel* in, std::size_t stride, Coefficients& y, Coefficients& cb, Coefficients& cr) {
  for (int row = 0; row < kTileSide; ++row, in += stride)
    for (int x = 0; x < kTileSide; ++x) {
      const double r = in[x] >> 16 & 255, g = in[x] >> 8 & 255, b = in[x] & 255;
      const auto at = static_cast<std::size_t>(row * kTileSide + x);
      const auto fixed = [](double v) { return static_cast<std::int16_t>(v * 32 + (v < 0 ? -0.5 : 0.5)); };
      y[at] = fixed(0.299 * r + 0.587 * g + 0.114 * b - 128);
      cb[at] = fixed(-0.168935 * r - 0.331665 * g + 0.50059 * b);
      cr[at] = fixed(0.499813 * r - 0.418531 * g - 0.081282 * b);
    }
}

namespace {

/// Splits n samples `step` apart; writes low and high parts.
void split(const std::int16_t* in, std::ptrdiff_t step, const Level& l, std::int16_t* low, std::int16_t* high,
           std::ptrdiff_t outStep) {
  std::array<int, kTileSide + 2> x{};
  for (int i = 0; i < l.size; ++i) x[static_cast<std::size_t>(i)] = in[i * step];
  // Mirrored at the end; with 33 low parts the 65th sample is drawn on, so that the last high part vanishes.
  const auto n = static_cast<std::size_t>(l.size);
  if (l.low == l.high + 2)
    x[n] = 2 * x[n - 1] - x[n - 2];
  else if (l.size % 2 == 0)
    x[n] = x[n - 2];
  std::array<int, kTileSide / 2 + 2> h{};
  for (int i = 0; i < l.high; ++i) {
    const auto at = static_cast<std::size_t>(2 * i);
    h[static_cast<std::size_t>(i)] = (x[at + 1] - ((x[at] + x[at + 2]) >> 1)) >> 1;
  }
  const auto highOf = [&](int i) {
    if (i < 0) return h[0];
    if (i < l.high) return h[static_cast<std::size_t>(i)];
    return l.low == l.high + 2 ? 0 : h[static_cast<std::size_t>(l.high - 1)];
  };
  for (int i = 0; i < l.low; ++i) {
    const int around = l.low == l.high + 2 && i == l.low - 1 ? 0 : (highOf(i - 1) + highOf(i) + 1) >> 1;
    low[i * outStep] = static_cast<std::int16_t>(x[static_cast<std::size_t>(2 * i)] + around);
  }
  for (int i = 0; i < l.high; ++i)
    high[i * outStep] = static_cast<std::int16_t>(h[static_cast<std::size_t>(i)]);
}

}  // namespace

void forwardTransform(Coefficients& tile, BandLayout layout) {
  const auto& bands = bandsOf(layout);
  std::int16_t rows[2 * 33 * kTileSide];
  for (int level = 1; level <= 3; ++level) {
    const Level l = levelOf(layout, level);
    std::int16_t* base = &tile[static_cast<std::size_t>(bands[static_cast<std::size_t>(l.first)].offset)];
    // Down first, so that joining across first undoes it.
    for (int x = 0; x < l.size; ++x) split(base + x, l.size, l, rows + x, rows + l.low * l.size + x, l.size);
    std::int16_t* hl = base;
    std::int16_t* lh = hl + l.high * l.low;
    std::int16_t* hh = lh + l.low * l.high;
    std::int16_t* ll = hh + l.high * l.high;
    for (int y = 0; y < l.low; ++y) split(rows + y * l.size, 1, l, ll + y * l.low, hl + y * l.high, 1);
    for (int y = 0; y < l.high; ++y)
      split(rows + (l.low + y) * l.size, 1, l, lh + y * l.low, hh + y * l.high, 1);
  }
}

void quantize(Coefficients& tile, const Quant& quant, BandLayout layout) {
  const auto& bands = bandsOf(layout);
  for (std::size_t b = 0; b < kBands; ++b) {
    const int shift = std::max(quant[b] - 1, 0), half = shift > 0 ? 1 << (shift - 1) : 0;
    for (int i = 0; i < bands[b].count(); ++i) {
      std::int16_t& v = tile[static_cast<std::size_t>(bands[b].offset + i)];
      v = static_cast<std::int16_t>((v + half) >> shift);
    }
  }
  const Band& low = bands[kLowBand];
  for (int i = low.count() - 1; i > 0; --i)
    tile[static_cast<std::size_t>(low.offset + i)] = static_cast<std::int16_t>(
        tile[static_cast<std::size_t>(low.offset + i)] - tile[static_cast<std::size_t>(low.offset + i - 1)]);
}

}  // namespace kw::rdp
