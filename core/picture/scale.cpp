#include "picture/scale.hpp"

#include <array>
#include <cmath>
#include <utility>

#include "picture/scale_kernels.hpp"

namespace kw {

namespace {
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

/// The middle of each target pixel lies between the middles of two of the source.
Scaler::Between Scaler::makeBetween(int source, int target, int whole, int most) {
  Between between;
  for (int t = 0; t < target; ++t) {
    const double at = std::clamp((t + 0.5) * source / target - 0.5, 0.0, source - 1.0);
    const int first = std::min(static_cast<int>(at), source - 2);
    between.first.push_back(static_cast<std::uint32_t>(first));
    const int share = static_cast<int>(std::lround((at - first) * whole));
    between.share.push_back(static_cast<std::uint16_t>(std::min(share, most)));
  }
  return between;
}

Scaler::Scaler(Rect source, Size target)
    : source_(source),
      target_(target),
      grows_(source.width >= 2 && source.height >= 2 && target.width >= source.width &&
             target.height >= source.height) {
  if (grows_) {
    columns_ = makeBetween(source.width, target.width, kGrowAcross, kGrowAcross);
    for (std::uint16_t& s : columns_.share) s = static_cast<std::uint16_t>((kGrowAcross - s) | s << 8);
    rows_ = makeBetween(source.height, target.height, 1 << kGrowDownBits, (1 << kGrowDownBits) - 1);
  } else {
    across_ = makeAxis(source.width, target.width, kAcrossBits);
    down_ = makeAxis(source.height, target.height, kDownBits);
  }
}

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

void Scaler::scale(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  if (part.empty()) return;
  const bool half = source_.width == 2 * target_.width && source_.height == 2 * target_.height;
  if (grows_)
    grow(picture, part, out, stride);
  else
    half ? halve(picture, part, out, stride) : blend(picture, part, out, stride);
}

/// Across first: a row of the source serves several rows of the target.
void Scaler::grow(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  const ScaleKernels& kernels = scaleKernels();
  const auto x = static_cast<std::size_t>(part.x), count = static_cast<std::size_t>(part.width);
  struct Wide {
    std::ptrdiff_t row = -1;
    std::vector<std::uint16_t> channels;
  };
  std::array<Wide, 2> made;
  const auto wide = [&](std::ptrdiff_t row) {
    Wide& it = made[static_cast<std::size_t>(row) % 2];
    if (std::exchange(it.row, row) != row) {
      it.channels.resize(count * 4);
      kernels.growRow(picture.row(source_.y + static_cast<int>(row)) + source_.x, &columns_.first[x],
                      &columns_.share[x], it.channels.data(), count);
    }
    return it.channels.data();
  };
  for (int y = part.y; y < part.bottom(); ++y) {
    const auto first = static_cast<std::ptrdiff_t>(rows_.first[static_cast<std::size_t>(y)]);
    kernels.mixRows(wide(first), wide(first + 1),
                    static_cast<std::int16_t>(rows_.share[static_cast<std::size_t>(y)]),
                    out + static_cast<std::size_t>(y) * stride + part.x, count);
  }
}

/// What the filter comes to when every target pixel is four of the source.
void Scaler::halve(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  const ScaleKernels& kernels = scaleKernels();
  const auto row = [&](int y) { return picture.row(source_.y + y) + source_.x + std::ptrdiff_t{2} * part.x; };
  for (int y = part.y; y < part.bottom(); ++y)
    kernels.halveRow(row(2 * y), row(2 * y + 1), out + static_cast<std::size_t>(y) * stride + part.x,
                     static_cast<std::size_t>(part.width));
}

void Scaler::blend(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const {
  const ScaleKernels& kernels = scaleKernels();
  const Tap& leftTap = across_.taps[static_cast<std::size_t>(part.x)];
  const Tap& rightTap = across_.taps[static_cast<std::size_t>(part.right() - 1)];
  const int firstColumn = leftTap.first;
  const auto channels = static_cast<std::size_t>(rightTap.first + rightTap.count - firstColumn) * 4;
  ScaleColumns columns;
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
  std::vector<const Byte*> rows;
  for (int y = part.y; y < part.bottom(); ++y) {
    const Tap& tap = down_.taps[static_cast<std::size_t>(y)];
    rows.clear();
    for (int i = 0; i < tap.count; ++i)
      rows.push_back(
          reinterpret_cast<const Byte*>(picture.row(source_.y + tap.first + i) + source_.x + firstColumn));
    kernels.sumRows(blended.data(), rows, &down_.weights[static_cast<std::size_t>(tap.weight)], channels);
    kernels.blendColumns(columns, blended.data(), out + static_cast<std::size_t>(y) * stride + part.x);
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
