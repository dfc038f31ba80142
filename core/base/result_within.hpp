// within() for tasks that give something.
#pragma once
#include <optional>

#include "base/runtime.hpp"

namespace kw {

template <typename T>
Task<T> resultWithin(std::chrono::nanoseconds limit, std::string what, Task<T> task) {
  std::optional<T> out;
  const auto run = [&]() -> Task<void> { out = co_await std::move(task); };
  co_await within(limit, std::move(what), run());
  co_return std::move(*out);
}

}  // namespace kw
