// From running totals of an engine to the figures of the last second.
#pragma once
#include <algorithm>
#include <map>

#include "session/session.hpp"

namespace kw {

class FrameCounter {
 public:
  /// `forms`: how many rectangles came so far in each form, by its name.
  Figures since(double seconds, std::uint64_t bytesIn, std::uint64_t bytesOut, std::uint64_t frames,
                const std::map<std::string, std::uint64_t>& forms, std::chrono::nanoseconds keyToPicture) {
    if (bytesIn < before_.bytesIn) before_ = {}, seen_.clear();
    Figures f;
    f.bytesIn = bytesIn, f.bytesOut = bytesOut, f.frames = frames, f.keyToPicture = keyToPicture;
    f.framesPerSecond = static_cast<double>(frames - before_.frames) / seconds;
    f.bytesInPerSecond = static_cast<double>(bytesIn - before_.bytesIn) / seconds;
    f.bytesOutPerSecond = static_cast<double>(bytesOut - before_.bytesOut) / seconds;
    f.encodings = fresh(forms);
    if (f.encodings.empty()) f.encodings = before_.encodings;
    before_ = f;
    return f;
  }

 private:
  /// The forms of the last second, most used first.
  std::string fresh(const std::map<std::string, std::uint64_t>& now) {
    std::vector<std::pair<std::uint64_t, std::string>> list;
    for (const auto& [form, count] : now)
      if (count > seen_[form]) list.emplace_back(count - seen_[form], form);
    seen_ = now;
    std::sort(list.rbegin(), list.rend());
    std::string text;
    for (const auto& [count, form] : list) text += (text.empty() ? "" : " + ") + form;
    return text;
  }
  Figures before_;
  std::map<std::string, std::uint64_t> seen_;
};

}  // namespace kw
