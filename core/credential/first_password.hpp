// The first password of a machine in a cloud: made there, encrypted to the owner's RSA key (RFC 8017:
// RSAES-PKCS1 v1.5 or RSAES-OAEP) and shown as base64.
#pragma once
#include <string>

namespace kw {

/// `key` is the private key's text: PEM (PKCS#1, PKCS#8, plain or under `passphrase`) or OpenSSH's form
/// without a passphrase.
/// Throws Error{Local} with what is wrong: no base64, no RSA key, passphrase missing or wrong, another key.
std::string firstPassword(const std::string& blob, const std::string& key, const std::string& passphrase);
/// True when the text is a private key that opens only with a passphrase.
bool needsPassphrase(const std::string& key);

/// A password by a target's rules; ambiguous signs (0 O 1 l I) are left out.
struct PasswordRules {
  int length = 20;
  bool lower = true, upper = true, digits = true, signs = true;
};
/// Has at least one of each class that is on. Throws Error{Local} when none is, or the length is too short
/// for them.
std::string newPassword(const PasswordRules& rules);

}  // namespace kw
