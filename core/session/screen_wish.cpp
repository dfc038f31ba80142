#include "session/screen_wish.hpp"

#include <algorithm>

namespace kw {

namespace {

constexpr Size kUsual{1024, 768};

/// Sizes of screens that are on stay; the others take the first one's.
void placeBeside(std::vector<ScreenOffer>& plan, std::size_t count, ScreensLie lie) {
  const Size first = plan[0].on ? plan[0].area.size() : kUsual;
  Point at;
  for (std::size_t i = 0; i < count; ++i) {
    Rect& area = plan[i].area;
    const Size size = plan[i].on ? area.size() : first;
    if (lie == ScreensLie::Left && i > 0) at.x -= size.width;
    area = {at.x, at.y, size.width, size.height};
    if (lie == ScreensLie::Right) at.x += size.width;
    if (lie == ScreensLie::Below) at.y += size.height;
  }
}

/// So that nothing lies left of 0 or above it.
void moveToOrigin(std::vector<ScreenOffer>& plan, std::size_t count) {
  Point least{plan[0].area.x, plan[0].area.y};
  for (std::size_t i = 0; i < count; ++i)
    least = {std::min(least.x, plan[i].area.x), std::min(least.y, plan[i].area.y)};
  for (std::size_t i = 0; i < count; ++i) plan[i].area = plan[i].area.moved(-least.x, -least.y);
}

}  // namespace

std::vector<std::size_t> chosenMonitors(const std::string& text) {
  constexpr std::size_t kMost = 16;
  std::vector<std::size_t> out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find_first_not_of("0123456789", at), text.size());
    if (end == at) {
      ++at;
      continue;
    }
    const unsigned long number = end - at > 2 ? 0 : std::stoul(text.substr(at, end - at));
    if (number >= 1 && number <= kMost && std::find(out.begin(), out.end(), number) == out.end())
      out.push_back(number);
    at = end;
  }
  return out;
}

std::vector<ScreenOffer> wishedScreens(const ScreenWish& wish, const std::vector<ScreenOffer>& offers,
                                       const std::vector<Rect>& monitors) {
  const std::size_t count = std::min(wish.likeMonitors ? monitors.size() : wish.count, offers.size());
  if (count == 0) return {};
  std::vector<ScreenOffer> plan = offers;
  if (wish.likeMonitors)
    for (std::size_t i = 0; i < count; ++i) plan[i].area = monitors[i];
  else
    placeBeside(plan, count, wish.lie);
  moveToOrigin(plan, count);
  for (std::size_t i = 0; i < plan.size(); ++i) {
    plan[i].on = i < count;
    if (!plan[i].on) plan[i].area = {};
  }
  return plan == offers ? std::vector<ScreenOffer>() : plan;
}

}  // namespace kw
