#include "base/bytes.hpp"

namespace kw {

std::string hex(ByteView bytes, std::string_view separator) {
  static constexpr char digits[] = "0123456789abcdef";
  std::string out;
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if (i != 0) out += separator;
    out += digits[bytes[i] >> 4];
    out += digits[bytes[i] & 15];
  }
  return out;
}

void appendUtf8(std::string& out, char32_t c) {
  if (c < 0x80) {
    out += static_cast<char>(c);
  } else if (c < 0x800) {
    out += static_cast<char>(0xc0 | (c >> 6));
    out += static_cast<char>(0x80 | (c & 0x3f));
  } else if (c < 0x10000) {
    out += static_cast<char>(0xe0 | (c >> 12));
    out += static_cast<char>(0x80 | ((c >> 6) & 0x3f));
    out += static_cast<char>(0x80 | (c & 0x3f));
  } else {
    out += static_cast<char>(0xf0 | (c >> 18));
    out += static_cast<char>(0x80 | ((c >> 12) & 0x3f));
    out += static_cast<char>(0x80 | ((c >> 6) & 0x3f));
    out += static_cast<char>(0x80 | (c & 0x3f));
  }
}

namespace {

constexpr char32_t kReplacement = 0xfffd;

struct Lead {
  int following;
  char32_t bits;
  char32_t smallest;
};

Lead classify(unsigned char lead) {
  if (lead >= 0xc2 && lead <= 0xdf) return {1, lead & 0x1fU, 0x80};
  if (lead >= 0xe0 && lead <= 0xef) return {2, lead & 0x0fU, 0x800};
  if (lead >= 0xf0 && lead <= 0xf4) return {3, lead & 0x07U, 0x10000};
  return {-1, 0, 0};
}

bool isScalar(char32_t c, char32_t smallest) {
  return c >= smallest && c <= 0x10ffff && !(c >= 0xd800 && c <= 0xdfff);
}

/// Decodes one code point at `at` and moves past it; malformed input yields U+FFFD and moves one byte.
char32_t decodeOne(std::string_view text, std::size_t& at) {
  const auto lead = static_cast<unsigned char>(text[at++]);
  if (lead < 0x80) return lead;
  const Lead kind = classify(lead);
  if (kind.following < 0 || text.size() - at < static_cast<std::size_t>(kind.following)) return kReplacement;
  char32_t c = kind.bits;
  for (int i = 0; i < kind.following; ++i) {
    const auto next = static_cast<unsigned char>(text[at + static_cast<std::size_t>(i)]);
    if ((next & 0xc0) != 0x80) return kReplacement;
    c = (c << 6) | (next & 0x3f);
  }
  if (!isScalar(c, kind.smallest)) return kReplacement;
  at += static_cast<std::size_t>(kind.following);
  return c;
}

}  // namespace

std::u32string utf8ToUtf32(std::string_view utf8) {
  std::u32string out;
  out.reserve(utf8.size());
  for (std::size_t at = 0; at < utf8.size();) out += decodeOne(utf8, at);
  return out;
}

std::string cleanUtf8(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  for (std::size_t at = 0; at < text.size();) appendUtf8(out, decodeOne(text, at));
  return out;
}

std::string latin1ToUtf8(std::string_view latin1) {
  std::string out;
  for (char c : latin1) appendUtf8(out, static_cast<unsigned char>(c));
  return out;
}

std::string utf8ToLatin1(std::string_view utf8) {
  std::string out;
  for (char32_t c : utf8ToUtf32(utf8)) out += c < 0x100 ? static_cast<char>(c) : '?';
  return out;
}

std::string lowered(std::string_view text) {
  std::string out(text);
  for (char& c : out)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return out;
}

}  // namespace kw
