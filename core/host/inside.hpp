// What listens inside a Linux machine, out of its own tables.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace kw::host {

constexpr const char* kListenTables[] = {"/proc/net/tcp", "/proc/net/tcp6"};

struct OpenPort {
  std::string address;  ///< "127.0.0.1", "::", …
  int port = 0;
  /// Nobody from outside the machine reaches it.
  [[nodiscard]] bool onlyInside() const;
  bool operator==(const OpenPort&) const = default;
};

/// Of the tables' lines (proc(5)) those that listen; a machine with the usual byte order is assumed. Lines
/// that are none are passed over.
std::vector<OpenPort> listenersFrom(std::string_view tables);

}  // namespace kw::host
