// A service that sends the session to another one: a farm's broker (MS-RDPBCGR 2.2.13).
#pragma once
#include <optional>
#include <string>

#include "base/error.hpp"
#include "base/little.hpp"

namespace kw::rdp {

struct Redirection {
  std::string address;       ///< empty: the same one, with the routing token
  std::string routingToken;  ///< for the connection request
  std::string user, domain;  ///< empty: as before
  bool onlyTold = false;     ///< nothing to connect to: the service only says where it is
};
/// The packet after its security header, or after the padding of its share. Throws Error{ProtocolBroken}.
Redirection readRedirection(ByteView packet);
Bytes writeRedirection(const Redirection& redirection);

/// How run() of a client ends when it was sent elsewhere.
class SentElsewhere : public Error {
 public:
  SentElsewhere(Redirection to, std::string peer)
      : Error(ErrorKind::ClosedByPeer, "the service sends this session to another machine", std::move(peer)),
        to_(std::move(to)) {}
  [[nodiscard]] const Redirection& to() const { return to_; }

 private:
  Redirection to_;
};

}  // namespace kw::rdp
