#include "wire/websocket.hpp"

#include <openssl/evp.h>
#include <openssl/rand.h>

#include <deque>

#include "base/base64.hpp"
#include "base/error.hpp"
#include "base/runtime.hpp"
#include "wire/wire_reader.hpp"

namespace kw {

namespace {

// RFC 6455 5.2: opcodes.
enum Opcode : unsigned { kContinuation = 0, kText = 1, kBinary = 2, kClose = 8, kPing = 9, kPong = 10 };
constexpr std::size_t kMostControl = 125;
constexpr std::size_t kMostHandshake = 16384;
constexpr const char* kGuid = "258EAFA5-E914-47DA-95CA-C5AB0DC85B11";

void applyMask(ByteSpan bytes, const Byte (&mask)[4], std::size_t offset) {
  for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] ^= mask[(offset + i) % 4];
}

}  // namespace

std::string webSocketAccept(const std::string& key) {
  const std::string text = key + kGuid;
  Byte digest[20];
  unsigned size = sizeof digest;
  EVP_Digest(text.data(), text.size(), digest, &size, EVP_sha1(), nullptr);
  return base64Of(ByteView(digest, size));
}

struct WebSocket::State {
  State(const Executor& strand, StreamPtr b, Side s, std::size_t m, Bytes early)
      : below(std::move(b)), in(*below, std::move(early)), side(s), most(m), turn(strand) {}

  /// Frames of two writers must not mix: a pong may come while a message goes out.
  Task<void> frame(unsigned opcode, ByteView payload) {
    while (writing) co_await turn.wait();
    writing = true;
    ByteWriter out;
    const unsigned maskBit = side == Side::Client ? 0x80 : 0;
    out.u8(0x80 | opcode);
    if (payload.size() < 126)
      out.u8(maskBit | static_cast<unsigned>(payload.size()));
    else if (payload.size() < 65536)
      out.u8(maskBit | 126).u16(static_cast<unsigned>(payload.size()));
    else
      out.u8(maskBit | 127)
          .u32(static_cast<std::uint32_t>(payload.size() >> 32))
          .u32(static_cast<std::uint32_t>(payload.size()));
    if (side == Side::Client) {
      Byte key[4];
      RAND_bytes(key, sizeof key);
      out.bytes(key);
      const std::size_t at = out.size();
      out.bytes(payload);
      applyMask(ByteSpan(out.raw()).subspan(at), key, 0);
    } else {
      out.bytes(payload);
    }
    std::exception_ptr failure;
    try {
      co_await below->write(out.view());
    } catch (...) {
      failure = std::current_exception();
    }
    writing = false;
    turn.notify();
    if (failure) std::rethrow_exception(failure);
  }

  struct Head {
    unsigned opcode = 0;
    bool last = false;
    std::uint64_t size = 0;
  };

  Task<Head> head() {
    if (!in.has(2)) co_await in.need(2);
    const unsigned first = in.u8(), second = in.u8();
    Head h;
    h.opcode = first & 0x0f;
    h.last = (first & 0x80) != 0;
    if ((first & 0x70) != 0) protocolBroken("WebSocket frame", "reserved bits are set");
    const bool masked = (second & 0x80) != 0;
    // Section 5.1: clients mask, servers do not.
    if (masked != (side == Side::Server))
      protocolBroken("WebSocket frame", masked ? "a server masks nothing" : "a client must mask");
    h.size = second & 0x7f;
    if (h.size == 126) {
      h.size = co_await in.readU16();
    } else if (h.size == 127) {
      const std::uint64_t high = co_await in.readU32();
      h.size = high << 32 | co_await in.readU32();
    }
    if (h.opcode >= kClose && (h.size > kMostControl || !h.last))
      protocolBroken("WebSocket frame", "a control frame is too long or cut");
    if (h.size > most) protocolBroken("WebSocket frame", "it is longer than allowed");
    if (masked) {
      if (!in.has(4)) co_await in.need(4);
      const ByteView bytes = in.take(4);
      std::copy(bytes.begin(), bytes.end(), mask);
    }
    co_return h;
  }

  /// Appends the frame's payload.
  Task<void> payload(std::uint64_t size, Bytes& out) {
    const std::size_t at = out.size();
    const Bytes part = co_await in.readBytes(static_cast<std::size_t>(size));
    out.insert(out.end(), part.begin(), part.end());
    if (side == Side::Server) applyMask(ByteSpan(out).subspan(at), mask, 0);
  }

  StreamPtr below;
  WireReader in;
  Side side;
  std::size_t most;
  Signal turn;
  Byte mask[4] = {};
  bool writing = false, saidGoodbye = false;
};

WebSocket::WebSocket(const Executor& strand, StreamPtr below, Side side, std::size_t most, Bytes early)
    : state_(std::make_shared<State>(strand, std::move(below), side, most, std::move(early))) {}
WebSocket::~WebSocket() { close(); }

void WebSocket::close() noexcept { state_->below->close(); }
bool WebSocket::sealed() const { return state_->below->sealed(); }

Task<WebSocketMessage> WebSocket::receive() {
  const auto s = state_;
  WebSocketMessage message;
  bool begun = false;
  for (;;) {
    const State::Head h = co_await s->head();
    if (h.opcode >= kClose) {
      Bytes control;
      co_await s->payload(h.size, control);
      if (h.opcode == kPing) {
        co_await s->frame(kPong, control);
      } else if (h.opcode == kClose) {
        std::string reason = control.size() > 2 ? cleanUtf8(kw::textOf(ByteView(control).subspan(2))) : "";
        if (!std::exchange(s->saidGoodbye, true))
          co_await s->frame(kClose, ByteView(control).first(std::min<std::size_t>(control.size(), 2)));
        throw Error(ErrorKind::ClosedByPeer, reason.empty() ? "closed by the other side" : reason);
      } else if (h.opcode != kPong) {
        protocolBroken("WebSocket frame", "unknown control frame");
      }
      continue;
    }
    if (h.opcode > kBinary) protocolBroken("WebSocket frame", "unknown frame");
    if ((h.opcode == kContinuation) != begun) protocolBroken("WebSocket frame", "a message within a message");
    if (!begun) message.text = h.opcode == kText;
    begun = true;
    if (message.bytes.size() + h.size > s->most)
      protocolBroken("WebSocket message", "it is longer than allowed");
    co_await s->payload(h.size, message.bytes);
    if (h.last) co_return message;
  }
}

Task<void> WebSocket::sendText(std::string text) {
  const auto s = state_;
  co_await s->frame(kText, viewOf(text));
}

Task<void> WebSocket::sendBinary(ByteView bytes) {
  const auto s = state_;
  co_await s->frame(kBinary, bytes);
}

Task<void> WebSocket::goodbye(int code, std::string reason) {
  const auto s = state_;
  if (std::exchange(s->saidGoodbye, true)) co_return;
  ByteWriter out;
  out.u16(static_cast<unsigned>(code)).text(reason.substr(0, kMostControl - 2));
  try {
    co_await s->frame(kClose, out.view());
  } catch (const Error&) {
    // Gone already.
  }
  s->below->close();
}

namespace {

class SocketBytes : public ByteStream {
  static constexpr std::size_t kPiece = 16384;  // as much as one record of TLS holds

 public:
  explicit SocketBytes(std::shared_ptr<WebSocket> socket) : socket_(std::move(socket)) {}
  ~SocketBytes() override { socket_->close(); }

  Task<std::size_t> readSome(ByteSpan into) override {
    while (at_ == waiting_.size()) {
      WebSocketMessage message = co_await socket_->receive();
      if (message.text) protocolBroken("WebSocket", "text where bytes belong");
      waiting_ = std::move(message.bytes);
      at_ = 0;
    }
    const std::size_t n = std::min(into.size(), waiting_.size() - at_);
    std::copy_n(waiting_.begin() + static_cast<std::ptrdiff_t>(at_), n, into.begin());
    at_ += n;
    co_return n;
  }
  /// In pieces: whoever reads over a slow line sees what has come, instead of nothing until all has.
  Task<void> write(ByteView bytes) override {
    do {
      const std::size_t n = std::min(bytes.size(), kPiece);
      co_await socket_->sendBinary(bytes.first(n));
      bytes = bytes.subspan(n);
    } while (!bytes.empty());
  }
  void close() noexcept override { socket_->close(); }
  [[nodiscard]] bool sealed() const override { return socket_->sealed(); }
  [[nodiscard]] std::string peer() const override { return "a websocket"; }

 private:
  std::shared_ptr<WebSocket> socket_;
  Bytes waiting_;
  std::size_t at_ = 0;
};

/// One line of a head, without its end.
Task<std::string> headLine(WireReader& in, std::size_t& left) {
  std::string line;
  for (;;) {
    if (left-- == 0) protocolBroken("WebSocket handshake", "it is too long");
    const char c = static_cast<char>(co_await in.readU8());
    if (c == '\n') break;
    if (c != '\r') line += c;
  }
  co_return line;
}

}  // namespace

StreamPtr streamOver(std::shared_ptr<WebSocket> socket) {
  return std::make_unique<SocketBytes>(std::move(socket));
}

Task<std::shared_ptr<WebSocket>> openWebSocket(StreamPtr below, std::string hostHeader, std::string path,
                                               std::string protocol) {
  Byte nonce[16];
  RAND_bytes(nonce, sizeof nonce);
  const std::string key = base64Of(ByteView(nonce, sizeof nonce));
  std::string request =
      "GET " + path + " HTTP/1.1\r\nHost: " + hostHeader +
      "\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: " +
      key + "\r\n";
  if (!protocol.empty()) request += "Sec-WebSocket-Protocol: " + protocol + "\r\n";
  request += "\r\n";
  co_await below->write(viewOf(request));
  WireReader in(*below);
  std::size_t left = kMostHandshake;
  const std::string status = co_await headLine(in, left);
  if (!status.starts_with("HTTP/1.1 101"))
    protocolBroken("WebSocket handshake", "the other side says " + cleanUtf8(status.substr(0, 80)));
  bool accepted = false;
  for (;;) {
    const std::string line = co_await headLine(in, left);
    if (line.empty()) break;
    const auto colon = line.find(':');
    if (colon == std::string::npos || lowered(line.substr(0, colon)) != "sec-websocket-accept") continue;
    const auto value = line.find_first_not_of(' ', colon + 1);
    accepted = value != std::string::npos && line.substr(value) == webSocketAccept(key);
  }
  if (!accepted) protocolBroken("WebSocket handshake", "the answer does not belong to the question");
  const std::size_t rest = in.buffered();
  const ByteView early = in.take(rest);
  Bytes first(early.begin(), early.end());
  co_return std::make_shared<WebSocket>(co_await asio::this_coro::executor, std::move(below),
                                        WebSocket::Side::Client, std::size_t{64} << 20, std::move(first));
}

}  // namespace kw
