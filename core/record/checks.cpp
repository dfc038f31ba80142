#include "record/checks.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <filesystem>

#include "base/error.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"
#include "record/own_ports.hpp"
#include "record/setting.hpp"
#include "record/words.hpp"

namespace kw {

namespace {

constexpr int kSoonDays = 14;

std::string withHome(const std::string& path) {
  const char* home = std::getenv("HOME");
  return path.starts_with("~/") && home != nullptr ? home + path.substr(1) : path;
}

std::string today(int daysLater) {
  const std::time_t at = std::time(nullptr) + daysLater * 24L * 3600;
  std::tm parts{};
  localtime_r(&at, &parts);
  char text[16];
  std::strftime(text, sizeof text, "%Y-%m-%d", &parts);
  return text;
}

/// The items of a list parted by commas.
std::vector<std::string> itemsOf(const std::string& text) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < text.size();) {
    const auto end = std::min(text.find(',', at), text.size());
    const auto first = text.find_first_not_of(' ', at);
    if (first < end) out.push_back(text.substr(first, text.find_last_not_of(' ', end - 1) - first + 1));
    at = end + 1;
  }
  return out;
}

class Checker {
 public:
  Checker(const Snapshot& records, const Endpoint& way, const SettingChanges* changes, OwnPorts& ownPorts)
      : records_(records), way_(way), changes_(changes), ownPorts_(ownPorts) {}

  std::vector<RecordCheck> run() {
    checkAddress();
    checkPort();
    checkOwnPort();
    checkRoute();
    checkSignIn();
    checkKeys();
    checkCommands();
    return std::move(out_);
  }

 private:
  void add(bool trouble, std::string sentence, std::string cure) {
    out_.push_back({trouble, std::move(sentence), std::move(cure), way_.machine, way_.id});
  }
  std::string setting(const char* key) {
    const Owner owner =
        way_.id != 0 ? Owner{OwnerKind::WayIn, way_.id} : Owner{OwnerKind::Machine, way_.machine};
    return records_.resolve(owner, key, changes_).value;
  }

  void checkAddress() {
    try {
      address_ = parseAddress(way_.address);
    } catch (const Error& e) {
      add(true, std::string("its address cannot be read: ") + e.what(), e.cure());
      return;
    }
    checkName();
    const WayKind* kind = findWayKind(address_->scheme);
    if (kind == nullptr || kind->displayBase == 0 || address_->port >= 100 || address_->port == 0) return;
    add(false,
        "port " + std::to_string(address_->port) + " is meant, not display " + std::to_string(address_->port),
        "If the display is meant, write port " + std::to_string(kind->displayBase + address_->port) + ".");
  }

  /// A name in the address that is another machine's: a copy that was not changed, mostly. The host that a
  /// machine runs on serves its screens under its own name.
  void checkName() {
    const Machine* other = records_.machineNamed(address_->host);
    const auto own = records_.machines.find(way_.machine);
    if (other == nullptr || own == records_.machines.end() || other->id == way_.machine) return;
    std::string host = own->second.host;
    for (const Folder* f : records_.pathOf(own->second.folder))
      if (own->second.host.empty() && !f->host.empty()) host = f->host;
    if (host == other->name) return;
    add(false, "its address names " + other->name + ", which is another machine",
        "If it is served by that machine, say so on its page: runs on host " + other->name + ".");
  }

  void checkPort() {
    for (const Endpoint* other : records_.sharingAddress(way_)) {
      const auto machine = records_.machines.find(other->machine);
      if (machine == records_.machines.end()) continue;
      const std::string what =
          address_ && address_->port != 0 ? "port " + std::to_string(address_->port) : way_.address;
      add(true, what + " is also set on " + machine->second.name,
          "One of the two is out of date: ask the host which.");
    }
  }

  /// This computer's own, unless the way in leads elsewhere first.
  void checkOwnPort() {
    if (!address_) return;
    const std::string via = setting("route.via");
    if ((!via.empty() && via != "none") || address_->options.contains("via")) return;
    const WayKind* kind = findWayKind(address_->scheme);
    const int port = address_->port != 0 ? address_->port : kind != nullptr ? kind->port : 0;
    if (const auto program = ownPorts_.programAt(address_->host, port))
      add(true, "port " + std::to_string(port) + " of this computer is " + *program + "'s own",
          "Choose the machine's port; \"Reached through\" is missing if it is another computer's.");
  }

  void checkRoute() {
    for (const std::string& item : itemsOf(setting("route.via"))) {
      if (item == "none" || item.find("://") != std::string::npos) continue;
      const Machine* machine = records_.machineNamed(item);
      if (machine == nullptr) {
        add(true, "it is reached through " + item + ", which is not in the records",
            "Write an address (ssh://user@host), or a machine's name as it is now.");
        continue;
      }
      if (machine->id == way_.machine)
        add(true, "it is reached through itself", "Take it out of \"Reached through\".");
      const auto ways = records_.endpointsOf(machine->id);
      if (std::none_of(ways.begin(), ways.end(), [](const Endpoint* e) {
            const WayKind* kind = findWayKind(e->scheme());
            return kind != nullptr && kind->carriesFiles;
          }))
        add(true, item + " has no way in that can carry others", "Give it one by SSH.");
    }
  }

  void checkSignIn() {
    const std::string from = setting("signin.from");
    if (from == "command" && setting("signin.command").empty())
      add(true, "its password comes from a command, and none is given",
          "Write the command on the page Sign-in.");
    if (!from.starts_with(kNamedSignIn)) return;
    const std::string name = from.substr(std::strlen(kNamedSignIn));
    const Credential* c = records_.credentialNamed(name);
    if (c == nullptr) {
      add(true, "it signs in with \"" + name + "\", which is not there",
          "Choose another credential on the page Sign-in.");
      return;
    }
    if (c->expires.empty()) return;
    if (c->expires < today(0))
      add(true, "\"" + name + "\" was to be changed by " + c->expires, "Change it under Tools, Credentials.");
    else if (c->expires <= today(kSoonDays))
      add(false, "\"" + name + "\" is to be changed by " + c->expires, "Change it under Tools, Credentials.");
  }

  void checkKeys() {
    const WayKind* kind = findWayKind(way_.scheme());
    if (kind == nullptr || !kind->carriesFiles) return;
    for (const std::string& item : itemsOf(setting("ssh.keys"))) {
      struct stat facts {};
      if (stat(withHome(item).c_str(), &facts) != 0)
        add(true, "the key file " + item + " is not there",
            "Choose another on the page of keys, or put it back.");
      else if ((facts.st_mode & 077) != 0)
        add(true, "others may read the key file " + item, "chmod 600 " + item);
    }
  }

  void checkCommands() {
    try {
      ownCommandsOf(setting("commands.own"));
      for (const char* key : {"commands.before", "commands.after"})
        if (const std::string line = setting(key); !line.empty()) wordsWith(line, placeholdersOf({}, &way_));
    } catch (const Error& e) {
      add(true, std::string("a command of its own cannot be read: ") + e.what(),
          "Mend it on the page Commands.");
    }
  }

  const Snapshot& records_;
  const Endpoint& way_;
  const SettingChanges* changes_;
  OwnPorts& ownPorts_;
  std::optional<Address> address_;
  std::vector<RecordCheck> out_;
};

}  // namespace

std::vector<RecordCheck> checksOf(const Snapshot& records, const Endpoint& way,
                                  const SettingChanges* changes) {
  OwnPorts ownPorts;
  return Checker(records, way, changes, ownPorts).run();
}

std::vector<RecordCheck> checksOfAll(const Snapshot& records) {
  std::vector<RecordCheck> out;
  OwnPorts ownPorts;
  for (const auto& [id, way] : records.endpoints)
    for (RecordCheck& c : Checker(records, way, nullptr, ownPorts).run()) out.push_back(std::move(c));
  for (const auto& [id, m] : records.machines)
    if (records.endpointsOf(id).empty())
      out.push_back({false, "it has no way in", "Add one on its sheet.", id, 0});
  const auto nameOf = [&](const RecordCheck& c) {
    const auto m = records.machines.find(c.machine);
    return m == records.machines.end() ? std::string() : m->second.name;
  };
  std::stable_sort(out.begin(), out.end(), [&](const RecordCheck& a, const RecordCheck& b) {
    if (a.trouble != b.trouble) return a.trouble;
    return nameOf(a) < nameOf(b);
  });
  return out;
}

}  // namespace kw
