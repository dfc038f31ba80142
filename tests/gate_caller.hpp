// What a browser does to a gateway, by hand: requests, and a page's sockets.
#pragma once
#include "tests/support.hpp"
#include "wire/tls.hpp"
#include "wire/websocket.hpp"

namespace kw::test {

struct GateCaller {
  std::uint16_t port = 0;

  [[nodiscard]] std::string host() const { return "127.0.0.1:" + std::to_string(port); }

  Task<StreamPtr> connect() {
    TlsClientOptions tls;
    tls.hostName = "127.0.0.1";
    tls.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
    StreamPtr plain = co_await connectTcp("127.0.0.1", port, std::chrono::seconds(5));
    co_return co_await startTls(std::move(plain), tls);
  }

  /// The whole answer to one request, its connection closed.
  std::string raw(const std::string& text) {
    std::string out;
    runToEnd([&]() -> Task<void> {
      const StreamPtr stream = co_await connect();
      co_await stream->write(viewOf(text));
      Byte part[4096];
      try {
        for (;;) {
          const std::size_t n = co_await stream->readSome(part);
          out.append(reinterpret_cast<const char*>(part), n);
        }
      } catch (const Error&) {
        // The end.
      }
    });
    return out;
  }
  std::string get(const std::string& path, const std::string& cookie = "", const std::string& more = "") {
    return raw("GET " + path + " HTTP/1.1\r\nHost: " + host() + "\r\nConnection: close\r\n" +
               (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + more + "\r\n");
  }
  std::string post(const std::string& path, const std::string& body, const std::string& origin = "same",
                   const std::string& cookie = "") {
    return raw(
        "POST " + path + " HTTP/1.1\r\nHost: " + host() +
        "\r\nConnection: close\r\nContent-Length: " + std::to_string(body.size()) + "\r\n" +
        (origin.empty() ? "" : "Origin: " + (origin == "same" ? "https://" + host() : origin) + "\r\n") +
        (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + "\r\n" + body);
  }
  static std::string cookieOf(const std::string& answer) {
    const auto at = answer.find("kettle-gate=");
    return at == std::string::npos ? "" : answer.substr(at + 12, answer.find(';', at) - at - 12);
  }
  std::string signIn(const std::string& name, const std::string& password) {
    return cookieOf(post("/sign-in", "{\"name\":\"" + name + "\",\"password\":\"" + password + "\"}"));
  }
  /// The status of opening a WebSocket.
  int upgrade(const std::string& path, const std::string& cookie, const std::string& origin = "same") {
    const std::string answer = raw(upgradeText(path, cookie, origin) + std::string("\x88\x80\0\0\0\0", 6));
    return answer.size() > 12 ? std::stoi(answer.substr(9, 3)) : 0;
  }
  std::string upgradeText(const std::string& path, const std::string& cookie, const std::string& origin) {
    return "GET " + path + " HTTP/1.1\r\nHost: " + host() +
           "\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: "
           "dGhlIHNhbXBsZSBub25jZQ==\r\n" +
           (origin.empty() ? "" : "Origin: " + (origin == "same" ? "https://" + host() : origin) + "\r\n") +
           (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + "\r\n";
  }

  /// A page's socket in a coroutine of the test.
  Task<std::shared_ptr<WebSocket>> page(std::string path, std::string cookie) {
    StreamPtr stream = co_await connect();
    const std::string text = upgradeText(path, cookie, "same");
    co_await stream->write(viewOf(text));
    std::string head;
    while (!head.ends_with("\r\n\r\n")) {
      Byte one[1];
      co_await stream->readSome(one);
      head += static_cast<char>(one[0]);
    }
    if (!head.starts_with("HTTP/1.1 101")) throw Error(ErrorKind::ProtocolBroken, head);
    const Executor here = co_await asio::this_coro::executor;
    co_return std::make_shared<WebSocket>(here, std::move(stream), WebSocket::Side::Client,
                                          std::size_t{1} << 22);
  }
  /// Reads until a message has the words; its text.
  static Task<std::string> until(std::shared_ptr<WebSocket> socket, std::string words) {
    std::string text;
    const auto read = [&]() -> Task<void> {
      while (text.find(words) == std::string::npos) {
        const WebSocketMessage m = co_await socket->receive();
        text = kw::textOf(m.bytes);
      }
    };
    co_await within(std::chrono::seconds(10), words, read());
    co_return text;
  }
};

}  // namespace kw::test
