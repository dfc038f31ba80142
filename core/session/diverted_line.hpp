// While a file transfer or the line doctor has a line, what comes goes to it instead of to the terminal.
#pragma once
#include <algorithm>
#include <deque>

#include "base/error.hpp"
#include "base/runtime.hpp"
#include "wire/stream.hpp"

namespace kw {

class DivertedLine : public ByteStream {
 public:
  DivertedLine(const Executor& on, std::function<Task<void>(Bytes)> write, std::string peer)
      : came_(on), write_(std::move(write)), peer_(std::move(peer)) {}

  /// What the line said. More than a megabyte that nobody reads is dropped.
  void give(ByteView bytes) {
    if (have_.size() < (1U << 20)) have_.insert(have_.end(), bytes.begin(), bytes.end());
    came_.notify();
  }
  Task<std::size_t> readSome(ByteSpan into) override {
    while (have_.empty() && !closed_) co_await came_.wait();
    if (have_.empty()) throw Error(ErrorKind::ClosedByPeer, "the line is gone", peer_);
    const std::size_t n = std::min(into.size(), have_.size());
    std::copy_n(have_.begin(), n, into.begin());
    have_.erase(have_.begin(), have_.begin() + static_cast<std::ptrdiff_t>(n));
    co_return n;
  }
  Task<void> write(ByteView bytes) override {
    Bytes copy(bytes.begin(), bytes.end());
    return write_(std::move(copy));
  }
  void close() noexcept override {
    closed_ = true;
    came_.notify();
  }
  [[nodiscard]] std::string peer() const override { return peer_; }

 private:
  Signal came_;
  std::function<Task<void>(Bytes)> write_;
  std::string peer_;
  std::deque<Byte> have_;
  bool closed_ = false;
};

}  // namespace kw
