// The way from this desk to a peer, jumps included. It can be walked again and again: an engine with several
// connections, or one that is sent elsewhere, opens each over the same route.
#pragma once
#include <memory>
#include <optional>
#include <string>

#include "session/session.hpp"
#include "wire/stream.hpp"

namespace kw {

/// Where to go instead of the address of the way in.
struct Place {
  std::string host;  ///< empty: the same host
  int port = 0;      ///< 0: the same port
};

class Way {
 public:
  virtual ~Way() = default;
  /// A fresh stream to the peer (or to `elsewhere`, over the same jumps). Questions of jumps go to `asker`;
  /// jumps and address are written into `facts` and `findings`. On the caller's strand. Throws Error as
  /// connectTcp() does.
  virtual Task<StreamPtr> connect(Asker& asker, RouteFacts& facts, ConnectFindings* findings,
                                  std::optional<Place> elsewhere = {}) = 0;
  /// What certificates and keys of this peer are remembered by. Jumps are part of it: the 192.168.1.10 of two
  /// sites are two peers.
  [[nodiscard]] virtual std::string pinName() const = 0;
  /// "fernery port 5907", for sentences.
  [[nodiscard]] virtual std::string forPeople() const = 0;
};

}  // namespace kw
