// libssh's session on a strand: waiting for the socket, channels as streams. For the files of this folder.
#pragma once
#include <libssh/callbacks.h>
#include <libssh/libssh.h>

#include <atomic>
#include <list>

#include "base/error.hpp"
#include "base/parking.hpp"
#include "base/runtime.hpp"
#include "ssh/connection.hpp"
#include "ssh/socket_gate.hpp"

namespace kw {

/// When readers go on for whom something came.
enum class HandOver {
  Later,     ///< when their executors have time
  Here,      ///< inside the call; only for callers that are inside nothing else
  FullOnes,  ///< as Here, but only those whose buffer is full: more is about to come for the others
};

/// A channel, as the connection sees it. Both calls come on the connection's strand, outside of libssh.
class ChannelSink {
 public:
  virtual ~ChannelSink() = default;
  /// Something happened, perhaps to this one.
  virtual void look(HandOver how) = 0;
  /// Something was read, perhaps for this one, and more is about to be.
  virtual void handOverIfFull() = 0;
};

struct SshConnection::State : std::enable_shared_from_this<SshConnection::State> {
  State(Executor on, SshOptions o);
  ~State();

  /// Gives libssh a descriptor: the stream's own, or one end of a pair whose other end is pumped.
  void attach(StreamPtr below);
  /// Waits until the socket has something to read (or room, when something waits to be written).
  Task<void> ready();
  /// Repeats a non-blocking call until it no longer says "again".
  template <typename Step>
  Task<int> until(Step step, int again) {
    for (;;) {
      const int result = step();
      if (result != again) co_return result;
      co_await ready();
    }
  }
  /// Reads what comes, for as long as the connection lives, and wakes everybody who waits.
  Task<void> pump();
  /// Reads while much comes, but not for ever. False when the connection has ended.
  bool takeTurns();
  enum class Turn { AllRead, MoreToRead, Ended };
  Turn takeTurn();
  Task<void> keepAlive();
  /// To be called on the strand after every call into libssh. Any such call may read packets, also for others
  /// than the one it is made for, and may leave something unsent; the socket does not tell of either again.
  void settle(HandOver how = HandOver::Later);
  void settleLater();
  void wakeAll(HandOver how = HandOver::Later);
  [[nodiscard]] bool writePending() const { return (ssh_get_poll_flags(session) & SSH_WRITE_PENDING) != 0; }
  void close();
  [[nodiscard]] Error failure(ErrorKind otherwise) const;

  Executor strand;
  SshOptions options;
  ssh_session session = nullptr;
  ssh_event event = nullptr;
  std::unique_ptr<SocketGate> toRead, toWrite;  ///< libssh's socket, to wait for
  HostKey key;
  std::string signedInWith;
  std::string ciphers;  ///< both written once, before the connection is handed out
  std::atomic<bool> alive = false;
  std::list<Signal*> waiters;
  std::list<ChannelSink*> sinks;
  std::shared_ptr<ByteStream> below;  ///< when it is pumped
  ssh_counter_struct counted{};       ///< what libssh has read and written so far
  std::uint64_t seenPackets = 0;      ///< everybody was woken for these
  bool settlesLater = false;          ///< settle() is about to come again
  /// Writers that wait for their turn on the strand: reading lets them in between, however much comes.
  std::atomic<int> wishes = 0;
};

/// One channel as a stream.
StreamPtr streamOver(std::shared_ptr<SshConnection::State> state, ssh_channel channel, std::string peer);

/// Host key, then the ways to sign in, in ssh/sign_in.cpp.
Task<void> checkHostKey(SshConnection::State& state, SshEvents& events);
Task<void> signIn(SshConnection::State& state, SshEvents& events);

}  // namespace kw
