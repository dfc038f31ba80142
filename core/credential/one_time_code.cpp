#include "credential/one_time_code.hpp"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <cstdio>

#include "base/bytes.hpp"

namespace kw {

namespace {
constexpr char kLetters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";
}

std::string timeCode(std::string_view secret, std::int64_t at) {
  Byte counter[8];
  const auto step = static_cast<std::uint64_t>(at / kCodeSeconds);
  storeBe32(counter, static_cast<std::uint32_t>(step >> 32));
  storeBe32(counter + 4, static_cast<std::uint32_t>(step));
  Byte digest[20];
  unsigned size = sizeof digest;
  HMAC(EVP_sha1(), secret.data(), static_cast<int>(secret.size()), counter, sizeof counter, digest, &size);
  // RFC 4226 5.3: dynamic truncation.
  const std::uint32_t number = loadBe32(digest + (digest[19] & 0x0f)) & 0x7fffffff;
  char out[8];
  std::snprintf(out, sizeof out, "%06u", number % 1000000);
  return out;
}

int codeSecondsLeft(std::int64_t at) { return kCodeSeconds - static_cast<int>(at % kCodeSeconds); }

std::string base32(const std::string& bytes) {
  std::string out;
  std::uint64_t held = 0;
  int bits = 0;
  for (const char c : bytes) {
    held = held << 8 | static_cast<unsigned char>(c);
    for (bits += 8; bits >= 5; bits -= 5) out += kLetters[held >> (bits - 5) & 31];
  }
  if (bits > 0) out += kLetters[held << (5 - bits) & 31];
  return out;
}

std::optional<std::string> fromBase32(const std::string& text) {
  std::string out;
  std::uint64_t held = 0;
  int bits = 0;
  for (const char c : text) {
    if (c == ' ' || c == '-' || c == '=') continue;
    const char upper = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
    const auto at = std::string_view(kLetters).find(upper);
    if (at == std::string_view::npos) return std::nullopt;
    held = held << 5 | at;
    bits += 5;
    if (bits < 8) continue;
    bits -= 8;
    out += static_cast<char>(held >> bits & 0xff);
  }
  return out;
}

std::optional<std::string> codeSecretFrom(const std::string& text) {
  std::string secret = text;
  if (text.starts_with("otpauth:")) {
    const auto at = text.find("secret=");
    if (!text.starts_with("otpauth://totp/") || at == std::string::npos) return std::nullopt;
    secret = text.substr(at + 7, text.find('&', at) - at - 7);
  }
  auto raw = fromBase32(secret);
  if (!raw || raw->size() < 5) return std::nullopt;
  return raw;
}

}  // namespace kw
