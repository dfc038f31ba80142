// Which store is meant: a file, or a team's database.
#include <cstdlib>

#include "record/store.hpp"

namespace kw {

std::unique_ptr<ChangeWatch> Store::watch(std::function<void()>) { return nullptr; }

bool isDatabase(const std::string& place) {
  return place.starts_with("postgresql://") || place.starts_with("postgres://");
}

std::unique_ptr<Store> openStore(const std::string& place, bool make) {
  if (isDatabase(place)) return openPostgresStore(place, make);
  return openSqliteStore(place);
}

std::string usualStore() {
  const char* chosen = std::getenv("KETTLE_STORE");
  return chosen != nullptr && chosen[0] != '\0' ? chosen : usualStoreFile().string();
}

std::unique_ptr<Store> openUsualStore() { return openStore(usualStore()); }

void copySecrets(Store& from, const Snapshot& records, Store& to) {
  std::vector<Owner> owners;
  for (const auto& [id, e] : records.endpoints) owners.push_back({OwnerKind::WayIn, id});
  for (const auto& [id, m] : records.machines) owners.push_back({OwnerKind::Machine, id});
  for (const auto& [id, f] : records.folders) owners.push_back({OwnerKind::Folder, id});
  for (const auto& [id, h] : records.hosts) owners.push_back({OwnerKind::Host, id});
  for (const auto& [id, c] : records.credentials) owners.push_back({OwnerKind::Credential, id});
  for (const Owner owner : owners)
    if (const auto sealedText = from.secret(owner)) to.putSecret(owner, *sealedText);
}

}  // namespace kw
