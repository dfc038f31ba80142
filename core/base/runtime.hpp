// The threads everything runs on, and the small tools that coroutines need beside them.
#pragma once
#include <chrono>
#include <functional>
#include <memory>

#include "base/task.hpp"

namespace kw {

/// An io_context on a few threads. Destroying it ends the threads; pending tasks are dropped.
class Runtime {
 public:
  explicit Runtime(unsigned threads = 2);
  ~Runtime();
  Runtime(const Runtime&) = delete;
  Runtime& operator=(const Runtime&) = delete;

  /// Tasks on one strand never run at the same time.
  [[nodiscard]] Executor strand();
  void stop();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Starts a task; `done` gets its failure, or null.
void spawn(const Executor& on, std::function<Task<void>()> task,
           std::function<void(std::exception_ptr)> done = {});
/// Runs `what` on the executor, later.
void post(const Executor& on, std::function<void()> what);
/// Runs a task to its end on a private context of this thread. For tests and the command line.
void runToEnd(std::function<Task<void>()> task);

/// A level-triggered wake-up between tasks of one strand: notify() lets one or all waiters go on.
class Signal {
 public:
  explicit Signal(const Executor& on);
  ~Signal();
  Task<void> wait();
  void notify();

 private:
  struct State;
  std::shared_ptr<State> state_;
};

/// Awaits whichever ends first, well or with an exception; the other is cancelled and its outcome dropped.
Task<void> firstOf(Task<void> a, Task<void> b);

/// Awaits `task`, but at most `limit` of real time; then throws Error{TimedOut, what}.
Task<void> within(std::chrono::nanoseconds limit, std::string what, Task<void> task);

/// The sentence of a failure caught as exception_ptr.
std::string messageOf(const std::exception_ptr& failure);

}  // namespace kw
