#include "base/runtime.hpp"

#include <boost/asio/bind_executor.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/deferred.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/experimental/parallel_group.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/strand.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <list>
#include <mutex>
#include <thread>

#include "base/clock.hpp"
#include "base/error.hpp"

namespace kw {

namespace {

/// Ends its pending tasks before its memory goes.
struct PrivateContext : asio::io_context {
  using asio::execution_context::shutdown;
};

/// Another thread that has just posted an outcome here may still hold this context's executor for an instant.
/// So the memory stays until many others have come after it.
void keepForAWhile(std::unique_ptr<PrivateContext> context) {
  static std::mutex lock;
  // Never destroyed: at the end of the program, threads of others may still be about.
  static auto& kept =
      *new std::list<std::pair<std::chrono::steady_clock::time_point, std::unique_ptr<PrivateContext>>>;
  const auto now = std::chrono::steady_clock::now();
  const std::lock_guard held(lock);
  kept.emplace_back(now, std::move(context));
  while (kept.size() > 32 && now - kept.front().first > std::chrono::seconds(2)) kept.pop_front();
}

}  // namespace

struct Runtime::State {
  std::unique_ptr<PrivateContext> context = std::make_unique<PrivateContext>();
  asio::executor_work_guard<asio::io_context::executor_type> guard{context->get_executor()};
  std::vector<std::thread> threads;
};

Runtime::Runtime(unsigned threads) : state_(std::make_unique<State>()) {
  for (unsigned i = 0; i < threads; ++i)
    state_->threads.emplace_back([context = state_->context.get()] { context->run(); });
}

Runtime::~Runtime() {
  stop();
  state_->context->shutdown();
  keepForAWhile(std::move(state_->context));
}

Executor Runtime::strand() { return asio::make_strand(*state_->context); }

void Runtime::stop() {
  state_->guard.reset();
  state_->context->stop();
  for (auto& thread : state_->threads)
    if (thread.joinable()) thread.join();
  state_->threads.clear();
}

namespace {
/// Keeps the callable alive as long as the coroutine that was made by calling it.
Task<void> holdAndRun(std::function<Task<void>()> task) { co_await task(); }
}  // namespace

void spawn(const Executor& on, std::function<Task<void>()> task,
           std::function<void(std::exception_ptr)> done) {
  asio::co_spawn(on, holdAndRun(std::move(task)), [done = std::move(done)](std::exception_ptr failure) {
    if (done) done(failure);
  });
}

void post(const Executor& on, std::function<void()> what) { asio::post(on, std::move(what)); }

void runToEnd(std::function<Task<void>()> task) {
  auto context = std::make_unique<PrivateContext>();
  std::exception_ptr failure;
  asio::co_spawn(*context, holdAndRun(std::move(task)), [&, c = context.get()](std::exception_ptr e) {
    failure = e;
    c->stop();
  });
  context->run();
  context->shutdown();
  keepForAWhile(std::move(context));
  if (failure) std::rethrow_exception(failure);
}

struct Signal::State {
  explicit State(const Executor& on) : timer(on) {}
  asio::steady_timer timer;
  bool raised = false;
};

Signal::Signal(const Executor& on) : state_(std::make_shared<State>(on)) {}
Signal::~Signal() { state_->timer.cancel(); }

Task<void> Signal::wait() {
  auto state = state_;
  while (!state->raised) {
    boost::system::error_code ignored;
    state->timer.expires_at(asio::steady_timer::time_point::max());
    co_await state->timer.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
    if ((co_await asio::this_coro::cancellation_state).cancelled() != asio::cancellation_type::none)
      throw Error(ErrorKind::Cancelled, "cancelled");
  }
  state->raised = false;
}

void Signal::notify() {
  state_->raised = true;
  state_->timer.cancel();
}

namespace {

class SystemClock : public Clock {
 public:
  [[nodiscard]] TimePoint now() const override { return std::chrono::steady_clock::now(); }
  Task<void> sleep(Duration howLong) override {
    asio::steady_timer timer(co_await asio::this_coro::executor, howLong);
    co_await timer.async_wait(asio::use_awaitable);
  }
};

Task<void> sleepThenThrow(Duration limit, std::string what) {
  co_await systemClock()->sleep(limit);
  throw Error(ErrorKind::TimedOut,
              "no answer within " +
                  std::to_string(std::chrono::duration_cast<std::chrono::milliseconds>(limit).count()) +
                  " ms",
              what);
}

}  // namespace

// Asio's own operator|| goes on waiting when one side fails; a session must not.
Task<void> firstOf(Task<void> a, Task<void> b) {
  const Executor here = co_await asio::this_coro::executor;
  auto group = asio::experimental::make_parallel_group(asio::co_spawn(here, std::move(a), asio::deferred),
                                                       asio::co_spawn(here, std::move(b), asio::deferred));
  auto [order, failureA, failureB] =
      co_await group.async_wait(asio::experimental::wait_for_one(), asio::use_awaitable);
  const std::exception_ptr failure = order[0] == 0 ? failureA : failureB;
  if (failure) std::rethrow_exception(failure);
}

Task<void> within(Duration limit, std::string what, Task<void> task) {
  co_await firstOf(std::move(task), sleepThenThrow(limit, std::move(what)));
}

std::shared_ptr<Clock> systemClock() {
  static auto clock = std::make_shared<SystemClock>();
  return clock;
}

struct ManualClock::State {
  struct Sleeper {
    TimePoint due;
    std::shared_ptr<asio::steady_timer> timer;
    bool released = false;
  };
  mutable std::mutex mutex;
  TimePoint now{std::chrono::seconds(1)};
  std::list<std::shared_ptr<Sleeper>> sleepers;
};

ManualClock::ManualClock() : state_(std::make_shared<State>()) {}
ManualClock::~ManualClock() = default;

TimePoint ManualClock::now() const {
  std::lock_guard lock(state_->mutex);
  return state_->now;
}

Task<void> ManualClock::sleep(Duration howLong) {
  auto state = state_;
  auto executor = co_await asio::this_coro::executor;
  auto sleeper = std::make_shared<State::Sleeper>();
  sleeper->timer = std::make_shared<asio::steady_timer>(executor, asio::steady_timer::time_point::max());
  {
    std::lock_guard lock(state->mutex);
    if (howLong <= Duration::zero()) co_return;
    sleeper->due = state->now + std::chrono::duration_cast<std::chrono::steady_clock::duration>(howLong);
    state->sleepers.push_back(sleeper);
  }
  boost::system::error_code ignored;
  co_await sleeper->timer->async_wait(asio::redirect_error(asio::use_awaitable, ignored));
  std::lock_guard lock(state->mutex);
  state->sleepers.remove(sleeper);
  if (!sleeper->released) throw Error(ErrorKind::Cancelled, "cancelled");
}

void ManualClock::advance(Duration howFar) {
  std::lock_guard lock(state_->mutex);
  state_->now += std::chrono::duration_cast<std::chrono::steady_clock::duration>(howFar);
  for (auto& sleeper : state_->sleepers) {
    if (sleeper->due > state_->now || sleeper->released) continue;
    sleeper->released = true;
    asio::post(sleeper->timer->get_executor(), [timer = sleeper->timer] {
      timer->expires_at(asio::steady_timer::time_point::min());
      timer->cancel();
    });
  }
}

std::size_t ManualClock::sleepers() const {
  std::lock_guard lock(state_->mutex);
  return static_cast<std::size_t>(std::count_if(state_->sleepers.begin(), state_->sleepers.end(),
                                                [](const auto& s) { return !s->released; }));
}

std::string messageOf(const std::exception_ptr& failure) {
  try {
    if (failure) std::rethrow_exception(failure);
  } catch (const std::exception& e) {
    return e.what();
  } catch (...) {
    return "unknown failure";
  }
  return {};
}

}  // namespace kw
