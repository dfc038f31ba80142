// The client's way through version, security and sign-in (RFC 6143 7.1, 7.2; registry: VeNCrypt, RSA-AES).
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "credential/sign_in.hpp"
#include "rfb/constants.hpp"
#include "wire/stream.hpp"
#include "wire/tls.hpp"

namespace kw::rfb {

struct SignInRequest {
  bool wantsUser = false;        ///< false: a password alone
  bool eightCharacters = false;  ///< only the first eight characters of the password count
  std::string method;            ///< "VNC password", "VeNCrypt Plain"
  SecretUse use = SecretUse::Unknown;
};
using kw::SignIn;

/// Questions of the handshake; each is awaited.
class HandshakeQuestions {
 public:
  virtual ~HandshakeQuestions() = default;
  virtual Task<SignIn> signIn(SignInRequest request) = 0;
  virtual Task<bool> trust(PeerCertificate certificate) = 0;
  /// The peer offers nothing that seals the session; asked before anything of a sign-in is sent. False ends
  /// it.
  virtual Task<bool> plain(std::string /*method*/) { co_return true; }
  /// The line will be sealed, but the peer proves nothing (anonymous TLS). False ends it.
  virtual Task<bool> unproved(std::string /*method*/) { co_return true; }
};

/// Which security kinds are taken, from records ("security kinds" setting).
struct SecurityPolicy {
  bool sealedOnly = false;  ///< refuse what leaves the session in the clear
  bool allowAnonymousTls = true;
  std::string authorityFile;
};

struct HandshakeResult {
  StreamPtr stream;      ///< may be a TLS or AES stream over the given one
  int minorVersion = 8;  ///< 3, 7 or 8
  std::string security;  ///< "VeNCrypt X509Vnc", for the route and the journal
};

/// Runs up to and including SecurityResult. `host` is checked against certificates.
/// Throws Error: SignInFailed with the peer's reason, NotTrusted, Unsupported, ProtocolBroken.
Task<HandshakeResult> shakeHands(StreamPtr stream, std::string host, SecurityPolicy policy,
                                 HandshakeQuestions& questions);

}  // namespace kw::rfb
