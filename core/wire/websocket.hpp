// WebSocket (RFC 6455) over any ByteStream: messages, and a ByteStream made of them.
#pragma once
#include <string>

#include "wire/stream.hpp"

namespace kw {

struct WebSocketMessage {
  bool text = false;
  Bytes bytes;
};

/// After the opening handshake. One reader and one writer at a time; on one strand. Pings are answered by
/// receive().
class WebSocket {
 public:
  enum class Side { Client, Server };
  /// `early` are bytes read from `below` already. Messages longer than `most` break the protocol.
  WebSocket(const Executor& strand, StreamPtr below, Side side, std::size_t most, Bytes early = {});
  ~WebSocket();

  /// Throws Error{ClosedByPeer} when the other side closes (its reason in the sentence), {ProtocolBroken} for
  /// frames that cannot be.
  Task<WebSocketMessage> receive();
  Task<void> sendText(std::string text);
  Task<void> sendBinary(ByteView bytes);
  /// Says goodbye (section 5.5.1; 1000 is a normal end), best effort, and closes.
  Task<void> goodbye(int code, std::string reason);
  void close() noexcept;
  /// As the stream below it.
  [[nodiscard]] bool sealed() const;

 private:
  struct State;
  std::shared_ptr<State> state_;
};

/// Binary messages as a stream of bytes: how RFB travels to a browser. Text messages break the protocol.
StreamPtr streamOver(std::shared_ptr<WebSocket> socket);

/// The answer to Sec-WebSocket-Key (section 4.2.2).
std::string webSocketAccept(const std::string& key);
/// The client's opening handshake (section 4.1). Throws Error{ProtocolBroken} when the peer does not take it.
Task<std::shared_ptr<WebSocket>> openWebSocket(StreamPtr below, std::string hostHeader, std::string path,
                                               std::string protocol = "");

}  // namespace kw
