#include "credential/secret_bundle.hpp"

#include <array>
#include <utility>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw {

namespace {

/// Fields by letter; lengths before them, so that a key's line breaks and raw bytes need no care.
constexpr std::pair<char, Secret SecretBundle::*> kFields[] = {{'p', &SecretBundle::password},
                                                               {'k', &SecretBundle::key},
                                                               {'f', &SecretBundle::passphrase},
                                                               {'c', &SecretBundle::codeSecret}};

}  // namespace

Secret textOf(const SecretBundle& bundle) {
  std::size_t whole = 2;
  for (const auto& [letter, field] : kFields) whole += 5 + (bundle.*field).size();
  std::string out;
  out.reserve(whole);  // what grows leaves copies that nobody wipes
  out += '1';          // the form's number
  out += static_cast<char>('0' + static_cast<int>(bundle.use));
  for (const auto& [letter, field] : kFields) {
    const Secret& value = bundle.*field;
    if (value.empty()) continue;
    std::array<Byte, 4> size{};
    storeBe32(size.data(), static_cast<std::uint32_t>(value.size()));
    out += letter;
    out.append(reinterpret_cast<const char*>(size.data()), size.size());
    out += value.view();
  }
  return out;
}

std::optional<SecretBundle> bundleFrom(std::string_view text) {
  SecretBundle out;
  if (text.size() < 2 || text[0] != '1' || text[1] < '0' || text[1] > '4') return std::nullopt;
  out.use = static_cast<SecretUse>(text[1] - '0');
  for (std::size_t at = 2; at < text.size();) {
    if (text.size() - at < 5) return std::nullopt;
    const std::size_t size = loadBe32(reinterpret_cast<const Byte*>(text.data()) + at + 1);
    if (text.size() - at - 5 < size) return std::nullopt;
    for (const auto& [letter, field] : kFields)
      if (letter == text[at]) out.*field = text.substr(at + 5, size);
    at += 5 + size;
  }
  return out;
}

}  // namespace kw
