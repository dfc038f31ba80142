// The way to an object of the interface thread for what other threads still have under way: it may be gone by
// then.
#pragma once
#include <QObject>
#include <functional>
#include <mutex>

namespace kw::desktop {

/// Shared by the object, which closes it in its destructor, and by whoever tells it something.
template <typename T>
class Mailbox {
 public:
  explicit Mailbox(T* target) : target_(target) {}
  void close() {
    const std::lock_guard held(mutex_);
    target_ = nullptr;
  }
  /// From any thread: calls `what` on the object's own, later, unless it is gone.
  void put(std::function<void(T&)> what) {
    const std::lock_guard held(mutex_);
    if (target_ == nullptr) return;
    QMetaObject::invokeMethod(
        target_, [target = target_, what = std::move(what)] { what(*target); }, Qt::QueuedConnection);
  }

 private:
  std::mutex mutex_;
  T* target_;
};

}  // namespace kw::desktop
