#include "picture/black.hpp"

#include <algorithm>

namespace kw {

bool isBlack(const Framebuffer& picture) {
  constexpr Pixel kMoreThanNearlyBlack = 0x00f0f0f0;
  const auto lock = picture.lock();
  for (int y = 0; y < picture.size().height; ++y) {
    const Pixel* row = picture.row(y);
    if (std::any_of(row, row + picture.size().width, [](Pixel p) { return (p & kMoreThanNearlyBlack) != 0; }))
      return false;
  }
  return true;
}

}  // namespace kw
