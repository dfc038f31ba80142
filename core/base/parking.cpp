#include "base/parking.hpp"

#include <boost/asio/associated_cancellation_slot.hpp>
#include <boost/asio/associated_executor.hpp>
#include <boost/asio/dispatch.hpp>
#include <boost/asio/execution_context.hpp>
#include <boost/asio/executor_work_guard.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <functional>
#include <mutex>
#include <set>

#include "base/error.hpp"

namespace kw {

namespace {

/// A suspended coroutine. Whoever takes `resume` out resumes it, or drops it.
class Parked {
 public:
  /// True: called on; false: given up.
  using Resume = std::function<void(bool)>;
  Parked(Executor on, Resume resume) : work_(asio::make_work_guard(on)), resume_(std::move(resume)) {}
  /// Empty when another was faster.
  Resume take() {
    const std::lock_guard held(lock_);
    return std::exchange(resume_, {});
  }
  [[nodiscard]] Executor executor() const { return work_.get_executor(); }

 private:
  asio::executor_work_guard<Executor> work_;  ///< its context has something to wait for
  std::mutex lock_;
  Resume resume_;
};

/// All that are parked in one context, so that they end with it.
class CarPark : public asio::execution_context::service {
 public:
  using key_type = CarPark;
  static asio::execution_context::id id;
  explicit CarPark(asio::execution_context& context) : service(context) {}

  void add(const std::shared_ptr<Parked>& one) {
    const std::lock_guard held(lock_);
    all_.insert(one);
  }
  void remove(const std::shared_ptr<Parked>& one) {
    const std::lock_guard held(lock_);
    all_.erase(one);
  }

 private:
  void shutdown() override {
    std::set<std::shared_ptr<Parked>> all;
    {
      const std::lock_guard held(lock_);
      all.swap(all_);
    }
    for (const auto& one : all) one->take();  // the coroutine's frame goes with what is returned
  }
  std::mutex lock_;
  std::set<std::shared_ptr<Parked>> all_;
};

asio::execution_context::id CarPark::id;

CarPark& carParkOf(const Executor& executor) {
  return asio::use_service<CarPark>(asio::query(executor, asio::execution::context));
}

/// False when it was resumed already.
bool resume(const std::shared_ptr<Parked>& parked, bool called, Parking::GoOn how) {
  Parked::Resume go = parked->take();
  if (!go) return false;
  const Executor on = parked->executor();
  carParkOf(on).remove(parked);
  auto run = [go = std::move(go), called, work = asio::make_work_guard(on)] { go(called); };
  if (how == Parking::GoOn::Here)
    asio::dispatch(on, std::move(run));
  else
    asio::post(on, std::move(run));
  return true;
}

}  // namespace

struct Parking::State {
  std::mutex lock;
  bool called = false;
  std::shared_ptr<Parked> parked;

  /// True: called on; false: given up.
  static Task<bool> untilResumed(std::shared_ptr<State> state, Executor here);
  template <typename Handler>
  void park(Handler&& handler, Executor on) {
    auto slot = asio::get_associated_cancellation_slot(handler);
    auto held = std::make_shared<std::decay_t<Handler>>(std::forward<Handler>(handler));
    auto one = std::make_shared<Parked>(on, [held](bool byCall) { std::move (*held)(byCall); });
    carParkOf(on).add(one);
    if (slot.is_connected())
      slot.assign([weak = std::weak_ptr<Parked>(one)](asio::cancellation_type) {
        if (const auto waits = weak.lock()) resume(waits, false, GoOn::Later);
      });
    bool already = false;
    {
      const std::lock_guard guard(lock);
      already = std::exchange(called, false);
      if (!already) parked = one;
    }
    if (already) resume(one, true, GoOn::Later);
  }
};

/// No coroutine itself: GCC 12 copies the captures of a lambda wrongly inside an awaited expression.
Task<bool> Parking::State::untilResumed(std::shared_ptr<State> state, Executor here) {
  auto park = [state = std::move(state), here](auto&& handler) {
    state->park(std::forward<decltype(handler)>(handler), here);
  };
  auto token = asio::use_awaitable;
  return asio::async_initiate<asio::use_awaitable_t<>, void(bool)>(std::move(park), token);
}

Parking::Parking() : state_(std::make_shared<State>()) {}
Parking::~Parking() = default;

Task<void> Parking::wait() {
  const auto state = state_;
  {
    const std::lock_guard held(state->lock);
    if (std::exchange(state->called, false)) co_return;
  }
  const Executor here = co_await asio::this_coro::executor;
  auto task = State::untilResumed(state, here);
  const bool called = co_await std::move(task);
  if (!called) throw Error(ErrorKind::Cancelled, "cancelled");
}

void Parking::callOn(GoOn how) {
  const auto state = state_;
  for (;;) {
    std::shared_ptr<Parked> one;
    {
      const std::lock_guard held(state->lock);
      one = std::exchange(state->parked, nullptr);
      if (!one) state->called = true;
    }
    // One that was given up is still there; the call is then for the next.
    if (!one || resume(one, true, how)) return;
  }
}

}  // namespace kw
