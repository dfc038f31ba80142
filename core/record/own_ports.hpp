// Ports of this computer that programs of this product listen at: nothing that one would keep a way in to.
#pragma once
#include <map>
#include <optional>
#include <string>

namespace kw {

/// TCP ports and the names of the programs that listen at them, of those whose names are in kOwnListeners and
/// which this user may look into (proc(5)). Never throws; empty where /proc tells nothing.
std::map<int, std::string> ownPorts();

/// Looks once, when it is first asked about an address of this computer.
class OwnPorts {
 public:
  /// "kettle-gate" when it listens at this port of this computer; nothing for other computers' addresses.
  std::optional<std::string> programAt(const std::string& host, int port);

 private:
  std::optional<std::map<int, std::string>> ports_;
};

}  // namespace kw
