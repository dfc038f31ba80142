// Addresses as people write them: URIs (RFC 3986, RFC 7869 for vnc) and the short form host:number.
#pragma once
#include <map>
#include <string>

namespace kw {

struct Address {
  /// Lower case, one of allWayKinds() (record/catalogue.hpp).
  std::string scheme = "vnc";
  std::string user, host;                      ///< host without brackets
  int port = 0;                                ///< 0 for schemes without
  std::string path;                            ///< for schemes without a host
  std::map<std::string, std::string> options;  ///< the query, decoded; unknown keys are kept
  bool displayNumber = false;                  ///< ":1" was read as display 1

  bool operator==(const Address&) const = default;
  /// The canonical URI.
  [[nodiscard]] std::string uri() const;
  /// "fernery port 5901", for people.
  [[nodiscard]] std::string forPeople() const;
};

/// The port a scheme usually has; 0 when it has none.
int usualPort(const std::string& scheme);
/// Throws Error{Local} with what is wrong: a port out of range, an empty host, an unknown scheme.
/// Without a scheme: "host", "host:5901", "host:1" (display 1 = port 5901), "[2001:db8::4]:5901",
/// "/path/socket".
Address parseAddress(const std::string& text);

}  // namespace kw
