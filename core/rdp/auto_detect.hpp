// Network characteristics (MS-RDPBCGR 2.2.14): the service measures the line by questions that are answered
// at once, and tells what it found.
#pragma once
#include <chrono>
#include <cstdint>
#include <optional>

#include "base/little.hpp"

namespace kw::rdp {

struct LineFigures {
  std::chrono::milliseconds roundTrip{};  ///< 0: not known
  std::uint32_t kilobitsPerSecond = 0;    ///< 0: not known
};

class AutoDetect {
 public:
  /// A request without its security header; `bytesIn` counts everything that came so far. The answer, if it
  /// wants one. Throws Error{ProtocolBroken}.
  std::optional<Bytes> take(ByteView request, std::uint64_t bytesIn, std::chrono::nanoseconds now);
  [[nodiscard]] const LineFigures& found() const { return found_; }

 private:
  LineFigures found_;
  std::uint64_t bytesAtStart_ = 0;
  std::chrono::nanoseconds started_{};
};

/// 2.2.14.1.1: a server's question for the round trip, and 2.2.14.1.5: what it found.
Bytes writeRoundTripRequest(unsigned sequence);
Bytes writeLineFigures(unsigned sequence, const LineFigures& figures);

}  // namespace kw::rdp
