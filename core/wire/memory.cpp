#include <deque>
#include <mutex>

#include "base/error.hpp"
#include "base/runtime.hpp"
#include "wire/stream.hpp"

namespace kw {

namespace {

/// One direction of a pair. Both ends live on one strand, so nothing here is locked.
struct Pipe {
  Pipe(const Executor& on, std::size_t most) : readable(on), writable(on), capacity(most) {}
  Bytes data;
  std::size_t taken = 0;
  bool closed = false;
  Signal readable, writable;
  std::size_t capacity;

  [[nodiscard]] std::size_t waiting() const { return data.size() - taken; }
  void shut() {
    closed = true;
    readable.notify();
    writable.notify();
  }
};

class MemoryStream : public ByteStream {
 public:
  MemoryStream(std::shared_ptr<Pipe> in, std::shared_ptr<Pipe> out)
      : in_(std::move(in)), out_(std::move(out)) {}
  ~MemoryStream() override { close(); }

  Task<std::size_t> readSome(ByteSpan into) override {
    auto in = in_;
    while (in->waiting() == 0) {
      if (in->closed) throw Error(ErrorKind::ClosedByPeer, "closed by the other side", peer());
      co_await in->readable.wait();
    }
    const std::size_t n = std::min(into.size(), in->waiting());
    std::memcpy(into.data(), in->data.data() + in->taken, n);
    in->taken += n;
    if (in->waiting() == 0) {
      in->data.clear();
      in->taken = 0;
    }
    in->writable.notify();
    co_return n;
  }

  Task<void> write(ByteView bytes) override {
    auto out = out_;
    while (!bytes.empty()) {
      if (out->closed) throw Error(ErrorKind::ClosedByPeer, "closed by the other side", peer());
      if (out->waiting() >= out->capacity) {
        co_await out->writable.wait();
        continue;
      }
      const std::size_t n = std::min(bytes.size(), out->capacity - out->waiting());
      out->data.insert(out->data.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
      bytes = bytes.subspan(n);
      out->readable.notify();
    }
  }

  void close() noexcept override {
    in_->shut();
    out_->shut();
  }

  [[nodiscard]] std::string peer() const override { return "memory"; }

 private:
  std::shared_ptr<Pipe> in_, out_;
};

class ReplayStream : public ByteStream {
 public:
  ReplayStream(Bytes bytes, std::size_t most) : bytes_(std::move(bytes)), most_(most) {}
  Task<std::size_t> readSome(ByteSpan into) override {
    if (at_ == bytes_.size() || closed_) throw Error(ErrorKind::ClosedByPeer, "the recording ends", peer());
    const std::size_t n = std::min({into.size(), bytes_.size() - at_, most_});
    std::memcpy(into.data(), bytes_.data() + at_, n);
    at_ += n;
    co_return n;
  }
  Task<void> write(ByteView) override {
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here", peer());
    co_return;
  }
  void close() noexcept override { closed_ = true; }
  [[nodiscard]] std::string peer() const override { return "recording"; }

 private:
  Bytes bytes_;
  std::size_t at_ = 0, most_;
  bool closed_ = false;
};

}  // namespace

std::pair<StreamPtr, StreamPtr> memoryPair(const Executor& on, std::size_t capacity) {
  auto there = std::make_shared<Pipe>(on, capacity), back = std::make_shared<Pipe>(on, capacity);
  return {std::make_unique<MemoryStream>(there, back), std::make_unique<MemoryStream>(back, there)};
}

StreamPtr replayStream(Bytes bytes, std::size_t mostPerRead) {
  return std::make_unique<ReplayStream>(std::move(bytes), mostPerRead);
}

}  // namespace kw
