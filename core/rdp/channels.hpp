// Virtual channels: static ones in chunks (MS-RDPBCGR 2.2.6.1) and dynamic ones over "drdynvc" (MS-RDPEDYC).
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>

#include "base/little.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

/// Chunks of one message, each with its header.
std::vector<Bytes> chunksOf(ByteView message, std::uint32_t moreFlags = 0);

/// Puts chunks together.
class ChunkReader {
 public:
  /// A whole message, once its last chunk came. Throws Error{ProtocolBroken} for chunks out of order or too
  /// much.
  std::optional<Bytes> take(ByteView chunk);

 private:
  Bytes message_;
  std::size_t total_ = 0;
  bool open_ = false;
};

/// The dynamic channels, at either end: a service opens all that it listens on, a client takes them.
class DynamicChannels {
 public:
  enum class End { Client, Service };
  using Send = std::function<void(Bytes)>;
  struct Listener {
    std::function<void()> opened;
    std::function<void(ByteView)> message;
    std::function<void()> closed;
  };
  /// `send` carries a message over the static channel.
  explicit DynamicChannels(Send send, End end = End::Client) : send_(std::move(send)), end_(end) {}
  /// A service's first message.
  void begin();
  /// Channels of other names are refused.
  void listen(const std::string& name, Listener listener) { listeners_[name] = std::move(listener); }
  void take(ByteView message);
  /// False when the channel is not open.
  bool sendOn(const std::string& name, ByteView message);
  [[nodiscard]] bool isOpen(const std::string& name) const;

 private:
  struct Channel {
    std::string name;
    Bytes message;
    std::size_t total = 0;
  };
  void capabilities(LittleReader& in);
  void create(LittleReader& in, unsigned idKind);
  void offer();
  void created(std::uint32_t id, bool taken);
  void data(LittleReader& in, unsigned idKind, unsigned lengthKind, bool first);
  void close(LittleReader& in, unsigned idKind);
  Send send_;
  End end_;
  std::map<std::string, Listener> listeners_;
  std::map<std::uint32_t, std::string> offered_;  ///< a service's, by the id it gave
  std::map<std::uint32_t, Channel> open_;
};

}  // namespace kw::rdp
