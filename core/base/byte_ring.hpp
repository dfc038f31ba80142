// Bytes from one thread to another without a lock: one side puts, the other takes.
#pragma once
#include <algorithm>
#include <atomic>
#include <cstring>
#include <memory>

#include "base/bytes.hpp"

namespace kw {

/// Of a fixed size. put() and room() belong to one thread at a time, take() to another (or
/// the same); lies() may be called by either.
class ByteRing {
 public:
  explicit ByteRing(std::size_t size) : size_(size), bytes_(new Byte[size]) {}

  /// How many of the bytes found room.
  std::size_t put(ByteView bytes) {
    const std::size_t at = put_.load(std::memory_order_relaxed);
    const std::size_t n = std::min(bytes.size(), room());
    const std::size_t first = std::min(n, size_ - at % size_);
    copy(bytes_.get() + at % size_, bytes.data(), first);
    copy(bytes_.get(), bytes.data() + first, n - first);
    put_.store(at + n, std::memory_order_seq_cst);
    return n;
  }
  /// How many bytes there were; at most as many as fit.
  std::size_t take(ByteSpan into) {
    const std::size_t at = taken_.load(std::memory_order_relaxed);
    const std::size_t n = std::min(into.size(), put_.load(std::memory_order_acquire) - at);
    const std::size_t first = std::min(n, size_ - at % size_);
    copy(into.data(), bytes_.get() + at % size_, first);
    copy(into.data() + first, bytes_.get(), n - first);
    taken_.store(at + n, std::memory_order_seq_cst);
    return n;
  }
  [[nodiscard]] std::size_t lies() const {
    const std::size_t taken = taken_.load(std::memory_order_seq_cst);
    return put_.load(std::memory_order_seq_cst) - taken;
  }
  [[nodiscard]] std::size_t room() const {
    return size_ - (put_.load(std::memory_order_relaxed) - taken_.load(std::memory_order_acquire));
  }

 private:
  static void copy(Byte* to, const Byte* from, std::size_t n) {
    if (n > 0) std::memcpy(to, from, n);
  }
  std::size_t size_;
  std::unique_ptr<Byte[]> bytes_;
  alignas(64) std::atomic<std::size_t> put_ = 0;    ///< all that ever came
  alignas(64) std::atomic<std::size_t> taken_ = 0;  ///< all that ever went
};

}  // namespace kw
