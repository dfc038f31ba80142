#include "ssh/connection.hpp"

#include "base/run_on.hpp"

#include <boost/asio/use_awaitable.hpp>

#include "ssh/link.hpp"

namespace kw {

namespace {

using State = SshConnection::State;

Task<void> exchangeKeys(State& s) {
  const int result = co_await s.until([&s] { return ssh_connect(s.session); }, SSH_AGAIN);
  if (result != SSH_OK) throw s.failure(ErrorKind::ProtocolBroken);
}

Task<void> establish(std::shared_ptr<State> s, std::shared_ptr<SshEvents> events) {
  const std::string where = s->options.host + " port " + std::to_string(s->options.port);
  events->doing("exchanging keys with " + s->options.host);
  co_await within(s->options.limit, where, exchangeKeys(*s));
  co_await checkHostKey(*s, *events);
  events->doing("signing in on " + s->options.host);
  co_await signIn(*s, *events);
  const char* cipher = ssh_get_cipher_in(s->session);
  const char* exchange = ssh_get_kex_algo(s->session);
  s->ciphers = std::string(cipher != nullptr ? cipher : "?") + ", " + (exchange != nullptr ? exchange : "?");
  s->alive = true;
  spawn(s->strand, [s] { return s->pump(); });
  if (s->options.keepAlive.count() > 0) spawn(s->strand, [s] { return s->keepAlive(); });
}

/// A channel that is freed again unless it is handed on.
class NewChannel {
 public:
  explicit NewChannel(const State& s) : channel_(ssh_channel_new(s.session)) {
    if (channel_ == nullptr) throw s.failure(ErrorKind::ClosedByPeer);
  }
  ~NewChannel() {
    if (channel_ != nullptr) ssh_channel_free(channel_);
  }
  NewChannel(const NewChannel&) = delete;
  NewChannel& operator=(const NewChannel&) = delete;
  [[nodiscard]] ssh_channel get() const { return channel_; }
  ssh_channel release() { return std::exchange(channel_, nullptr); }

 private:
  ssh_channel channel_;
};

/// After sign-in the pump reads the socket; a step that must wait is repeated each time something came.
template <typename Step>
Task<void> pumped(std::shared_ptr<State> s, Step step, int& result) {
  Signal came(s->strand);
  s->waiters.push_back(&came);
  const std::shared_ptr<void> leave(nullptr, [s, &came](void*) { s->waiters.remove(&came); });
  for (;;) {
    result = step();
    if (s->alive) s->settle();
    if (result != SSH_AGAIN) co_return;
    result = SSH_ERROR;
    if (!s->alive) co_return;
    co_await came.wait();
  }
}

template <typename Step>
Task<int> untilPumped(std::shared_ptr<State> s, Step step) {
  int result = SSH_ERROR;
  co_await within(s->options.limit, s->options.host, pumped(s, step, result));
  co_return result;
}

void mustBeAlive(const State& s) {
  if (!s.alive) throw Error(ErrorKind::ClosedByPeer, "the SSH connection is gone", s.options.host);
}

Task<StreamPtr> forwardOn(std::shared_ptr<State> s, std::string host, int port) {
  mustBeAlive(*s);
  NewChannel channel(*s);
  const std::string where = host + " port " + std::to_string(port);
  const int result = co_await untilPumped(
      s, [&] { return ssh_channel_open_forward(channel.get(), host.c_str(), port, "127.0.0.1", 0); });
  if (result != SSH_OK) {
    const std::string said = ssh_get_error(s->session);
    const bool forbidden =
        said.find("dministratively") != std::string::npos || said.find("rohibited") != std::string::npos;
    throw Error(s->alive ? ErrorKind::Refused : ErrorKind::ClosedByPeer,
                forbidden ? s->options.host + " does not allow tunnels there"
                          : s->options.host + " cannot reach it: " + said,
                where);
  }
  co_return streamOver(s, channel.release(), where);
}

Task<StreamPtr> sessionOn(std::shared_ptr<State> s, std::function<int(ssh_channel)> request,
                          std::string what) {
  mustBeAlive(*s);
  NewChannel channel(*s);
  int result = co_await untilPumped(s, [&] { return ssh_channel_open_session(channel.get()); });
  if (result == SSH_OK) result = co_await untilPumped(s, [&] { return request(channel.get()); });
  if (result != SSH_OK)
    throw Error(s->alive ? ErrorKind::Unsupported : ErrorKind::ClosedByPeer, "the server gives no " + what,
                s->options.host);
  co_return streamOver(s, channel.release(), s->options.host);
}

Task<SshConnection::Shell> shellOn(std::shared_ptr<State> s, std::string terminal, int columns, int rows) {
  mustBeAlive(*s);
  NewChannel channel(*s);
  int result = co_await untilPumped(s, [&] { return ssh_channel_open_session(channel.get()); });
  if (result == SSH_OK)
    result = co_await untilPumped(
        s, [&] { return ssh_channel_request_pty_size(channel.get(), terminal.c_str(), columns, rows); });
  if (result == SSH_OK)
    result = co_await untilPumped(s, [&] { return ssh_channel_request_shell(channel.get()); });
  if (result != SSH_OK)
    throw Error(s->alive ? ErrorKind::Unsupported : ErrorKind::ClosedByPeer, "the server gives no shell",
                s->options.host);
  SshConnection::Shell shell;
  const ssh_channel raw = channel.release();
  shell.stream = streamOver(s, raw, s->options.host);
  // The caller keeps stream and resize together, so the channel is there whenever this is called.
  shell.resize = [s, raw](int c, int r) -> Task<void> {
    auto task = [](std::shared_ptr<State> state, ssh_channel ch, int cc, int rr) -> Task<void> {
      if (state->alive) ssh_channel_change_pty_size(ch, cc, rr);
      if (state->alive) state->settle();
      co_return;
    }(s, raw, c, r);
    co_await runOn(s->strand, std::move(task));
  };
  co_return shell;
}

Task<void> rememberOn(std::shared_ptr<State> s) {
  if (ssh_session_update_known_hosts(s->session) != SSH_OK)
    throw Error(ErrorKind::Local, "the known_hosts file cannot be written", s->options.knownHostsFile);
  co_return;
}

}  // namespace

Task<std::shared_ptr<SshConnection>> SshConnection::open(Executor strand, StreamPtr below, SshOptions options,
                                                         std::shared_ptr<SshEvents> events) {
  auto state = std::make_shared<State>(strand, std::move(options));
  state->attach(std::move(below));
  auto task = establish(state, std::move(events));
  std::exception_ptr failure;
  try {
    co_await runOn(strand, std::move(task));
  } catch (...) {
    failure = std::current_exception();
  }
  if (failure) {
    post(strand, [state] { state->close(); });
    std::rethrow_exception(failure);
  }
  co_return std::shared_ptr<SshConnection>(new SshConnection(state));
}

SshConnection::~SshConnection() {
  // Streams hold the state; when this handle goes and no stream is left, the pump must end.
  post(state_->strand, [state = state_] {
    if (state->waiters.empty()) state->close();
  });
}

Task<StreamPtr> SshConnection::forward(std::string host, int port) {
  auto self = shared_from_this();
  auto task = forwardOn(state_, std::move(host), port);
  co_return co_await runOn(state_->strand, std::move(task));
}
Task<SshConnection::Shell> SshConnection::shell(std::string terminalType, int columns, int rows) {
  auto self = shared_from_this();
  auto task = shellOn(state_, std::move(terminalType), columns, rows);
  co_return co_await runOn(state_->strand, std::move(task));
}
Task<StreamPtr> SshConnection::exec(std::string command) {
  auto self = shared_from_this();
  auto task = sessionOn(
      state_, [command](ssh_channel c) { return ssh_channel_request_exec(c, command.c_str()); },
      "way to run a command");
  co_return co_await runOn(state_->strand, std::move(task));
}
Task<StreamPtr> SshConnection::subsystem(std::string name) {
  auto self = shared_from_this();
  auto task = sessionOn(
      state_, [name](ssh_channel c) { return ssh_channel_request_subsystem(c, name.c_str()); },
      name + " service");
  co_return co_await runOn(state_->strand, std::move(task));
}
Task<void> SshConnection::remember() {
  auto self = shared_from_this();
  auto task = rememberOn(state_);
  co_await runOn(state_->strand, std::move(task));
}

bool SshConnection::alive() const { return state_->alive; }
std::string SshConnection::signedInWith() const { return state_->signedInWith; }
const HostKey& SshConnection::hostKey() const { return state_->key; }
std::string SshConnection::ciphers() const { return state_->ciphers; }

}  // namespace kw
