// A thread of its own for calls that block, awaited from coroutines.
#pragma once
#include <boost/asio/thread_pool.hpp>

#include "base/run_on.hpp"

namespace kw {

/// Jobs run one after the other. The destructor waits for the one under way.
class BlockingThread {
 public:
  BlockingThread() = default;
  ~BlockingThread() { pool_.join(); }
  BlockingThread(const BlockingThread&) = delete;
  BlockingThread& operator=(const BlockingThread&) = delete;

  /// Awaits `job` there; exceptions come back. The job must not refer to what may go while it runs.
  template <typename F>
  auto run(F job) -> Task<decltype(job())> {
    co_return co_await runOn(pool_.get_executor(), call(std::move(job)));
  }

 private:
  template <typename F>
  static auto call(F job) -> Task<decltype(job())> {
    co_return job();
  }
  asio::thread_pool pool_{1};
};

}  // namespace kw
