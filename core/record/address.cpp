#include "record/address.hpp"

#include <algorithm>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "record/catalogue.hpp"

namespace kw {

namespace {

[[noreturn]] void wrong(const std::string& text, const std::string& why) {
  throw Error(ErrorKind::Local, why, text);
}

int hexDigit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

std::string percentDecoded(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '%' && i + 2 < text.size() && hexDigit(text[i + 1]) >= 0 && hexDigit(text[i + 2]) >= 0) {
      out += static_cast<char>(hexDigit(text[i + 1]) * 16 + hexDigit(text[i + 2]));
      i += 2;
    } else {
      out += text[i];
    }
  }
  return out;
}

std::string percentEncoded(const std::string& text, bool keepSlash = false) {
  std::string out;
  for (char c : text) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       std::string_view("-._~").find(c) != std::string_view::npos || (keepSlash && c == '/');
    out += plain ? std::string(1, c) : "%" + hex(viewOf({&c, 1}));
  }
  return out;
}

int parsePort(const std::string& whole, const std::string& digits) {
  if (digits.empty() || digits.size() > 5 || digits.find_first_not_of("0123456789") != std::string::npos)
    wrong(whole, "\"" + digits + "\" is not a port number");
  const int port = std::stoi(digits);
  if (port > 65535) wrong(whole, "port " + digits + " is larger than 65535");
  return port;
}

/// Whether text can be an IPv6 address (with a zone, perhaps); its exact form is the resolver's business.
bool looksLikeIpv6(const std::string& text) {
  const std::string address = text.substr(0, text.find('%'));
  const std::string zone = address.size() < text.size() ? text.substr(address.size() + 1) : "";
  return address.find(':') != std::string::npos &&
         address.find_first_not_of("0123456789abcdefABCDEF:.") == std::string::npos &&
         zone.find_first_not_of("0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ._-~") ==
             std::string::npos;
}

/// Splits "host", "host:digits" and "[v6]:digits"; `digits` stays empty when there is no port.
void splitHostPort(const std::string& whole, const std::string& text, std::string& host,
                   std::string& digits) {
  if (!text.empty() && text[0] == '[') {
    const auto close = text.find(']');
    if (close == std::string::npos) wrong(whole, "the ] of the address is missing");
    host = text.substr(1, close - 1);
    if (!looksLikeIpv6(host)) wrong(whole, "between [ and ] an IPv6 address is expected");
    if (close + 1 < text.size()) {
      if (text[close + 1] != ':') wrong(whole, "after ] only :port may follow");
      digits = text.substr(close + 2);
    }
    return;
  }
  const auto colon = text.find(':');
  if (colon != std::string::npos && text.find(':', colon + 1) != std::string::npos) {
    if (!looksLikeIpv6(text)) wrong(whole, "this is neither host:port nor an IPv6 address");
    host = text;
    return;
  }
  host = text.substr(0, colon);
  if (colon != std::string::npos) digits = text.substr(colon + 1);
}

void parseQuery(const std::string& query, Address& out) {
  std::size_t at = 0;
  while (at < query.size()) {
    const auto end = std::min(query.find('&', at), query.size());
    const std::string pair = query.substr(at, end - at);
    const auto equals = pair.find('=');
    if (!pair.empty())
      out.options[percentDecoded(pair.substr(0, equals))] =
          equals == std::string::npos ? "" : percentDecoded(pair.substr(equals + 1));
    at = end + 1;
  }
}

void parseAuthority(const std::string& whole, std::string rest, Address& out, bool typed) {
  if (const auto at = rest.rfind('@'); at != std::string::npos) {
    out.user = percentDecoded(rest.substr(0, at));
    if (const auto colon = out.user.find(':'); colon != std::string::npos)
      wrong(whole.substr(0, whole.find("://")) + "://…",
            "an address must not hold a password; it is asked for instead");
    rest = rest.substr(at + 1);
  }
  std::string digits;
  splitHostPort(whole, rest, out.host, digits);
  if (out.host.empty()) wrong(whole, "the host is missing");
  for (char c : out.host)
    if (static_cast<unsigned char>(c) <= 0x20 || c == 0x7f ||
        std::string_view("/\?#@[]{}|<>\"^`%").find(c) != std::string_view::npos)
      if (!(c == '%' && looksLikeIpv6(out.host))) wrong(whole, "a host name has no such characters");
  out.port = digits.empty() ? usualPort(out.scheme) : parsePort(whole, digits);
  const WayKind* known = findWayKind(out.scheme);
  if (typed && !digits.empty() && known != nullptr && known->displayBase != 0 && out.port < 100) {
    out.displayNumber = true;
    out.port += known->displayBase;
  }
  if (out.port == 0)
    wrong(whole, digits.empty() ? "the port is missing; this kind of address has no usual one"
                                : "port 0 cannot be reached");
}

}  // namespace

int usualPort(const std::string& scheme) {
  const WayKind* s = findWayKind(scheme);
  return s == nullptr ? 0 : s->port;
}

namespace {

/// Schemes with a path instead of a host.
bool hasPath(const std::string& scheme) {
  const WayKind* s = findWayKind(scheme);
  return s != nullptr && s->hasPath;
}

void takeQuery(std::string& rest, Address& out) {
  if (const auto hash = rest.find('#'); hash != std::string::npos) rest.resize(hash);
  if (const auto question = rest.find('?'); question != std::string::npos) {
    parseQuery(rest.substr(question + 1), out);
    rest.resize(question);
  }
}

Address parsePath(const std::string& text, const std::string& scheme) {
  Address out;
  out.scheme = scheme;
  std::string rest = text.substr(scheme.size() + 1);
  takeQuery(rest, out);
  out.path = percentDecoded(rest);
  while (out.path.starts_with("//")) out.path.erase(0, 1);
  if (out.path.empty() || out.path[0] != '/')
    wrong(text, scheme == "serial" ? "a serial device needs a full path, as in serial:/dev/ttyUSB0"
                                   : "a socket needs a full path");
  return out;
}

}  // namespace

Address parseAddress(const std::string& input) {
  const auto first = input.find_first_not_of(" \t\r\n");
  if (first == std::string::npos) wrong(input, "the address is empty");
  const std::string text = input.substr(first, input.find_last_not_of(" \t\r\n") - first + 1);
  Address out;
  if (text[0] == '/') {
    out.scheme = "vnc+unix";
    out.path = text.substr(
        text.find_first_not_of('/') == std::string::npos ? text.size() - 1 : text.find_first_not_of('/') - 1);
    return out;
  }
  const auto colon = text.find(':');
  const std::string scheme = colon == std::string::npos ? "" : lowered(text.substr(0, colon));
  if (hasPath(scheme)) return parsePath(text, scheme);
  const auto authority = text.find("://");
  if (authority == std::string::npos) {
    parseAuthority(text, text, out, true);
    return out;
  }
  if (findWayKind(scheme) == nullptr)
    wrong(text, "\"" + scheme + "\" is not a kind of address this program knows");
  out.scheme = scheme;
  std::string rest = text.substr(authority + 3);
  takeQuery(rest, out);
  if (const auto slash = rest.find('/'); slash != std::string::npos) rest.resize(slash);
  parseAuthority(text, rest, out, false);
  return out;
}

std::string Address::uri() const {
  std::string out;
  if (hasPath(scheme)) {
    out = scheme + ":" + percentEncoded(path, true);
  } else {
    out = scheme + "://";
    if (!user.empty()) out += percentEncoded(user) + "@";
    out += host.find(':') != std::string::npos ? "[" + host + "]" : host;
    if (port != 0) out += ":" + std::to_string(port);
  }
  char separator = '?';
  for (const auto& [key, value] : options) {
    out += separator + percentEncoded(key) + "=" + percentEncoded(value);
    separator = '&';
  }
  return out;
}

std::string Address::forPeople() const {
  if (hasPath(scheme)) return path;
  return host + " port " + std::to_string(port) +
         (displayNumber ? " (display " + std::to_string(port - findWayKind(scheme)->displayBase) + ")" : "");
}

}  // namespace kw
