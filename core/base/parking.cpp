#include "base/parking.hpp"

#include <atomic>
#include <boost/asio/associated_cancellation_slot.hpp>
#include <boost/asio/associated_executor.hpp>
#include <boost/asio/dispatch.hpp>
#include <boost/asio/execution_context.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <mutex>
#include <optional>

namespace kw {

namespace {

class CarPark;

/// A suspended coroutine. Who claims it resumes it, or drops it.
struct Parked {
  Parked(const Executor& on, CarPark& park) : executor(on), carPark(park) {}
  virtual ~Parked() = default;
  Parked(const Parked&) = delete;
  Parked& operator=(const Parked&) = delete;
  /// True for the first one only.
  bool claim() { return !claimed.exchange(true); }
  /// On the executor. True: called on; false: given up.
  virtual void resume(bool called) = 0;
  virtual void drop() = 0;

  const Executor executor;
  CarPark& carPark;
  std::atomic<bool> claimed = false;
  // For the car park: its list, and itself as long as it is in there.
  Parked* before = nullptr;
  Parked* after = nullptr;
  std::shared_ptr<Parked> self;
};

template <typename Handler>
struct ParkedWith final : Parked {
  ParkedWith(Handler&& h, const Executor& on, CarPark& park) : Parked(on, park), handler(std::move(h)) {}
  void resume(bool called) override {
    Handler mine = std::move(*handler);
    handler.reset();
    std::move(mine)(called);
  }
  void drop() override { handler.reset(); }
  std::optional<Handler> handler;
};

/// All that are parked in one context, so that they end with it.
class CarPark : public asio::execution_context::service {
 public:
  using key_type = CarPark;
  static asio::execution_context::id id;
  explicit CarPark(asio::execution_context& context) : service(context) {}
  static CarPark& of(const Executor& executor) {
    return asio::use_service<CarPark>(asio::query(executor, asio::execution::context));
  }

  void add(const std::shared_ptr<Parked>& one) {
    const std::lock_guard held(lock_);
    one->self = one;
    one->after = first_;
    if (first_ != nullptr) first_->before = one.get();
    first_ = one.get();
  }
  /// Does nothing when it is not here any more.
  void remove(Parked& one) {
    std::shared_ptr<Parked> mine;  // goes after the lock
    const std::lock_guard held(lock_);
    mine = std::move(one.self);
    if (!mine) return;
    (one.before != nullptr ? one.before->after : first_) = one.after;
    if (one.after != nullptr) one.after->before = one.before;
  }

 private:
  /// Another context's thread may be calling one on at this moment; it is then that thread's.
  void shutdown() override {
    while (const std::shared_ptr<Parked> one = any()) {
      remove(*one);
      if (one->claim()) one->drop();
    }
  }
  std::shared_ptr<Parked> any() {
    const std::lock_guard held(lock_);
    return first_ != nullptr ? first_->self : nullptr;
  }
  std::mutex lock_;
  Parked* first_ = nullptr;
};

asio::execution_context::id CarPark::id;

/// False when another was faster.
bool resume(const std::shared_ptr<Parked>& parked, bool called, Parking::GoOn how) {
  if (!parked->claim()) return false;
  parked->carPark.remove(*parked);
  auto run = [parked, called] { parked->resume(called); };
  if (how == Parking::GoOn::Here)
    asio::dispatch(parked->executor, std::move(run));
  else
    asio::post(parked->executor, std::move(run));
  return true;
}

}  // namespace

struct Parking::State {
  std::mutex lock;
  bool called = false;
  std::shared_ptr<Parked> parked;

  template <typename Handler>
  void park(Handler handler) {
    auto slot = asio::get_associated_cancellation_slot(handler);
    const Executor on = asio::get_associated_executor(handler);
    CarPark& carPark = CarPark::of(on);
    const auto one = std::make_shared<ParkedWith<Handler>>(std::move(handler), on, carPark);
    carPark.add(one);
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

Parking::Parking() : state_(std::make_shared<State>()) {}
Parking::~Parking() = default;

/// No coroutine itself: that saves a frame, and GCC 12 copies the captures of a lambda wrongly inside an
/// awaited expression.
Task<bool> Parking::wait() {
  auto park = [state = state_](auto handler) { state->park(std::move(handler)); };
  auto token = asio::use_awaitable;
  return asio::async_initiate<asio::use_awaitable_t<>, void(bool)>(std::move(park), token);
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
