// What a host tells of its machines, whatever kind of host it is; and the same as JSON (docs/formats.md).
#pragma once
#include <map>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

namespace kw::host {

enum class Running {
  Unknown,
  Off,
  On,  ///< runs; says nothing about whether anything in it answers
  Paused,
  Stopping,  ///< was asked to shut down
  Crashed,
};
/// "running", "off", … as JSON and the command line have it.
const char* nameOf(Running state);

/// A screen of the machine that its host serves.
struct ConsoleFacts {
  std::string scheme;      ///< "vnc", "spice", "rdp"
  std::string listen;      ///< the host's address it listens on; empty when the host did not say
  std::string socket;      ///< a path on the host instead of a port
  int port = 0;            ///< 0: not while the machine is off, or only with TLS
  int tlsPort = 0;         ///< 0: none
  bool automatic = false;  ///< the host picks another port at each start
  bool password = false;   ///< one is asked for
  bool byId = false;       ///< one port for all machines of the host; this one is named by its ID
  int screens = 1;
  bool operator==(const ConsoleFacts&) const = default;
};

/// A line of text that the host serves.
struct SerialFacts {
  std::string name;     ///< "serial0"
  std::string address;  ///< as a way in: "unix:/run/mist-bench.serial", "serial:/dev/pts/4"; empty: not now
  bool operator==(const SerialFacts&) const = default;
};

struct StockMachine {
  std::string id;  ///< never changes; UUID where the host has them
  std::string name, title;
  Running state = Running::Unknown;
  std::string reason;  ///< "shut down by the guest"; may be empty
  std::string since;   ///< ISO 8601, UTC: when the state began, as far as anybody saw it
  std::vector<ConsoleFacts> consoles;
  std::vector<SerialFacts> serials;
  std::vector<std::string> addresses;  ///< of the guest's own network
  std::string addressesFrom;           ///< "by its agent"
  bool agent = false;                  ///< an agent in the guest answers the host
  int processors = 0, memory = 0;      ///< memory in MiB; 0: not told
  bool operator==(const StockMachine&) const = default;
};

/// By ID.
using Stock = std::map<std::string, StockMachine>;

nlohmann::json toJson(const StockMachine& machine);
/// Throws Error{ProtocolBroken} for what is no such object; unknown fields are passed over.
StockMachine stockMachineFrom(const nlohmann::json& json);

/// "2026-11-26T09:12:00Z"
std::string timeText();

}  // namespace kw::host
