// A text under a passphrase, as a file to hand on: Argon2id makes the key, XChaCha20-Poly1305 seals. The file
// is JSON, so that what it is can be seen.
#pragma once
#include <string>

namespace kw {

bool isSealedText(const std::string& text);
/// Throws Error{Local} for an empty passphrase, or too little memory.
std::string sealedText(const std::string& plain, const std::string& passphrase);
/// Throws Error{SignInFailed} for a wrong passphrase (or an altered file), {Local} for one that cannot be
/// read.
std::string openedText(const std::string& sealedText, const std::string& passphrase);

}  // namespace kw
