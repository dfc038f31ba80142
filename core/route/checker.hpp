// Looks whether something answers at an address, without signing in: for the roster and the route.
#pragma once
#include <chrono>
#include <optional>
#include <string>

#include "base/error.hpp"
#include "base/task.hpp"
#include "record/address.hpp"

namespace kw {

struct CheckResult {
  bool answers = false;  ///< the service said what such a service says first
  bool listens = false;  ///< a connection came about
  bool untried = false;  ///< not touched: only one can use it at a time, or it lies behind a jump
  std::optional<ErrorKind> problem;
  std::string sentence;  ///< "answers in 4 ms", "refused: nothing listens there"
  std::chrono::nanoseconds took{};
};

/// Never throws. For vnc the server's version line is awaited, too.
Task<CheckResult> checkAddress(Address address, std::chrono::nanoseconds limit);

}  // namespace kw
