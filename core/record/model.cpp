#include "record/model.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "record/address.hpp"
#include "record/setting.hpp"

namespace kw {

std::string Endpoint::scheme() const { return address.substr(0, address.find(':')); }

namespace {
/// What must be equal for two ways in to reach the same thing; empty for what cannot be compared.
std::string reachKey(const Endpoint& endpoint) {
  try {
    const Address a = parseAddress(endpoint.address);
    if (a.host.empty()) return a.path;
    // Behind one port of a host there may be many consoles, each by its machine's ID.
    const auto machine = a.options.find("machine");
    return a.host + ":" + std::to_string(a.port) + (machine == a.options.end() ? "" : " " + machine->second);
  } catch (const Error&) {
    return {};
  }
}
}  // namespace

void Snapshot::index() {
  endpointsByMachine_.clear();
  endpointsByAddress_.clear();
  for (const auto& [id, endpoint] : endpoints) {
    endpointsByMachine_[endpoint.machine].push_back(id);
    if (auto key = reachKey(endpoint); !key.empty()) endpointsByAddress_[key].push_back(id);
  }
  for (auto& [machine, ids] : endpointsByMachine_)
    std::sort(ids.begin(), ids.end(), [&](Id a, Id b) {
      return std::pair(endpoints.at(a).position, a) < std::pair(endpoints.at(b).position, b);
    });
}

std::vector<const Endpoint*> Snapshot::endpointsOf(Id machine) const {
  std::vector<const Endpoint*> out;
  if (const auto found = endpointsByMachine_.find(machine); found != endpointsByMachine_.end())
    for (Id id : found->second) out.push_back(&endpoints.at(id));
  return out;
}

const Machine* Snapshot::machineNamed(const std::string& name) const {
  for (const auto& [id, machine] : machines)
    if (machine.name == name) return &machine;
  return nullptr;
}

const HostRecord* Snapshot::hostNamed(const std::string& name) const {
  for (const auto& [id, host] : hosts)
    if (host.name == name) return &host;
  return nullptr;
}

const Credential* Snapshot::credentialNamed(const std::string& name) const {
  for (const auto& [id, credential] : credentials)
    if (credential.name == name) return &credential;
  return nullptr;
}

std::vector<const Folder*> Snapshot::pathOf(Id folder) const {
  std::vector<const Folder*> path;
  for (auto at = folders.find(folder); at != folders.end() && path.size() < 32;
       at = folders.find(at->second.parent))
    path.insert(path.begin(), &at->second);
  return path;
}

std::vector<const Endpoint*> Snapshot::sharingAddress(const Endpoint& endpoint) const {
  std::vector<const Endpoint*> out;
  const auto found = endpointsByAddress_.find(reachKey(endpoint));
  if (found == endpointsByAddress_.end()) return out;
  for (Id id : found->second)
    if (endpoints.at(id).machine != endpoint.machine) out.push_back(&endpoints.at(id));
  return out;
}

ResolvedSetting Snapshot::resolve(Owner owner, const std::string& key, const SettingChanges* changes) const {
  const Setting* setting = findSetting(key);
  std::string trouble;
  const auto valueAt = [&](Owner at) -> const std::string* {
    const std::string* found = nullptr;
    if (changes != nullptr)
      if (const auto changed = changes->find(at); changed != changes->end())
        if (const auto value = changed->second.find(key); value != changed->second.end())
          // What is being typed is shown as it is, right or wrong.
          return value->second ? &*value->second : nullptr;
    if (const auto values = settings.find(at); values != settings.end())
      if (const auto value = values->second.find(key); value != values->second.end()) found = &value->second;
    if (found == nullptr || setting == nullptr) return found;
    const std::string problem = problemWith(*setting, *found);
    if (problem.empty()) return found;
    if (trouble.empty()) trouble = problem;
    return nullptr;
  };
  const auto out = [&](const std::string& value, std::string origin, bool here) {
    return ResolvedSetting{value, std::move(origin), here, trouble};
  };
  if (const std::string* own = valueAt(owner)) return out(*own, "set here", true);
  Id folder = owner.kind == OwnerKind::Folder ? owner.id : 0;
  Id machine = owner.kind == OwnerKind::Machine ? owner.id : 0;
  if (owner.kind == OwnerKind::WayIn)
    if (const auto endpoint = endpoints.find(owner.id); endpoint != endpoints.end()) {
      machine = endpoint->second.machine;
      if (const std::string* value = valueAt({OwnerKind::Machine, machine}))
        return out(*value, "from the machine", false);
    }
  if (const auto found = machines.find(machine); found != machines.end()) folder = found->second.folder;
  if (owner.kind == OwnerKind::Host)
    if (const auto found = hosts.find(owner.id); found != hosts.end()) folder = found->second.folder;
  const auto path = pathOf(folder);
  for (auto at = path.rbegin(); at != path.rend(); ++at)
    if (const std::string* value = valueAt({OwnerKind::Folder, (*at)->id}))
      return out(*value, ((*at)->parent == 0 ? "from place " : "from group ") + (*at)->name, false);
  return out(setting != nullptr ? setting->standard : "", "built in", false);
}

}  // namespace kw
