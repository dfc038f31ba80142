#include "base/error.hpp"

namespace kw {

const char* nameOf(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::Unreachable: return "unreachable";
    case ErrorKind::Refused: return "refused";
    case ErrorKind::TimedOut: return "timed out";
    case ErrorKind::NameUnknown: return "name unknown";
    case ErrorKind::SignInFailed: return "sign-in failed";
    case ErrorKind::NotTrusted: return "not trusted";
    case ErrorKind::ProtocolBroken: return "protocol broken";
    case ErrorKind::ClosedByPeer: return "closed by peer";
    case ErrorKind::Cancelled: return "ended here";
    case ErrorKind::Unsupported: return "not supported";
    case ErrorKind::Local: return "local problem";
  }
  return "unknown";
}

Error::Error(ErrorKind kind, const std::string& what, std::string where)
    : std::runtime_error(where.empty() ? what : where + ": " + what),
      kind_(kind),
      detail_(what),
      where_(std::move(where)) {}

std::string Error::cure() const {
  if (!ownCure_.empty()) return ownCure_;
  switch (kind_) {
    case ErrorKind::Unreachable:
      return "Check the address, and whether this desk has a way into that network.";
    case ErrorKind::Refused:
      return "The host answers but nothing listens on this port: check the port, and that the console is "
             "switched "
             "on and not bound to another address.";
    case ErrorKind::TimedOut: return "Wrong address, host off, or a firewall that drops the packets.";
    case ErrorKind::NameUnknown: return "Check the spelling of the host name, or use its address.";
    case ErrorKind::SignInFailed:
      return "Enter the password again; many hosts forget a console password at every restart.";
    case ErrorKind::NotTrusted: return "Compare the fingerprint with the host's own before trusting it.";
    case ErrorKind::ProtocolBroken: return "Is this the right port? Another service may be answering there.";
    case ErrorKind::ClosedByPeer:
      return "The machine may be restarting, or another viewer may have taken over.";
    case ErrorKind::Unsupported: return "Choose another security kind in the host's console settings.";
    case ErrorKind::Cancelled:
    case ErrorKind::Local: break;
  }
  return {};
}

void protocolBroken(const std::string& message, const std::string& what) {
  throw Error(ErrorKind::ProtocolBroken, what, message);
}

}  // namespace kw
