// A stream that tells how much passes, for the audit.
#pragma once
#include <functional>

#include "wire/stream.hpp"

namespace kw::gate {

class CountedStream : public ByteStream {
 public:
  using Count = std::function<void(std::size_t bytes)>;
  CountedStream(StreamPtr below, Count came, Count went)
      : below_(std::move(below)), came_(std::move(came)), went_(std::move(went)) {}
  Task<std::size_t> readSome(ByteSpan into) override {
    const std::size_t n = co_await below_->readSome(into);
    came_(n);
    co_return n;
  }
  Task<void> write(ByteView bytes) override {
    co_await below_->write(bytes);
    went_(bytes.size());
  }
  void close() noexcept override { below_->close(); }
  [[nodiscard]] bool sealed() const override { return below_->sealed(); }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }

 private:
  StreamPtr below_;
  Count came_, went_;
};

}  // namespace kw::gate
