#include "ssh/socket_gate.hpp"

#include <fcntl.h>
#include <sys/epoll.h>
#include <unistd.h>

#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>

#include "base/error.hpp"

namespace kw {

namespace {
constexpr std::uint32_t kNothing = 0;
}

SocketGate::SocketGate(const Executor& on, int descriptor, For what)
    : events_(what == For::Reading ? EPOLLIN : EPOLLOUT),
      socket_(::fcntl(descriptor, F_DUPFD_CLOEXEC, 0)),
      set_(on) {
  const int set = ::epoll_create1(EPOLL_CLOEXEC);
  if (set >= 0) set_.assign(set);
  epoll_event event{};
  event.events = kNothing;
  if (socket_ >= 0 && set >= 0 && ::epoll_ctl(set, EPOLL_CTL_ADD, socket_, &event) == 0) return;
  close();
  throw Error(ErrorKind::Local, "no descriptor left for an SSH session");
}

void SocketGate::ask(std::uint32_t events) {
  epoll_event event{};
  event.events = events;
  ::epoll_ctl(set_.native_handle(), EPOLL_CTL_MOD, socket_, &event);
}

Task<void> SocketGate::wait() {
  if (!isOpen()) co_return;
  boost::system::error_code code;
  {
    const std::shared_ptr<void> leaves(nullptr, [this](void*) { --waiting_; });
    ++waiting_;
    ask(events_);
    co_await set_.async_wait(asio::posix::descriptor_base::wait_read,
                             asio::redirect_error(asio::use_awaitable, code));
  }
  if (!isOpen()) co_return;
  // Others may have begun to wait since the socket was found ready; for them it must be found so again.
  if (waiting_ == 0) ask(kNothing);
  if (code) throw Error(ErrorKind::Cancelled, "cancelled");
}

void SocketGate::close() {
  boost::system::error_code ignored;
  if (set_.is_open()) set_.close(ignored);
  if (socket_ >= 0) ::close(std::exchange(socket_, -1));
}

}  // namespace kw
