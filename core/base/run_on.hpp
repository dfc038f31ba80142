// Awaits a task on another executor. The task is not cancelled when the caller is: Asio 1.81 hands a
// cancellation over with a bare pointer, which may be gone by then. So whoever needs to be quick must end the
// task's own waiting.
#pragma once
#include <boost/asio/bind_cancellation_slot.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/use_awaitable.hpp>

#include "base/task.hpp"

namespace kw {

template <typename T>
Task<T> runOn(Executor on, Task<T> task) {
  co_return co_await asio::co_spawn(
      on, std::move(task), asio::bind_cancellation_slot(asio::cancellation_slot(), asio::use_awaitable));
}

}  // namespace kw
