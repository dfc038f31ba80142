// Waiting for a socket that is read elsewhere.
#pragma once
#include <boost/asio/posix/stream_descriptor.hpp>

#include "base/task.hpp"

namespace kw {

/// Says when a descriptor can be read or written, each time it is asked; in between it costs nothing. A
/// descriptor that Asio knows wakes a thread for every packet that comes, also while somebody is reading it:
/// with a fast sender thousands of times a second.
class SocketGate {
 public:
  enum class For { Reading, Writing };
  /// Keeps a copy of the descriptor. Throws Error{Local} when there is none left.
  SocketGate(const Executor& on, int descriptor, For what);
  ~SocketGate() { close(); }
  SocketGate(const SocketGate&) = delete;
  SocketGate& operator=(const SocketGate&) = delete;

  /// Returns when it can be read or written, or is at its end, or when this gate was closed; sometimes for
  /// no reason. May be awaited by several at once, on the executor; throws Error{Cancelled} when given up.
  Task<void> wait();
  void close();
  [[nodiscard]] bool isOpen() const { return set_.is_open(); }

 private:
  void ask(std::uint32_t events);
  std::uint32_t events_;
  int socket_ = -1;
  int waiting_ = 0;
  asio::posix::stream_descriptor set_;  ///< an epoll set with nothing but the socket
};

}  // namespace kw
