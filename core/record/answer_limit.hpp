// A connection that does not answer is ended, so that whoever waits for it gets an error instead.
#pragma once
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <optional>
#include <thread>

namespace kw {

/// One stretch of work at a time. Its thread runs from the first one on.
class AnswerLimit {
 public:
  AnswerLimit() = default;
  AnswerLimit(const AnswerLimit&) = delete;
  ~AnswerLimit();

  /// While it lives, the limit counts; when it has run out, the socket is shut down both ways.
  class Held {
   public:
    Held(AnswerLimit& limit, int socket, std::chrono::nanoseconds most) : limit_(limit) {
      limit_.begin(socket, most);
    }
    ~Held() { limit_.end(); }
    Held(const Held&) = delete;

   private:
    AnswerLimit& limit_;
  };
  /// Of the last stretch.
  [[nodiscard]] bool ranOut();

 private:
  void begin(int socket, std::chrono::nanoseconds most);
  void end();
  void run();

  std::mutex mutex_;
  std::condition_variable changed_;
  std::optional<std::chrono::steady_clock::time_point> until_;
  int socket_ = -1;  ///< a duplicate of our own, so that it stays what it is until end()
  bool ranOut_ = false, over_ = false;
  std::thread thread_;
};

}  // namespace kw
