// Codes that change every 30 seconds (RFC 6238 with SHA-1 and six digits), and their secrets in base32
// (RFC 4648 6).
#pragma once
#include <cstdint>
#include <optional>
#include <string>

namespace kw {

constexpr int kCodeSeconds = 30;

/// `secret` is raw bytes, `at` seconds since 1970.
std::string timeCode(std::string_view secret, std::int64_t at);
/// How long the code of this moment is good for: 1 to 30.
int codeSecondsLeft(std::int64_t at);
std::string base32(const std::string& bytes);
/// Case, blanks and trailing '=' do not matter. Nothing when there are other signs in it.
std::optional<std::string> fromBase32(const std::string& text);
/// From base32, or from an "otpauth://totp/…?secret=…" address as services show it. Nothing when it is
/// neither.
std::optional<std::string> codeSecretFrom(const std::string& text);

}  // namespace kw
