#include "ssh/link.hpp"

#include "base/byte_ring.hpp"
#include "base/run_on.hpp"

#include <fcntl.h>
#if defined(__aarch64__)
#include <asm/hwcap.h>
#include <sys/auxv.h>
#endif
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <boost/asio/bind_executor.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <cstring>
#include <mutex>

namespace kw {

namespace {

using boost::system::error_code;
using Unix = asio::local::stream_protocol;

void setOption(ssh_session session, ssh_options_e which, const void* value) {
  if (ssh_options_set(session, which, value) != SSH_OK)
    throw Error(ErrorKind::Local, std::string("SSH option: ") + ssh_get_error(session));
}

bool processorDoesAes() {
#if defined(__x86_64__)
  return __builtin_cpu_supports("aes") != 0;
#elif defined(__aarch64__)
  return (::getauxval(AT_HWCAP) & HWCAP_AES) != 0;
#else
  return false;
#endif
}

/// All of them are sound; the fastest on this machine goes first.
const char* preferredCiphers() {
  return processorDoesAes() ? "aes256-gcm@openssh.com,aes128-gcm@openssh.com,chacha20-poly1305@openssh.com,"
                              "aes256-ctr,aes192-ctr,aes128-ctr"
                            : "chacha20-poly1305@openssh.com,aes256-gcm@openssh.com,aes128-gcm@openssh.com,"
                              "aes256-ctr,aes192-ctr,aes128-ctr";
}

/// Carries bytes one way until either side ends.
Task<void> carry(std::shared_ptr<Unix::socket> pair, std::shared_ptr<ByteStream> below, bool inward) {
  Bytes buffer(64 * 1024);
  for (;;) {
    if (inward) {
      const std::size_t n = co_await below->readSome(buffer);
      co_await asio::async_write(*pair, asio::buffer(buffer.data(), n), asio::use_awaitable);
    } else {
      const std::size_t n = co_await pair->async_read_some(asio::buffer(buffer), asio::use_awaitable);
      co_await below->write(ByteView(buffer).first(n));
    }
  }
}

}  // namespace

SshConnection::State::State(Executor on, SshOptions o) : strand(std::move(on)), options(std::move(o)) {
  static const int once = ssh_init();
  if (once != SSH_OK) throw Error(ErrorKind::Local, "the SSH library does not start");
  session = ssh_new();
  event = ssh_event_new();
  if (session == nullptr || event == nullptr)
    throw Error(ErrorKind::Local, "not enough memory for an SSH session");
  ssh_set_counters(session, nullptr, &counted);
}

SshConnection::State::~State() {
  close();
  if (event != nullptr) {
    ssh_event_remove_session(event, session);
    ssh_event_free(event);
  }
  if (session != nullptr) ssh_free(session);
}

void SshConnection::State::attach(StreamPtr stream) {
  int fd = stream->detach();
  if (fd < 0) {  // a tunnel, TLS …: carried over a pair of sockets
    int ends[2];
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0, ends) != 0)
      throw Error(ErrorKind::Local, "no descriptor left for an SSH session");
    fd = ends[0];
    auto pair = std::make_shared<Unix::socket>(strand, Unix(), ends[1]);
    below = std::shared_ptr<ByteStream>(std::move(stream));
    for (bool inward : {true, false})
      spawn(
          strand, [pair, b = below, inward] { return carry(pair, b, inward); },
          [pair, b = below](std::exception_ptr) {
            error_code ignored;
            pair->shutdown(Unix::socket::shutdown_both, ignored);
            b->close();
          });
  }
  const int copy = ::fcntl(fd, F_DUPFD_CLOEXEC, 0);
  if (copy < 0) throw Error(ErrorKind::Local, "no descriptor left for an SSH session");
  socket = std::make_unique<asio::posix::stream_descriptor>(strand, copy);
  const int port = options.port;
  const long noProcessing = 0;
  setOption(session, SSH_OPTIONS_HOST, options.host.c_str());
  setOption(session, SSH_OPTIONS_PORT, &port);
  setOption(session, SSH_OPTIONS_USER, options.user.c_str());
  setOption(session, SSH_OPTIONS_PROCESS_CONFIG, &noProcessing);
  setOption(session, SSH_OPTIONS_CIPHERS_C_S, preferredCiphers());
  setOption(session, SSH_OPTIONS_CIPHERS_S_C, preferredCiphers());
  if (!options.knownHostsFile.empty())
    setOption(session, SSH_OPTIONS_KNOWNHOSTS, options.knownHostsFile.c_str());
  setOption(session, SSH_OPTIONS_FD, &fd);
  ssh_set_blocking(session, 0);
}

Error SshConnection::State::failure(ErrorKind otherwise) const {
  std::string said = ssh_get_error(session);
  if (said.empty()) said = "the SSH connection failed";
  const bool gone = !ssh_is_connected(session) || said.find("Socket error") != std::string::npos ||
                    said.find("disconnect") != std::string::npos;
  return {gone ? ErrorKind::ClosedByPeer : otherwise, said,
          options.host + " port " + std::to_string(options.port)};
}

Task<void> SshConnection::State::ready() {
  if (!socket->is_open()) throw Error(ErrorKind::Cancelled, "ended here", options.host);
  const bool writing = (ssh_get_poll_flags(session) & SSH_WRITE_PENDING) != 0;
  auto forRead = socket->async_wait(asio::posix::descriptor_base::wait_read, asio::use_awaitable);
  if (!writing) {
    co_await std::move(forRead);
    co_return;
  }
  auto forWrite = socket->async_wait(asio::posix::descriptor_base::wait_write, asio::use_awaitable);
  co_await firstOf(std::move(forRead), std::move(forWrite));
}

Task<void> SshConnection::State::pump() {
  auto self = shared_from_this();
  ssh_event_add_session(event, session);
  while (alive) {
    error_code code;
    co_await socket->async_wait(asio::posix::descriptor_base::wait_read,
                                asio::redirect_error(asio::use_awaitable, code));
    if (code || !alive) break;
    int result = SSH_OK;
    for (int i = 0; i < 64 && result == SSH_OK; ++i) result = ssh_event_dopoll(event, 0);
    if (result == SSH_ERROR || !ssh_is_connected(session)) break;
    settle();
  }
  alive = false;
  wakeAll();
}

Task<void> SshConnection::State::keepAlive() {
  const std::weak_ptr<State> weak = weak_from_this();
  const auto pause = options.keepAlive;
  for (;;) {
    co_await systemClock()->sleep(pause);
    const auto self = weak.lock();
    if (!self || !self->alive) co_return;
    ssh_send_ignore(self->session, "");
    self->settle();
  }
}

void SshConnection::State::settle() {
  const auto news = [this] { return std::exchange(seenPackets, counted.in_packets) != counted.in_packets; };
  for (;;) {
    while (news()) wakeAll();  // who takes what came lets libssh read more
    if (!alive || !writePending()) return;
    while (ssh_event_dopoll(event, 0) == SSH_OK && writePending()) continue;
    if (counted.in_packets == seenPackets) break;
  }
  if (waitsToWrite || !writePending()) return;
  waitsToWrite = true;
  socket->async_wait(asio::posix::descriptor_base::wait_write,
                     asio::bind_executor(strand, [self = shared_from_this()](const error_code& code) {
                       self->waitsToWrite = false;
                       if (!code) self->settle();
                     }));
}

void SshConnection::State::wakeAll() {
  for (ChannelSink* sink : sinks) sink->look();
  for (Signal* waiter : waiters) waiter->notify();
}

void SshConnection::State::close() {
  alive = false;
  error_code ignored;
  if (socket) socket->close(ignored);
  if (below) below->close();
}

namespace {

class ChannelStream : public ByteStream {
 public:
  ChannelStream(std::shared_ptr<SshConnection::State> state, ssh_channel channel, std::string peer)
      : core_(makeCore(std::move(state), channel, std::move(peer))) {}
  ~ChannelStream() override {
    post(core_->state->strand, [core = core_] { core->close(); });
  }
  ChannelStream(const ChannelStream&) = delete;
  ChannelStream& operator=(const ChannelStream&) = delete;

  Task<std::size_t> readSome(ByteSpan into) override {
    // What comes is put aside by the connection's strand; the waiting is done here, where it can be
    // cancelled.
    auto core = core_;
    const Executor here = co_await asio::this_coro::executor;
    auto reader = std::make_shared<Reader>(here);
    for (;;) {
      const std::size_t n = core->takeOrWait(into, reader);
      if (n > 0) co_return n;
      co_await reader->came.wait();
    }
  }
  Task<void> write(ByteView bytes) override {
    auto task = Core::write(core_, bytes);
    co_await runOn(core_->state->strand, std::move(task));
  }
  void close() noexcept override {
    post(core_->state->strand, [core = core_] { core->close(); });
  }
  [[nodiscard]] bool sealed() const override { return true; }
  [[nodiscard]] std::string peer() const override { return core_->peer; }

 private:
  /// Somebody who waits, on an executor of his own.
  struct Reader {
    explicit Reader(const Executor& e) : on(e), came(e) {}
    Executor on;
    Signal came;
  };
  struct Core : ChannelSink, std::enable_shared_from_this<Core> {
    Core(std::shared_ptr<SshConnection::State> s, ssh_channel c, std::string p)
        : state(std::move(s)), channel(c), peer(std::move(p)), canWrite(state->strand) {
      state->sinks.push_back(this);
      state->waiters.push_back(&canWrite);
      listen();
    }
    ~Core() override {
      // Runs on the strand, see makeCore().
      state->sinks.remove(this);
      state->waiters.remove(&canWrite);
      ssh_remove_channel_callbacks(channel, &callbacks);
      ssh_channel_free(channel);
      if (state->alive) state->settle();
    }
    Core(const Core&) = delete;
    Core& operator=(const Core&) = delete;

    /// libssh hands over what comes from inside whatever call happened to read it.
    void listen() {
      callbacks.userdata = this;
      callbacks.channel_data_function = [](ssh_session, ssh_channel, void* data, std::uint32_t size, int,
                                           void* core) {
        return static_cast<int>(static_cast<Core*>(core)->put({static_cast<const Byte*>(data), size}));
      };
      ssh_callbacks_init(&callbacks);
      if (ssh_set_channel_callbacks(channel, &callbacks) != SSH_OK)
        throw Error(ErrorKind::Local, "not enough memory for an SSH channel", peer);
      stayed = true;  // what came before
    }
    void close() {
      if (!closed && state->alive) {
        ssh_channel_send_eof(channel);
        ssh_channel_close(channel);
      }
      closed = true;
      canWrite.notify();
      look();
      state->settle();
    }
    void mustBeOpen() const {
      if (closed) throw Error(ErrorKind::Cancelled, "ended here", peer);
    }
    /// On the reader's thread: what lies ready; or 0, and `reader` is told when there is more. Throws when it
    /// is over.
    std::size_t takeOrWait(ByteSpan into, const std::shared_ptr<Reader>& reader) {
      std::size_t n = ready.take(into);
      if (n == 0) {
        const std::lock_guard held(lock);
        n = ready.take(into);  // it came meanwhile
        if (n == 0 && over) throw *over;
        if (n == 0) waiting = reader;
      }
      if (stayed && ready.lies() < kMostReady / 2 && !asked.exchange(true))
        post(state->strand, [self = shared_from_this()] {
          self->look();
          self->state->settle();
        });
      return n;
    }
    /// From inside libssh; how much of it was taken. The rest stays with libssh, whose window then holds the
    /// other side back.
    std::size_t put(ByteView bytes) {
      if (closed) return bytes.size();
      if (bytes.size() > ready.room()) stayed = noRoom = true;
      return ready.put(bytes);
    }
    /// On the strand, outside of libssh: takes what stayed there and tells the reader.
    void look() override {
      if (stayed && !closed) takeWhatStayed();
      const std::lock_guard held(lock);
      if (!over) over = ending();
      if ((ready.lies() > 0 || over) && waiting) {
        post(waiting->on, [w = waiting] { w->came.notify(); });
        waiting.reset();
      }
    }
    /// `stayed` is true until all was taken, so that a reader who makes room meanwhile asks again.
    void takeWhatStayed() {
      asked = false;
      do {
        noRoom = false;
        for (const int errorOutput : {0, 1})
          if (!takeWhatStayed(errorOutput)) return;
      } while (noRoom);
      stayed = false;
    }
    /// False when there is no room for the rest.
    bool takeWhatStayed(int errorOutput) {
      static thread_local std::array<Byte, 64 * 1024> piece;
      for (;;) {
        const int kept = ssh_channel_poll(channel, errorOutput);  // may read the socket and call put()
        if (kept <= 0) return true;
        const auto most = std::min({static_cast<std::size_t>(kept), ready.room(), piece.size()});
        if (most == 0) return false;
        const int n = ssh_channel_read_nonblocking(channel, piece.data(), static_cast<std::uint32_t>(most),
                                                   errorOutput);
        if (n <= 0) return true;
        ready.put(ByteView(piece).first(static_cast<std::size_t>(n)));
      }
    }
    [[nodiscard]] std::optional<Error> ending() const {
      if (closed) return Error(ErrorKind::Cancelled, "ended here", peer);
      if (stayed) return std::nullopt;  // more is to come
      if (ssh_channel_is_eof(channel) || ssh_channel_is_closed(channel))
        return Error(ErrorKind::ClosedByPeer, "closed by the other side", peer);
      if (!state->alive) return Error(ErrorKind::ClosedByPeer, "the SSH connection is gone", peer);
      return std::nullopt;
    }
    static Task<void> write(std::shared_ptr<Core> self, ByteView bytes) {
      while (!bytes.empty()) {
        self->mustBeOpen();
        if (!self->state->alive || ssh_channel_is_closed(self->channel))
          throw Error(ErrorKind::ClosedByPeer, "the SSH connection is gone", self->peer);
        const int n =
            ssh_channel_write(self->channel, bytes.data(),
                              static_cast<std::uint32_t>(std::min<std::size_t>(bytes.size(), 256 * 1024)));
        if (n == SSH_ERROR) throw Error(ErrorKind::ClosedByPeer, "closed by the other side", self->peer);
        if (n > 0) bytes = bytes.subspan(static_cast<std::size_t>(n));
        self->state->settle();
        // The socket is full: wait for it, so that libssh's own buffer stays small.
        while (self->state->alive && self->state->writePending()) {
          error_code ignored;
          co_await self->state->socket->async_wait(asio::posix::descriptor_base::wait_write,
                                                   asio::redirect_error(asio::use_awaitable, ignored));
          if (ignored || !self->state->alive) break;
          ssh_event_dopoll(self->state->event, 0);
          self->state->settle();
        }
        // The window is used up; that it was opened may have been read already.
        if (n == 0 && !bytes.empty() && ssh_channel_window_size(self->channel) == 0)
          co_await self->canWrite.wait();
      }
    }

    std::shared_ptr<SshConnection::State> state;
    ssh_channel channel;
    ssh_channel_callbacks_struct callbacks{};
    std::string peer;
    Signal canWrite;
    bool closed = false;
    static constexpr std::size_t kMostReady = 1 << 20;
    ByteRing ready{kMostReady};
    std::atomic<bool> stayed = false;  ///< libssh may still keep something of ours
    std::atomic<bool> asked = false;   ///< and is about to be asked for it
    bool noRoom = false;               ///< since put() was last looked at
    std::mutex lock;                   ///< for what follows
    std::optional<Error> over;         ///< told when nothing lies ready any more
    std::shared_ptr<Reader> waiting;
  };
  /// Whoever lets go of it last, it is destroyed on the connection's strand.
  static std::shared_ptr<Core> makeCore(std::shared_ptr<SshConnection::State> state, ssh_channel channel,
                                        std::string peer) {
    const Executor strand = state->strand;
    return {new Core(std::move(state), channel, std::move(peer)),
            [strand](Core* core) { post(strand, [owner = std::shared_ptr<Core>(core)] {}); }};
  }
  std::shared_ptr<Core> core_;
};

}  // namespace

StreamPtr streamOver(std::shared_ptr<SshConnection::State> state, ssh_channel channel, std::string peer) {
  return std::make_unique<ChannelStream>(std::move(state), channel, std::move(peer));
}

}  // namespace kw
