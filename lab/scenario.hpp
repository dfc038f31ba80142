// The botanic garden: which consoles the lab serves, and the records that reach them.
#pragma once
#include <filesystem>

#include "credential/vault.hpp"
#include "lab/host.hpp"
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

/// Fills an empty store with the garden's machines; passwords that people would have kept are kept.
/// Does nothing when the place is there already.
void fillStore(Store& store, Vault& vault, const LabSecrets& secrets);

}  // namespace kw::lab
