#include "picture/scale.hpp"

#include <cmath>

#include "base/simd.hpp"

namespace kw {

namespace {
constexpr int kWeightBits = 12;
constexpr int kWeightSum = 1 << kWeightBits;

/// Rounds weights to integers that sum to kWeightSum exactly; the largest takes the remainder.
void quantize(const std::vector<double>& exact, std::vector<std::uint16_t>& out) {
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

Scaler::Axis Scaler::makeAxis(int source, int target) {
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
    quantize(exact, axis.weights);
  }
  return axis;
}

Scaler::Scaler(Rect source, Size target)
    : source_(source),
      target_(target),
      across_(makeAxis(source.width, target.width)),
      down_(makeAxis(source.height, target.height)) {}

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

/// sum[i] += channel[i] * weight, for `count` channels.
KW_VECTOR void accumulate(std::uint32_t* sum, const Byte* channels, std::uint32_t weight, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) sum[i] += channels[i] * weight;
}

/// Keeps 8.8 fixed point, so that the second pass rounds only once.
KW_VECTOR void narrow(const std::uint32_t* sum, std::uint16_t* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i)
    out[i] = static_cast<std::uint16_t>(std::min<std::uint32_t>(sum[i] >> (kWeightBits - 8), 0xffff));
}

}  // namespace

void Scaler::scaleRow(const std::uint16_t* blended, int firstColumn, const Rect& part, Pixel* out) const {
  for (int x = part.x; x < part.right(); ++x) {
    const Tap& tap = across_.taps[static_cast<std::size_t>(x)];
    const std::uint16_t* weights = &across_.weights[static_cast<std::size_t>(tap.weight)];
    const std::uint16_t* from = blended + std::ptrdiff_t{tap.first - firstColumn} * 4;
    std::uint32_t blue = 0, green = 0, red = 0;
    for (int i = 0; i < tap.count; ++i, from += 4) {
      blue += from[0] * std::uint32_t{weights[i]};
      green += from[1] * std::uint32_t{weights[i]};
      red += from[2] * std::uint32_t{weights[i]};
    }
    constexpr int shift = kWeightBits + 8;
    constexpr std::uint32_t half = 1U << (shift - 1);
    *out++ = kOpaque | (std::min((red + half) >> shift, 255U) << 16) |
             (std::min((green + half) >> shift, 255U) << 8) | std::min((blue + half) >> shift, 255U);
  }
}

void Scaler::scale(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  if (part.empty()) return;
  const Tap& leftTap = across_.taps[static_cast<std::size_t>(part.x)];
  const Tap& rightTap = across_.taps[static_cast<std::size_t>(part.right() - 1)];
  const int firstColumn = leftTap.first;
  const auto channels = static_cast<std::size_t>(rightTap.first + rightTap.count - firstColumn) * 4;
  std::vector<std::uint32_t> sum(channels);
  std::vector<std::uint16_t> blended(channels);
  for (int y = part.y; y < part.bottom(); ++y) {
    const Tap& tap = down_.taps[static_cast<std::size_t>(y)];
    std::fill(sum.begin(), sum.end(), 0);
    for (int i = 0; i < tap.count; ++i) {
      const Pixel* from = picture.row(source_.y + tap.first + i) + source_.x + firstColumn;
      accumulate(sum.data(), reinterpret_cast<const Byte*>(from),
                 down_.weights[static_cast<std::size_t>(tap.weight + i)], channels);
    }
    narrow(sum.data(), blended.data(), channels);
    scaleRow(blended.data(), firstColumn, part, out + static_cast<std::size_t>(y) * stride + part.x);
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
