// The one error type of the core: what went wrong, where, and of which kind.
#pragma once
#include <stdexcept>
#include <string>

namespace kw {

enum class ErrorKind {
  Unreachable,     ///< no route to the host, network down, path missing
  Refused,         ///< the host answers, but nothing listens there
  TimedOut,        ///< no answer in time
  NameUnknown,     ///< the name does not resolve
  SignInFailed,    ///< the peer did not take the password, name or code
  NotTrusted,      ///< certificate or key not trusted
  ProtocolBroken,  ///< the peer sent something the protocol does not allow, or past a limit
  ClosedByPeer,    ///< the peer ended the connection
  Cancelled,       ///< ended from this side
  Unsupported,     ///< the peer demands something this program does not have
  Local,           ///< this machine: a file, a full disk, a bad argument
};

/// A short plain sentence for the kind, in lower case: "refused".
const char* nameOf(ErrorKind kind);

class Error : public std::runtime_error {
 public:
  /// `where` names the peer or the message in which it happened; may be empty.
  Error(ErrorKind kind, const std::string& what, std::string where = {});
  [[nodiscard]] ErrorKind kind() const { return kind_; }
  [[nodiscard]] const std::string& where() const { return where_; }
  /// The sentence without the place.
  [[nodiscard]] const std::string& detail() const { return detail_; }
  /// What a person can do about it; empty when nothing sensible can be said.
  [[nodiscard]] std::string cure() const;
  /// The same error with a cure of its own, where the one of its kind would mislead.
  [[nodiscard]] Error withCure(std::string cure) const {
    Error out = *this;
    out.ownCure_ = std::move(cure);
    return out;
  }

 private:
  ErrorKind kind_;
  std::string detail_;
  std::string where_;
  std::string ownCure_;
};

/// A peer broke the protocol: names the message and what was wrong with it.
[[noreturn]] void protocolBroken(const std::string& message, const std::string& what);

}  // namespace kw
