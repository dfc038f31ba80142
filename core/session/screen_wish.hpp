// Which screens a machine is asked for when it is shown, and where they are to lie.
#pragma once
#include <vector>

#include "session/session.hpp"

namespace kw {

enum class ScreensLie { Right, Left, Below };

struct ScreenWish {
  std::size_t count = 0;      ///< 0: as the machine has them
  bool likeMonitors = false;  ///< as many and as large as this desk's; `count` and `lie` do not matter then
  ScreensLie lie = ScreensLie::Right;
  [[nodiscard]] bool any() const { return count > 0 || likeMonitors; }
};

/// The plan for Session::arrangeScreens(): as many as are wished and offered, the first ones, without gaps
/// and from 0,0 on. `monitors` are this desk's in their own pixels, the main one first. Empty when nothing is
/// wished or offered, or all lies so already.
std::vector<ScreenOffer> wishedScreens(const ScreenWish& wish, const std::vector<ScreenOffer>& offers,
                                       const std::vector<Rect>& monitors);

}  // namespace kw
