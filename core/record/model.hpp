// The records: place → group → machine → way in, and their settings, as one snapshot in memory.
#pragma once
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

namespace kw {

using Id = std::int64_t;  ///< 0 means none

enum class OwnerKind { Folder = 1, Machine = 2, WayIn = 3, Host = 4, Credential = 5 };
struct Owner {
  OwnerKind kind = OwnerKind::Folder;
  Id id = 0;
  auto operator<=>(const Owner&) const = default;
};

/// A place (no parent) or a group.
struct Folder {
  Id id = 0, parent = 0;
  std::string name, host, notes;
  std::int64_t version = 0;
};

struct Machine {
  Id id = 0, folder = 0;
  std::string name, host, tags, notes;
  std::int64_t version = 0;
};

/// What runs machines, and how it is asked (host/adapter.hpp). Machines name it by Machine::host, and by the
/// setting "host.id" which of its machines they are.
struct HostRecord {
  Id id = 0, folder = 0;  ///< folder: where machines adopted from it go; 0: a place of its name
  std::string name;
  std::string address;  ///< "libvirt:qemu:///system", "qmp:/path", "command:program words"
  std::string notes;
  std::int64_t version = 0;
};

/// A sign-in with a name, that any number of ways in may take (setting "signin.from"). Its secrets are sealed
/// beside it (credential/secret_bundle.hpp), never in it.
struct Credential {
  Id id = 0;
  std::string name;  ///< no two have the same
  std::string user, domain;
  std::string notes;
  std::string expires;  ///< "2027-03-01"; empty: never
  std::int64_t version = 0;
};

/// Code word for what people call a way in: one protocol, address, route and sign-in of a machine.
struct Endpoint {
  Id id = 0, machine = 0;
  std::string label;    ///< "screen"
  std::string address;  ///< a URI
  int position = 0;
  std::int64_t version = 0;
  /// "vnc"
  [[nodiscard]] std::string scheme() const;
};

using SettingValues = std::map<std::string, std::string>;

/// Changes that are not kept yet; nothing gives the inherited value back.
using SettingChanges = std::map<Owner, std::map<std::string, std::optional<std::string>>>;

struct ResolvedSetting {
  std::string value;
  /// "built in", "from place Alder Vale", "from group Glasshouses", "from the machine", "set here"
  std::string origin;
  bool setHere = false;
  /// A value that is stored but cannot be (another program wrote it) is passed over; this says so. Usually
  /// empty.
  std::string trouble = {};
};

class Snapshot {
 public:
  std::unordered_map<Id, Folder> folders;
  std::unordered_map<Id, Machine> machines;
  std::unordered_map<Id, Endpoint> endpoints;
  std::map<Id, HostRecord> hosts;
  std::map<Id, Credential> credentials;
  std::map<Owner, SettingValues> settings;
  std::int64_t revision = 0;  ///< grows with every change of the store

  /// The ways in of a machine, in their order.
  [[nodiscard]] std::vector<const Endpoint*> endpointsOf(Id machine) const;
  [[nodiscard]] const Machine* machineNamed(const std::string& name) const;
  [[nodiscard]] const HostRecord* hostNamed(const std::string& name) const;
  [[nodiscard]] const Credential* credentialNamed(const std::string& name) const;
  /// Place first: {place, group, …}. Endless parents (a broken store) end after 32.
  [[nodiscard]] std::vector<const Folder*> pathOf(Id folder) const;
  /// From the owner outwards to what is built in. Never throws; the value is always one that the setting
  /// allows. `changes` count as if they were kept already.
  [[nodiscard]] ResolvedSetting resolve(Owner owner, const std::string& key,
                                        const SettingChanges* changes = nullptr) const;
  /// Other ways in with the same host and port: the planned and the unplanned mistakes.
  [[nodiscard]] std::vector<const Endpoint*> sharingAddress(const Endpoint& endpoint) const;
  void index();

 private:
  std::unordered_map<Id, std::vector<Id>> endpointsByMachine_;
  std::unordered_map<std::string, std::vector<Id>> endpointsByAddress_;
};

}  // namespace kw
