// The botanic garden: which consoles the lab serves, and the records that reach them.
#pragma once
#include <filesystem>

#include "credential/vault.hpp"
#include "lab/host.hpp"
#include "lab/host_api.hpp"
#include "lab/ssh_server.hpp"
#include "lab/text_service.hpp"
#include "record/store.hpp"

namespace kw::lab {

/// Passwords and the certificate of the lab, made at its first start and kept (mode 0600).
struct LabSecrets {
  std::map<std::string, std::string> consolePasswords;  ///< by machine
  std::string guestPassword;                            ///< of "duty" on every guest
  std::string hostPassword;                             ///< of "duty" on fernery and orchard
  MadeCertificate certificate;
};
LabSecrets loadOrMakeSecrets(const std::filesystem::path& folder);

/// The consoles of hosts fernery and orchard and the services inside their guests. seed-bank's own service
/// answers so long after the machine runs.
std::vector<ConsolePlan> consolePlans(const LabSecrets& secrets,
                                      std::chrono::milliseconds serviceDelay = std::chrono::seconds(40));

/// The consoles as their hosts know them.
std::vector<HostedMachine> hostedMachines(const std::vector<std::unique_ptr<Console>>& consoles);
/// bee-camera is off until somebody starts it.
bool isOffAtFirst(const ConsolePlan& plan);

/// fernery's port for consoles by machine ID, with the host's account.
struct ConsolePortPlan {
  std::string address = "127.0.0.11";
  std::uint16_t port = 2179;
  rdp::ServerOptions options;
};
ConsolePortPlan consolePortPlan(const LabSecrets& secrets);
/// What fernery knows seed-bank by.
extern const char* const kSeedBankId;

/// The jump host gatehouse, as the records need it.
struct Gatehouse {
  std::string address = "127.0.0.13";
  std::uint16_t port = 2213;
  std::string user, keyFile, knownHosts;
  std::string sha256;  ///< of its host key, which duty has trusted before
};
SshServerPlan gatehousePlan(const std::filesystem::path& stateFolder);
Gatehouse gatehouseFor(const SshServer& server, const SshServerPlan& plan);

/// mist-bench's serial line, weather-mast behind its terminal server, irrigation-plc's menu.
std::vector<TextServicePlan> textPlans(const LabSecrets& secrets);
/// Where mist-bench's serial port is: a socket, as hypervisors give it.
std::filesystem::path mistBenchSocket();

/// Fills an empty store with the garden's machines; passwords that people would have kept are kept.
/// Does nothing when the place is there already.
/// `labProgram`: kettle-lab's path, by which the hosts are asked; empty: no hosts.
void fillStore(Store& store, Vault& vault, const LabSecrets& secrets, const Gatehouse* gatehouse = nullptr,
               const std::string& labProgram = "");

}  // namespace kw::lab
