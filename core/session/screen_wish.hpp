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
  std::vector<std::size_t> chosen{};  ///< which monitors, counted from 1, the main one first; empty: all
  [[nodiscard]] bool any() const { return count > 0 || likeMonitors; }
};

/// "2, 1" as the setting has it: the numbers in their order, each once; what is none is passed over.
std::vector<std::size_t> chosenMonitors(const std::string& text);
/// Those of `all` that are chosen, in that order; all of them when none is, or none of the chosen is there.
template <typename T>
std::vector<T> chosenOf(const ScreenWish& wish, const std::vector<T>& all) {
  std::vector<T> out;
  for (const std::size_t number : wish.chosen)
    if (number <= all.size()) out.push_back(all[number - 1]);
  return out.empty() ? all : out;
}

/// The plan for Session::arrangeScreens(): as many as are wished and offered, the first ones, without gaps
/// and from 0,0 on. `monitors` are this desk's in their own pixels, the main one first. Empty when nothing is
/// wished or offered, or all lies so already.
std::vector<ScreenOffer> wishedScreens(const ScreenWish& wish, const std::vector<ScreenOffer>& offers,
                                       const std::vector<Rect>& monitors);

}  // namespace kw
