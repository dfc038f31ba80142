// How many pixels a monitor really has.
#pragma once
#include <QScreen>
#include <cmath>

#include "picture/geometry.hpp"

namespace kw::desktop {

/// Qt tells whole units of its own: with a scale that is no whole number, what they make in pixels is off by
/// up to one. Monitors have an even number, so the nearest one is meant.
inline int monitorPixels(int units, double ratio) {
  const double pixels = units * ratio;
  if (ratio == std::floor(ratio)) return static_cast<int>(pixels);
  return 2 * static_cast<int>(std::lround(pixels / 2));
}

inline Size monitorPixels(const QScreen& monitor) {
  const QSize units = monitor.size();
  const double ratio = monitor.devicePixelRatio();
  return {monitorPixels(units.width(), ratio), monitorPixels(units.height(), ratio)};
}

}  // namespace kw::desktop
