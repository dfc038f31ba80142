#include "ssh/link.hpp"

#include "base/run_on.hpp"

#if defined(__aarch64__)
#include <asm/hwcap.h>
#include <sys/auxv.h>
#endif
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <cstring>
#include <thread>

namespace kw {

namespace {

using boost::system::error_code;
using Unix = asio::local::stream_protocol;

/// Calls into libssh before others on the same thread get their turn; it reads 4 KiB in each.
constexpr int kAtOnce = 64;
constexpr int kTurnsAtOnce = 8;
/// After a turn that brought so many bytes more are about to come: reading them a moment later, but together,
/// costs less than being woken for each packet.
constexpr std::uint64_t kMuch = 16 * 1024;
constexpr std::chrono::microseconds kRest{50};  ///< to which the kernel adds about as much

/// Holds the thread, which costs less than a timer of its executor (that wakes a second thread each time). So
/// only one connection at a time may rest, and where there are two threads others' work finds the second one.
/// False: not now.
bool restABit() {
  static std::atomic_flag somebodyRests;
  if (somebodyRests.test_and_set(std::memory_order_acquire)) return false;
  std::this_thread::sleep_for(kRest);
  somebodyRests.clear(std::memory_order_release);
  return true;
}

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
  toRead = std::make_unique<SocketGate>(strand, fd, SocketGate::For::Reading);
  toWrite = std::make_unique<SocketGate>(strand, fd, SocketGate::For::Writing);
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
  if (!toRead->isOpen()) throw Error(ErrorKind::Cancelled, "ended here", options.host);
  auto forRead = toRead->wait();
  if (!writePending()) {
    co_await std::move(forRead);
    co_return;
  }
  auto forWrite = toWrite->wait();
  co_await firstOf(std::move(forRead), std::move(forWrite));
}

Task<void> SshConnection::State::pump() {
  auto self = shared_from_this();
  ssh_event_add_session(event, session);
  while (alive) {
    co_await toRead->wait();
    if (alive && !takeTurns()) break;
  }
  alive = false;
  wakeAll();
}

bool SshConnection::State::takeTurns() {
  for (int i = 0; i < kTurnsAtOnce && alive; ++i) {
    const std::uint64_t before = counted.in_bytes;
    const Turn turn = takeTurn();
    if (turn == Turn::Ended) return false;
    if (wishes.load(std::memory_order_relaxed) > 0) break;
    const bool more = turn == Turn::MoreToRead;
    if (!more && counted.in_bytes - before < kMuch) break;
    settle(HandOver::FullOnes);
    if (!more && !restABit()) break;
  }
  if (!alive) return false;
  seenPackets = counted.in_packets;
  wakeAll(HandOver::Here);  // what was held back, too
  settle(HandOver::Here);
  return true;
}

SshConnection::State::Turn SshConnection::State::takeTurn() {
  std::uint64_t packets = counted.in_packets;
  for (int i = 0; i < kAtOnce; ++i) {
    const int result = ssh_event_dopoll(event, 0);
    if (result == SSH_ERROR || !ssh_is_connected(session)) return Turn::Ended;
    if (result != SSH_OK) return Turn::AllRead;
    if (std::exchange(packets, counted.in_packets) == counted.in_packets) continue;  // a part of one
    for (ChannelSink* sink : sinks) sink->handOverIfFull();
    if (!alive) return Turn::Ended;
    if (wishes.load(std::memory_order_relaxed) > 0) break;
  }
  return Turn::MoreToRead;
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

void SshConnection::State::settle(HandOver how) {
  // libssh says "something to write" after every poll that found both something to read and room: while bytes
  // come in, this could go on without an end.
  for (int i = 0; i < kAtOnce; ++i) {
    if (std::exchange(seenPackets, counted.in_packets) != counted.in_packets) {
      wakeAll(how);  // who takes what came lets libssh read more
      continue;
    }
    if (!alive || !writePending()) return;
    if (ssh_event_dopoll(event, 0) != SSH_OK) break;  // the socket is full
  }
  settleLater();
}

void SshConnection::State::settleLater() {
  if (std::exchange(settlesLater, true)) return;
  spawn(strand, [self = shared_from_this()]() -> Task<void> {
    if (self->alive && self->writePending()) co_await self->toWrite->wait();
    self->settlesLater = false;
    self->settle(HandOver::Here);
  });
}

void SshConnection::State::wakeAll(HandOver how) {
  for (ChannelSink* sink : sinks) sink->look(how);
  for (Signal* waiter : waiters) waiter->notify();
}

void SshConnection::State::close() {
  alive = false;
  for (const auto* gate : {&toRead, &toWrite})
    if (*gate) (*gate)->close();
  if (below) below->close();
}

}  // namespace kw
