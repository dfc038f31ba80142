#include "host/inside.hpp"

#include <arpa/inet.h>

#include <array>
#include <charconv>
#include <optional>
#include <sstream>

namespace kw::host {

namespace {

constexpr std::string_view kListens = "0A";

template <typename T>
std::optional<T> hexadecimal(std::string_view text) {
  T value{};
  const auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), value, 16);
  if (code != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

/// Words of 32 bits as the machine keeps them: the lowest byte is the address's first.
std::optional<std::string> addressFrom(std::string_view hex) {
  std::array<unsigned char, 16> bytes{};
  if (hex.size() != 8 && hex.size() != 32) return std::nullopt;
  for (std::size_t word = 0; word < hex.size() / 8; ++word) {
    const auto value = hexadecimal<std::uint32_t>(hex.substr(word * 8, 8));
    if (!value) return std::nullopt;
    for (std::size_t i = 0; i < 4; ++i)
      bytes[word * 4 + i] = static_cast<unsigned char>(*value >> (8 * i) & 0xff);
  }
  char text[INET6_ADDRSTRLEN] = {};
  inet_ntop(hex.size() == 8 ? AF_INET : AF_INET6, bytes.data(), text, sizeof text);
  return std::string(text);
}

}  // namespace

bool OpenPort::onlyInside() const {
  return address.starts_with("127.") || address == "::1" || address.starts_with("::ffff:127.");
}

std::vector<OpenPort> listenersFrom(std::string_view tables) {
  std::vector<OpenPort> out;
  std::istringstream lines{std::string(tables)};
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string number, local, remote, state;
    words >> number >> local >> remote >> state;
    const auto colon = local.find(':');
    if (state != kListens || colon == std::string::npos) continue;
    const auto address = addressFrom(std::string_view(local).substr(0, colon));
    const auto port = hexadecimal<std::uint16_t>(std::string_view(local).substr(colon + 1));
    if (address && port) out.push_back({*address, *port});
  }
  return out;
}

}  // namespace kw::host
