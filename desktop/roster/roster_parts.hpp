// Measures and words that painting the roster and clicking into it share.
#pragma once
#include <QString>

#include "record/catalogue.hpp"
#include "record/model.hpp"

namespace kw::desktop {

inline constexpr int kHeadingHeight = 30, kMachineHeight = 61;
inline constexpr int kTextLeft = 36;

inline QString chipText(const Endpoint& e) {
  const std::string scheme = e.scheme();
  const WayKind* known = findWayKind(scheme);
  const std::string chip = known == nullptr ? scheme : known->chip;
  // A console by the side of the machine's own desktop, both by one protocol, is told apart by its name.
  return QString::fromStdString(e.label == "console" ? chip + " console" : chip);
}

}  // namespace kw::desktop
