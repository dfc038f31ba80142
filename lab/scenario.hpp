// The botanic garden: which consoles the lab serves, and the records that reach them.
#pragma once
#include <filesystem>

#include "credential/vault.hpp"
#include "lab/host.hpp"
#include "lab/ssh_server.hpp"
#include "lab/text_service.hpp"
#include "record/store.hpp"

namespace kw::lab {

/// Passwords and the certificate of the lab, made at its first start and kept (mode 0600).
struct LabSecrets {
  std::map<std::string, std::string> consolePasswords;  ///< by machine
  std::string guestPassword;
  MadeCertificate certificate;
};
LabSecrets loadOrMakeSecrets(const std::filesystem::path& folder);

/// The VNC consoles of hosts fernery and orchard.
std::vector<ConsolePlan> consolePlans(const LabSecrets& secrets);

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
void fillStore(Store& store, Vault& vault, const LabSecrets& secrets, const Gatehouse* gatehouse = nullptr);

}  // namespace kw::lab
