// Moments as text: ISO 8601, UTC.
#pragma once
#include <ctime>
#include <string>

namespace kw {

inline std::string isoText(const std::tm& utc) {
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &utc);
  return text;
}

/// "2026-11-26T08:12:30Z"
inline std::string nowText() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  return isoText(parts);
}

}  // namespace kw
