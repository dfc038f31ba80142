#include "ssh/socket_watch.hpp"

#include <fcntl.h>
#include <poll.h>
#include <sys/epoll.h>
#include <unistd.h>

#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <utility>

#include "base/error.hpp"

namespace kw {

SocketWatch::SocketWatch(const Executor& on, int socket) : asked_(on) {
  socket_ = ::fcntl(socket, F_DUPFD_CLOEXEC, 0);
  const int queue = socket_ < 0 ? -1 : ::epoll_create1(EPOLL_CLOEXEC);
  epoll_event nothing{};
  nothing.events = EPOLLONESHOT;
  if (queue < 0 || ::epoll_ctl(queue, EPOLL_CTL_ADD, socket_, &nothing) != 0) {
    if (queue >= 0) ::close(queue);
    if (socket_ >= 0) ::close(socket_);
    throw Error(ErrorKind::Local, "no descriptor left for an SSH session");
  }
  asked_.assign(queue);
}

SocketWatch::~SocketWatch() { close(); }

void SocketWatch::ask(bool room) {
  if (!asked_.is_open()) return;
  epoll_event wanted{};
  wanted.events = EPOLLONESHOT | EPOLLIN | (room ? EPOLLOUT : 0U);
  ::epoll_ctl(asked_.native_handle(), EPOLL_CTL_MOD, socket_, &wanted);
}

Task<bool> SocketWatch::answer() {
  boost::system::error_code code;
  co_await asked_.async_wait(asio::posix::descriptor_base::wait_read,
                             asio::redirect_error(asio::use_awaitable, code));
  if (code || !asked_.is_open()) co_return false;
  epoll_event taken{};
  ::epoll_wait(asked_.native_handle(), &taken, 1, 0);
  co_return true;
}

bool SocketWatch::readableWithin(std::chrono::nanoseconds limit) const {
  pollfd wait{socket_, POLLIN, 0};
  const timespec time{0, limit.count()};
  return ::ppoll(&wait, 1, &time, nullptr) > 0;
}

void SocketWatch::close() {
  boost::system::error_code ignored;
  asked_.close(ignored);
  if (const int socket = std::exchange(socket_, -1); socket >= 0) ::close(socket);
}

}  // namespace kw
