// What somebody calls back, on whichever thread, awaited by a task.
#pragma once
#include <functional>
#include <memory>
#include <optional>

#include "base/runtime.hpp"

namespace kw {

/// Hands `give` something to be called once, and gives what it was called with, on the caller's strand.
/// Whoever never calls leaves the task waiting.
template <typename T>
Task<T> called(std::function<void(std::function<void(T)>)> give) {
  struct Coming {
    explicit Coming(const Executor& on) : arrived(on) {}
    Signal arrived;
    std::optional<T> content;
  };
  const Executor strand = co_await asio::this_coro::executor;
  const auto coming = std::make_shared<Coming>(strand);
  give([coming, strand](T content) {
    post(strand, [coming, content = std::move(content)]() mutable {
      coming->content.emplace(std::move(content));
      coming->arrived.notify();
    });
  });
  while (!coming->content) co_await coming->arrived.wait();
  co_return std::move(*coming->content);
}

}  // namespace kw
