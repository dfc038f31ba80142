// A name and a password, and what a way of signing in does with them on their way to the peer.
#pragma once
#include <string>

#include "base/secret.hpp"

namespace kw {

/// How a password travels. A kept one answers only the kind that it was kept for (mayAnswer), so that an
/// impostor who offers less gets nothing.
enum class SecretUse {
  Unknown,    ///< kept before kinds were told apart, or typed on a sheet
  Clear,      ///< anybody on the way can read it
  Challenge,  ///< only an answer to a challenge goes over a plain line
  Sealed,     ///< encrypted, but nobody proved who he is
  Proved,     ///< encrypted to a peer whose certificate or key is trusted
};

struct SignIn {
  std::string user;
  Secret password;
  SecretUse use = SecretUse::Unknown;  ///< what it was given for
  std::string domain = {};             ///< where accounts have one; empty: the setting's, or the name's own
};

/// True when a secret kept for `kept` may be sent by itself where the peer's method does `offered`.
inline bool mayAnswer(SecretUse kept, SecretUse offered) {
  if (offered == SecretUse::Clear) return false;
  if (kept == SecretUse::Unknown) return offered == SecretUse::Challenge || offered == SecretUse::Proved;
  if (kept == SecretUse::Clear) return offered == SecretUse::Challenge;
  return kept == offered;
}

}  // namespace kw
