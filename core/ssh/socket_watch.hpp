// Waiting for a socket that somebody else reads and writes.
#pragma once
#include <boost/asio/posix/stream_descriptor.hpp>
#include <chrono>

#include "base/task.hpp"

namespace kw {

/// Tells once for each time it is asked. Between two asks nothing that the socket does wakes anybody: a
/// descriptor that is given to an executor itself wakes one of its threads for every packet (epoll(7),
/// EPOLLET), also when nobody waits. For one strand.
class SocketWatch {
 public:
  /// Keeps a copy of the descriptor, so that it is told of the end whoever closes the socket. Throws
  /// Error{Local}.
  SocketWatch(const Executor& on, int socket);
  ~SocketWatch();
  SocketWatch(const SocketWatch&) = delete;
  SocketWatch& operator=(const SocketWatch&) = delete;

  /// From now on: when there is something to read, or an end, or (with `room`) when something can be written.
  void ask(bool room);
  /// Until what was asked for has come about; at once when it has already. False when it was closed.
  Task<bool> answer();
  /// True when there is something to read within the limit. Blocks.
  [[nodiscard]] bool readableWithin(std::chrono::nanoseconds limit) const;
  [[nodiscard]] bool isOpen() const { return asked_.is_open(); }
  void close();

 private:
  int socket_ = -1;
  asio::posix::stream_descriptor asked_;  ///< an epoll of its own
};

}  // namespace kw
