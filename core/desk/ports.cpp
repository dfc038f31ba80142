#include "desk/ports.hpp"

#include <set>

#include "base/error.hpp"

namespace kw {

std::optional<std::string> clashOf(const Snapshot& records, const Endpoint& way) {
  const auto others = records.sharingAddress(way);
  if (others.empty()) return std::nullopt;
  const auto machine = records.machines.find(others.front()->machine);
  if (machine == records.machines.end()) return std::nullopt;
  return machine->second.name;
}

int freePortFrom(const Snapshot& records, const Address& address) {
  std::set<int> taken;
  for (const auto& [id, e] : records.endpoints) {
    try {
      const Address other = parseAddress(e.address);
      if (other.host == address.host) taken.insert(other.port);
    } catch (const Error&) {
      continue;
    }
  }
  int port = address.port;
  while (port < 65535 && taken.contains(port)) ++port;
  return port;
}

}  // namespace kw
