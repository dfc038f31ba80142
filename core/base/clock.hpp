// Time is injected, so that delays and retries are tested without waiting.
#pragma once
#include <chrono>
#include <memory>

#include "base/task.hpp"

namespace kw {

using Duration = std::chrono::nanoseconds;
using TimePoint = std::chrono::steady_clock::time_point;
using namespace std::chrono_literals;

class Clock {
 public:
  virtual ~Clock() = default;
  [[nodiscard]] virtual TimePoint now() const = 0;
  /// Returns when `how long` has passed on this clock, or earlier (with an exception) when the task is
  /// cancelled.
  virtual Task<void> sleep(Duration howLong) = 0;
};

/// The machine's steady clock.
std::shared_ptr<Clock> systemClock();

/// A clock that stands still until advance() is called. Thread-safe.
class ManualClock : public Clock {
 public:
  ManualClock();
  ~ManualClock() override;
  [[nodiscard]] TimePoint now() const override;
  Task<void> sleep(Duration howLong) override;
  void advance(Duration howFar);
  /// How many tasks sleep now, and when the next of them is due (relative to now()).
  [[nodiscard]] std::size_t sleepers() const;

 private:
  struct State;
  std::shared_ptr<State> state_;
};

}  // namespace kw
