// The one shape of a connection: engines see bytes, never sockets. Makers: connectTcp, connectUnix,
// memoryPair here; tls.hpp wraps any of them.
#pragma once
#include <chrono>
#include <functional>
#include <memory>
#include <string>

#include "base/bytes.hpp"
#include "base/task.hpp"

namespace kw {

class ByteStream {
 public:
  virtual ~ByteStream() = default;
  /// Reads between one byte and into.size() bytes. Throws Error{ClosedByPeer} at the end of the stream.
  virtual Task<std::size_t> readSome(ByteSpan into) = 0;
  /// Writes everything. One writer at a time.
  virtual Task<void> write(ByteView bytes) = 0;
  /// Ends pending reads and writes with an Error. May be called more than once, on the stream's strand.
  virtual void close() noexcept = 0;
  /// True when what passes here is encrypted by this stream or one below it.
  [[nodiscard]] virtual bool sealed() const { return false; }
  /// Gives the descriptor of a plain socket away, for libraries that want one; the stream is closed then. -1
  /// when there is none.
  virtual int detach() { return -1; }
  /// "10.8.0.4 port 5907", for errors and the journal.
  [[nodiscard]] virtual std::string peer() const = 0;
};

using StreamPtr = std::unique_ptr<ByteStream>;

/// Names below .invalid are known to be unknown; nobody is asked about them (RFC 6761 6.4).
bool neverResolves(std::string_view host);

/// What a connection attempt found on the way; shown beside the route.
struct ConnectFindings {
  std::string address;              ///< the numeric address that answered
  std::chrono::nanoseconds took{};  ///< time to the first answer
};

/// Tries every address of `host` in turn. Throws Error of kind NameUnknown, Refused, Unreachable or TimedOut.
Task<StreamPtr> connectTcp(std::string host, std::uint16_t port, std::chrono::nanoseconds limit,
                           ConnectFindings* findings = nullptr);
/// Throws Error{Unreachable} when the path does not exist, {Refused} when nobody listens, {Local} when not
/// allowed.
Task<StreamPtr> connectUnix(std::string path);

/// A connected socket of the local kind (socketpair) as a stream; takes it over.
StreamPtr adoptUnix(const Executor& on, int descriptor, const std::string& name);

/// Two ends of a pipe in memory. Each direction holds at most `capacity` bytes before the writer waits.
std::pair<StreamPtr, StreamPtr> memoryPair(const Executor& on, std::size_t capacity = 1 << 20);
/// A stream that yields `bytes` and then ends; what is written is dropped. For fuzzing and benches.
StreamPtr replayStream(Bytes bytes, std::size_t mostPerRead = SIZE_MAX);

/// Accepts connections on loopback or another local address until it is destroyed.
class Listener {
 public:
  virtual ~Listener() = default;
  virtual Task<StreamPtr> accept() = 0;
  virtual void close() noexcept = 0;
  [[nodiscard]] virtual std::uint16_t port() const = 0;
};
/// Port 0 picks a free one. Throws Error{Local} when the port is taken.
std::unique_ptr<Listener> listenTcp(const Executor& on, const std::string& address, std::uint16_t port);
std::unique_ptr<Listener> listenUnix(const Executor& on, const std::string& path);

}  // namespace kw
