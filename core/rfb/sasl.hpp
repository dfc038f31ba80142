// Signing in by SASL (RFC 4422) inside RFB: security type 20 and VeNCrypt's sub-types 263 and 264, as the
// registry lists them. The mechanisms are Cyrus SASL's. Those that show the password to the other side are
// used inside TLS with a certificate only; elsewhere a mechanism is taken only when it can seal the session
// itself.
#pragma once
#include <functional>
#include <string>

#include "rfb/handshake.hpp"

namespace kw::rfb {

struct SaslOutcome {
  std::string mechanism;  ///< "SCRAM-SHA-256"
  /// Puts the mechanism's own sealing over the stream, from after SecurityResult on; null when TLS does it.
  std::function<StreamPtr(StreamPtr)> seal;
};

/// `overTls`: the stream is TLS with a certificate. `ask` is called at most once, with the mechanism's name.
/// Throws Error: SignInFailed, Unsupported (no mechanism in common), ProtocolBroken.
Task<SaslOutcome> saslSignIn(ByteStream& stream, std::string host, bool overTls,
                             std::function<Task<SignIn>(std::string mechanism)> ask);

}  // namespace kw::rfb
