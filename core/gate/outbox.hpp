// What is to be told to a browser, in order; one that does not read is given up, instead of piling up.
#pragma once
#include <deque>

#include "base/runtime.hpp"
#include "wire/websocket.hpp"

namespace kw::gate {

/// On one strand.
class Outbox : public std::enable_shared_from_this<Outbox> {
 public:
  static constexpr std::size_t kMostBytes = std::size_t{8} << 20;

  Outbox(const Executor& strand, std::shared_ptr<WebSocket> socket)
      : wake_(strand), socket_(std::move(socket)) {}

  void put(std::string text) {
    if (over_) return;
    waiting_ += text.size();
    if (waiting_ > kMostBytes) return socket_->close();
    texts_.push_back(std::move(text));
    wake_.notify();
  }
  /// After everything that waits.
  void finish(int code, std::string why) {
    if (over_) return;
    code_ = code;
    why_ = std::move(why);
    wake_.notify();
  }
  /// Sends until the socket ends or finish() was called.
  Task<void> run() {
    const auto self = shared_from_this();
    try {
      for (;;) {
        while (!texts_.empty()) {
          std::string text = std::move(texts_.front());
          texts_.pop_front();
          waiting_ -= text.size();
          co_await socket_->sendText(std::move(text));
        }
        if (code_ != 0) break;
        co_await wake_.wait();
      }
      const std::string why = why_;
      co_await socket_->goodbye(code_, why);
    } catch (const std::exception&) {
      // The reader of the same socket tells why it ended.
    }
    over_ = true;
  }
  void stop() {
    over_ = true;
    socket_->close();
    code_ = 1000;
    wake_.notify();
  }

 private:
  Signal wake_;
  std::shared_ptr<WebSocket> socket_;
  std::deque<std::string> texts_;
  std::size_t waiting_ = 0;
  int code_ = 0;
  std::string why_;
  bool over_ = false;
};

}  // namespace kw::gate
