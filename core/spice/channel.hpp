// One channel of a SPICE session: its link, its messages with the small header, acknowledgements. On one
// strand.
#pragma once
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/little.hpp"
#include "base/runtime.hpp"
#include "base/secret.hpp"
#include "spice/constants.hpp"
#include "wire/stream.hpp"
#include "wire/wire_reader.hpp"

namespace kw::spice {

struct LinkWish {
  std::uint32_t connectionId = 0;  ///< 0 for the main channel
  ChannelKind kind = ChannelKind::Main;
  unsigned id = 0;
  std::uint32_t capabilities = 0;  ///< of the channel
  Secret password;
};

/// What the server wants instead of a plain link.
class NeedsSeal : public Error {
 public:
  using Error::Error;
};

/// Writes and reads the link messages; returns the server's capability word of the channel. Throws Error:
/// SignInFailed for a wrong ticket, NeedsSeal, Unsupported, ProtocolBroken.
Task<std::uint32_t> link(ByteStream& stream, LinkWish wish);

class Channel {
 public:
  using Handler = std::function<void(unsigned type, ByteView body)>;
  Channel(const Executor& strand, StreamPtr stream, ChannelKind kind, unsigned id)
      : stream_(std::move(stream)), in_(*stream_), kind_(kind), id_(id), work_(strand) {}

  /// Runs until the channel ends; always with an Error.
  Task<void> run(Handler handler);
  void send(unsigned type, ByteView body);
  void close();
  [[nodiscard]] ChannelKind kind() const { return kind_; }
  [[nodiscard]] unsigned id() const { return id_; }
  [[nodiscard]] std::uint64_t bytesIn() const { return in_.offset(); }
  [[nodiscard]] std::uint64_t bytesOut() const { return bytesOut_; }

 private:
  Task<void> readMessages(Handler& handler);
  Task<void> writeMessages();
  bool common(unsigned type, ByteView body);
  StreamPtr stream_;
  WireReader in_;
  ChannelKind kind_;
  unsigned id_;
  Signal work_;
  Bytes outgoing_;
  std::uint32_t window_ = 0, seen_ = 0;
  std::uint64_t bytesOut_ = 0;
  bool closed_ = false;
};

}  // namespace kw::spice
