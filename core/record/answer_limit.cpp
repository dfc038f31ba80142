#include "record/answer_limit.hpp"

#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

namespace kw {

AnswerLimit::~AnswerLimit() {
  {
    const std::lock_guard held(mutex_);
    over_ = true;
  }
  changed_.notify_all();
  if (thread_.joinable()) thread_.join();
}

bool AnswerLimit::ranOut() {
  const std::lock_guard held(mutex_);
  return ranOut_;
}

void AnswerLimit::begin(int socket, std::chrono::nanoseconds most) {
  const std::lock_guard held(mutex_);
  socket_ = fcntl(socket, F_DUPFD_CLOEXEC, 0);
  until_ = std::chrono::steady_clock::now() + most;
  ranOut_ = false;
  if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
  changed_.notify_all();
}

void AnswerLimit::end() {
  const std::lock_guard held(mutex_);
  if (socket_ >= 0) close(socket_);
  socket_ = -1;
  until_.reset();
}

void AnswerLimit::run() {
  std::unique_lock held(mutex_);
  while (!over_) {
    if (!until_) {
      changed_.wait(held);
    } else if (std::chrono::steady_clock::now() < *until_) {
      changed_.wait_until(held, *until_);
    } else {
      ranOut_ = true;
      until_.reset();
      if (socket_ >= 0) shutdown(socket_, SHUT_RDWR);
    }
  }
}

}  // namespace kw
