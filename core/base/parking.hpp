// Where a coroutine waits until another thread calls it on.
#pragma once
#include <memory>

#include "base/task.hpp"

namespace kw {

/// One coroutine at a time waits, on its own executor; any thread calls it on. A call that comes while nobody
/// waits is kept for the next one who does.
class Parking {
 public:
  enum class GoOn {
    Later,  ///< on the waiting one's executor, when that has time
    Here,   ///< inside callOn() if that executor may run on this thread now, else later
  };

  Parking();
  ~Parking();  ///< nobody may be waiting any more
  Parking(const Parking&) = delete;
  Parking& operator=(const Parking&) = delete;

  /// True when called on, false when given up: who was called on first gets true, and no call is lost. What
  /// still waits when its context ends is dropped with it.
  Task<bool> wait();
  void callOn(GoOn how = GoOn::Later);

 private:
  struct State;
  std::shared_ptr<State> state_;
};

}  // namespace kw
