#include <boost/asio/connect.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>

#include "base/error.hpp"
#include "base/runtime.hpp"
#include "wire/stream.hpp"

namespace kw {

bool neverResolves(std::string_view host) {
  if (host.ends_with('.')) host.remove_suffix(1);
  const std::string name = lowered(host);
  return name == "invalid" || name.ends_with(".invalid");
}

namespace {

using boost::system::error_code;
namespace net = asio::error;

ErrorKind kindOf(const error_code& code) {
  if (code == net::connection_refused) return ErrorKind::Refused;
  if (code == net::timed_out) return ErrorKind::TimedOut;
  if (code == net::host_not_found || code == net::no_data || code == net::service_not_found ||
      code == net::host_not_found_try_again)
    return ErrorKind::NameUnknown;
  if (code == net::eof || code == net::connection_reset || code == net::broken_pipe ||
      code == net::connection_aborted)
    return ErrorKind::ClosedByPeer;
  if (code == net::operation_aborted || code == net::bad_descriptor) return ErrorKind::Cancelled;
  if (code == net::access_denied) return ErrorKind::Local;
  return ErrorKind::Unreachable;
}

std::string sentenceFor(const error_code& code) {
  switch (kindOf(code)) {
    case ErrorKind::Refused: return "refused: nothing listens there";
    case ErrorKind::NameUnknown: return "this name is not known";
    case ErrorKind::ClosedByPeer: return "closed by the other side";
    case ErrorKind::Cancelled: return "ended here";
    default: return code.message();
  }
}

[[noreturn]] void raise(const error_code& code, const std::string& where) {
  throw Error(kindOf(code), sentenceFor(code), where);
}

template <typename Socket>
class SocketStream : public ByteStream {
 public:
  SocketStream(Socket socket, std::string peer) : socket_(std::move(socket)), peer_(std::move(peer)) {}

  Task<std::size_t> readSome(ByteSpan into) override {
    error_code code;
    const std::size_t n = co_await socket_.async_read_some(asio::buffer(into.data(), into.size()),
                                                           asio::redirect_error(asio::use_awaitable, code));
    if (code) raise(code, peer_);
    co_return n;
  }

  Task<void> write(ByteView bytes) override {
    error_code code;
    co_await asio::async_write(socket_, asio::buffer(bytes.data(), bytes.size()),
                               asio::redirect_error(asio::use_awaitable, code));
    if (code) raise(code, peer_);
  }

  void close() noexcept override {
    error_code ignored;
    socket_.shutdown(Socket::shutdown_both, ignored);
    socket_.close(ignored);
  }

  int detach() override {
    error_code failed;
    const int fd = socket_.release(failed);
    return failed ? -1 : fd;
  }
  [[nodiscard]] std::string peer() const override { return peer_; }

 private:
  Socket socket_;
  std::string peer_;
};

using Tcp = asio::ip::tcp;
using Unix = asio::local::stream_protocol;

struct Dial {
  explicit Dial(const Executor& on) : resolver(on), socket(on) {}
  Tcp::resolver resolver;
  Tcp::socket socket;
};

Task<void> dial(Dial& dial, std::string host, std::uint16_t port, std::string where) {
  error_code code;
  if (neverResolves(host)) raise(net::host_not_found, where);
  auto found =
      co_await dial.resolver.async_resolve(host, std::to_string(port), Tcp::resolver::numeric_service,
                                           asio::redirect_error(asio::use_awaitable, code));
  if (code) raise(code, where);
  co_await asio::async_connect(dial.socket, found, asio::redirect_error(asio::use_awaitable, code));
  if (code) raise(code, where);
}

template <typename Protocol>
class SocketListener : public Listener {
 public:
  SocketListener(const Executor& on, typename Protocol::endpoint endpoint, const std::string& where)
      : acceptor_(on) {
    error_code code;
    acceptor_.open(endpoint.protocol(), code);
    if constexpr (std::is_same_v<Protocol, Tcp>)
      if (!code) acceptor_.set_option(Tcp::acceptor::reuse_address(true), code);
    if (!code) acceptor_.bind(endpoint, code);
    if (!code) acceptor_.listen(asio::socket_base::max_listen_connections, code);
    if (code) throw Error(ErrorKind::Local, "cannot listen: " + code.message(), where);
  }

  Task<StreamPtr> accept() override {
    error_code code;
    typename Protocol::socket socket =
        co_await acceptor_.async_accept(asio::redirect_error(asio::use_awaitable, code));
    if (code) raise(code, "accepting");
    std::string visitor = "a visitor";
    if constexpr (std::is_same_v<Protocol, Tcp>) {
      socket.set_option(Tcp::no_delay(true), code);
      const auto from = socket.remote_endpoint(code);
      if (!code) visitor = from.address().to_string();
    }
    co_return std::make_unique<SocketStream<typename Protocol::socket>>(std::move(socket), visitor);
  }

  void close() noexcept override {
    error_code ignored;
    acceptor_.close(ignored);
  }

  [[nodiscard]] std::uint16_t port() const override {
    if constexpr (std::is_same_v<Protocol, Tcp>) return acceptor_.local_endpoint().port();
    return 0;
  }

 private:
  typename Protocol::acceptor acceptor_;
};

}  // namespace

Task<StreamPtr> connectTcp(std::string host, std::uint16_t port, std::chrono::nanoseconds limit,
                           ConnectFindings* findings) {
  const std::string where = host + " port " + std::to_string(port);
  const auto started = std::chrono::steady_clock::now();
  Dial connection(co_await asio::this_coro::executor);
  co_await within(limit, where, dial(connection, std::move(host), port, where));
  error_code ignored;
  connection.socket.set_option(Tcp::no_delay(true), ignored);
  connection.socket.set_option(asio::socket_base::keep_alive(true), ignored);
  if (findings != nullptr) {
    findings->took = std::chrono::steady_clock::now() - started;
    findings->address = connection.socket.remote_endpoint(ignored).address().to_string();
  }
  co_return std::make_unique<SocketStream<Tcp::socket>>(std::move(connection.socket), where);
}

Task<StreamPtr> connectUnix(std::string path) {
  if (path.size() > 107) throw Error(ErrorKind::Local, "a socket path may have 107 characters at most", path);
  Unix::socket socket(co_await asio::this_coro::executor);
  error_code code;
  co_await socket.async_connect(Unix::endpoint(path), asio::redirect_error(asio::use_awaitable, code));
  if (code == boost::system::errc::no_such_file_or_directory)
    throw Error(ErrorKind::Unreachable, "this path does not exist", path);
  if (code) raise(code, path);
  co_return std::make_unique<SocketStream<Unix::socket>>(std::move(socket), path);
}

StreamPtr adoptUnix(const Executor& on, int descriptor, const std::string& name) {
  Unix::socket socket(on);
  error_code code;
  socket.assign(Unix(), descriptor, code);
  if (code) throw Error(ErrorKind::Local, "the socket cannot be used: " + code.message(), name);
  return std::make_unique<SocketStream<Unix::socket>>(std::move(socket), name);
}

std::unique_ptr<Listener> listenTcp(const Executor& on, const std::string& address, std::uint16_t port) {
  error_code code;
  const auto parsed = asio::ip::make_address(address, code);
  if (code) throw Error(ErrorKind::Local, "not an address", address);
  return std::make_unique<SocketListener<Tcp>>(on, Tcp::endpoint(parsed, port),
                                               address + " port " + std::to_string(port));
}

std::unique_ptr<Listener> listenUnix(const Executor& on, const std::string& path) {
  return std::make_unique<SocketListener<Unix>>(on, Unix::endpoint(path), path);
}

}  // namespace kw
