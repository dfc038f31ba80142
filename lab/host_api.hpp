// The small interface of the lab's hosts: what they run, power, consoles. Spoken over a local socket by
// `kettle-lab host NAME …`, which is the hosts' "own command".
#pragma once
#include <filesystem>
#include <memory>

#include "host/adapter.hpp"
#include "lab/host.hpp"

namespace kw::lab {

/// One machine of a host, as the lab runs it.
struct HostedMachine {
  std::string host;  ///< "fernery"
  std::string name, id;
  Console* console = nullptr;  ///< null: known to the host, but never runs
  bool on = true;
  std::vector<std::string> addresses;
  std::vector<std::string> serials;  ///< addresses as ways in
};

/// Serves the socket until destroyed. Consoles are switched on a strand of its own runtime, which must not be
/// the one that the consoles run on.
class HostApi {
 public:
  HostApi(const Executor& strand, const std::filesystem::path& socket, std::vector<HostedMachine> machines);
  ~HostApi();
  /// What somebody at the host itself does. From any other thread than the API's.
  void powerFor(const std::string& host, const std::string& id, const std::string& verb);
  /// Watchers are told what has changed elsewhere.
  void tell();

 private:
  struct State;
  std::shared_ptr<State> state_;
};

/// What a machine's host tells of it.
host::StockMachine stockOf(const HostedMachine& machine, bool on, const std::string& since,
                           const std::string& reason);

/// `kettle-lab host NAME VERB …`: relays one request to the running lab and copies its answers to standard
/// output. Returns the exit code.
int relayHostRequest(const std::filesystem::path& socket, const std::vector<std::string>& words);

/// Where the running lab listens.
std::filesystem::path hostApiSocket();
/// A UUID (version 8) that is the same for a name each time.
std::string idForName(const std::string& name);

}  // namespace kw::lab
