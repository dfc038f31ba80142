// Everything secret about a named credential, sealed as one.
#pragma once
#include <optional>
#include <string>

#include "credential/sign_in.hpp"

namespace kw {

struct SecretBundle {
  Secret password;
  Secret key;         ///< a private key's text, kept inside
  Secret passphrase;  ///< of that key
  Secret codeSecret;  ///< raw bytes (one_time_code.hpp)
  SecretUse use = SecretUse::Unknown;
  [[nodiscard]] bool empty() const { return password.empty() && key.empty() && codeSecret.empty(); }
};

/// As it lies inside the seal.
Secret textOf(const SecretBundle& bundle);
/// Nothing when it cannot be read.
std::optional<SecretBundle> bundleFrom(std::string_view text);

}  // namespace kw
