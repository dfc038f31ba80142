#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "record/catalogue.hpp"
#include "record/checks.hpp"
#include "record/roster.hpp"
#include "record/setting.hpp"
#include "route/hop.hpp"
#include "route/ssh_import.hpp"
#include "ssh/config.hpp"

namespace kw::cli {

namespace {

using Json = nlohmann::json;

std::string pathText(const Snapshot& s, Id folder) {
  std::string text;
  for (const Folder* f : s.pathOf(folder)) text += (text.empty() ? "" : " / ") + f->name;
  return text;
}

Json toJson(const Snapshot& s, const Machine& m) {
  Json ways = Json::array();
  for (const Endpoint* e : s.endpointsOf(m.id))
    ways.push_back({{"label", e->label}, {"address", e->address}});
  return {{"name", m.name},
          {"group", pathText(s, m.folder)},
          {"host", m.host},
          {"tags", m.tags},
          {"waysIn", ways}};
}

int list(bool json) {
  const Snapshot s = openUsualStore()->load();
  std::vector<const Machine*> all;
  for (const auto& [id, m] : s.machines) all.push_back(&m);
  std::sort(all.begin(), all.end(), [](const Machine* a, const Machine* b) { return a->name < b->name; });
  if (json) {
    Json out = Json::array();
    for (const Machine* m : all) out.push_back(toJson(s, *m));
    std::cout << out.dump(2) << "\n";
    return kDone;
  }
  for (const Machine* m : all) {
    std::cout << m->name;
    for (const Endpoint* e : s.endpointsOf(m->id)) std::cout << "\t" << e->address;
    std::cout << "\n";
  }
  return kDone;
}

struct AddRequest {
  std::string name, group, host;
  std::vector<std::string> addresses;
};

int add(const AddRequest& request) {
  for (const std::string& address : request.addresses) parseAddress(address);
  auto store = openUsualStore();
  const Snapshot s = store->load();
  if (s.machineNamed(request.name) != nullptr)
    throw Error(ErrorKind::Local, "a machine of this name is in the store already", request.name);
  store->commit("add " + request.name, [&](StoreWriter& writer) {
    Machine m;
    m.name = request.name;
    m.host = request.host;
    m.folder = folderNamed(s, writer, request.group);
    writer.put(m);
    int position = 0;
    for (const std::string& address : request.addresses) {
      Endpoint e;
      e.machine = m.id;
      e.address = parseAddress(address).uri();
      e.label = isOfForm(e.scheme(), Form::Screen) ? "screen" : e.scheme();
      e.position = position++;
      writer.put(e);
    }
  });
  std::cout << "added " << request.name << "\n";
  return kDone;
}

/// Hosts of an SSH client configuration that are not in the store yet, as machines with a shell.
int importSsh(const std::string& file, const std::string& group) {
  const SshConfig config =
      SshConfig::load(file.empty() ? SshConfig::usualFile() : std::filesystem::path(file));
  auto store = openUsualStore();
  const Snapshot s = store->load();
  const std::vector<SshImport> imports = sshImportsOf(config, s);
  int added = 0;
  store->commit("import SSH hosts", [&](StoreWriter& writer) {
    added = writeSshImports(writer, folderNamed(s, writer, group), imports);
  });
  const auto there =
      std::count_if(imports.begin(), imports.end(), [](const SshImport& i) { return i.there; });
  std::cout << added << " added, " << there << " were there already\n";
  return kDone;
}

const Machine& machineOrThrow(const Snapshot& s, const std::string& name) {
  const Machine* m = s.machineNamed(name);
  if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", name);
  return *m;
}

int show(const std::string& name, bool json) {
  const Snapshot s = openUsualStore()->load();
  const Machine& m = machineOrThrow(s, name);
  if (json) {
    Json out = toJson(s, m);
    for (const Endpoint* e : s.endpointsOf(m.id))
      for (const Setting& setting : allSettings()) {
        const ResolvedSetting r = s.resolve({OwnerKind::WayIn, e->id}, setting.key);
        out["settings"][e->label][setting.key] = {{"value", r.value}, {"origin", r.origin}};
      }
    std::cout << out.dump(2) << "\n";
    return kDone;
  }
  std::cout << m.name << "\n  group  " << pathText(s, m.folder) << "\n  host   " << m.host << "\n";
  for (const Endpoint* e : s.endpointsOf(m.id)) {
    std::cout << "  " << e->label << "  " << e->address << "\n";
    for (const Setting& setting : allSettings()) {
      const ResolvedSetting r = s.resolve({OwnerKind::WayIn, e->id}, setting.key);
      if (r.origin != "built in")
        std::cout << "    " << setting.label << ": " << labelOf(setting, r.value) << " (" << r.origin
                  << ")\n";
    }
  }
  return kDone;
}

int remove(const std::string& name) {
  auto store = openUsualStore();
  const Snapshot s = store->load();
  const Id id = machineOrThrow(s, name).id;
  store->commit("remove " + name, [&](StoreWriter& writer) { writer.removeMachine(id); });
  std::cout << "removed " << name << " (kettle machines undo brings it back)\n";
  return kDone;
}

int set(const std::string& name, const std::string& key, const std::optional<std::string>& value) {
  const Setting* setting = findSetting(key);
  if (setting == nullptr) throw Error(ErrorKind::Local, "no setting has this key", key);
  if (value)
    if (const std::string problem = problemWith(*setting, *value); !problem.empty())
      throw Error(ErrorKind::Local, problem, key);
  auto store = openUsualStore();
  const Snapshot s = store->load();
  const Id id = machineOrThrow(s, name).id;
  store->commit("set " + key + " of " + name, [&](StoreWriter& writer) {
    writer.set({OwnerKind::Machine, id}, key, value);
  });
  return kDone;
}

/// Every machine that the words narrow the roster to, in one commit.
int setAll(const std::string& words, const std::string& key, const std::optional<std::string>& value) {
  auto store = openUsualStore();
  RosterIndex roster(std::make_shared<Snapshot>(store->load()), GroupBy::Place);
  std::vector<Id> chosen;
  for (const RosterRow& row : roster.narrow(words))
    if (!row.heading) chosen.push_back(row.machine);
  if (chosen.empty()) throw Error(ErrorKind::Local, "no machine fits", words);
  store->commit("set " + key + " of " + std::to_string(chosen.size()) + " machines",
                [&](StoreWriter& writer) {
                  for (const Id id : chosen) writer.set({OwnerKind::Machine, id}, key, value);
                });
  std::cout << "set for " << chosen.size() << " machines\n";
  return kDone;
}

int check(bool json) {
  const Snapshot s = openUsualStore()->load();
  Json all = Json::array();
  bool trouble = false;
  for (const RecordCheck& c : checksOfAll(s)) {
    trouble = trouble || c.trouble;
    const std::string name = s.machines.at(c.machine).name;
    const auto way = s.endpoints.find(c.wayIn);
    const std::string label = way == s.endpoints.end() ? "" : way->second.label;
    if (json)
      all.push_back({{"machine", name},
                     {"wayIn", label},
                     {"trouble", c.trouble},
                     {"what", c.sentence},
                     {"cure", c.cure}});
    else
      std::cout << name << "\t" << label << "\t" << c.sentence << "\t" << c.cure << "\n";
  }
  if (json) std::cout << all.dump(2) << "\n";
  return trouble ? exitCodeFor(ErrorKind::Local) : kDone;
}

int undo() {
  const std::string title = openUsualStore()->undo();
  std::cout << (title.empty() ? "nothing to undo" : "undone: " + title) << "\n";
  return kDone;
}

}  // namespace

void addMachineVerbs(CLI::App& app, Chosen& chosen) {
  auto* machines = app.add_subcommand("machines", "The machines in the store");
  machines->require_subcommand(1);
  auto json = std::make_shared<bool>(false);
  auto name = std::make_shared<std::string>();
  {
    auto* verb = machines->add_subcommand("list", "All machines and their addresses");
    verb->add_flag("--json", *json, "As JSON");
    verb->callback([=, &chosen] { chosen = [=] { return list(*json); }; });
  }
  {
    auto request = std::make_shared<AddRequest>();
    auto* verb = machines->add_subcommand("add", "Keep a new machine");
    verb->add_option("name", request->name, "Its name")->required();
    verb->add_option("--address", request->addresses, "A way in as URI; may be given several times")
        ->required();
    verb->add_option("--group", request->group, "Place and groups: \"Alder Vale/Glasshouses\"");
    verb->add_option("--host", request->host, "The host that runs it");
    verb->callback([=, &chosen] { chosen = [=] { return add(*request); }; });
  }
  {
    auto* verb =
        machines->add_subcommand("import-ssh", "Make the hosts of an SSH client configuration into machines");
    auto file = std::make_shared<std::string>();
    auto group = std::make_shared<std::string>("SSH hosts");
    verb->add_option("file", *file, "The configuration; ~/.ssh/config when left out");
    verb->add_option("--group", *group, "Place and groups, parted by /")->capture_default_str();
    verb->callback([&chosen, file, group] { chosen = [file, group] { return importSsh(*file, *group); }; });
  }
  {
    auto* verb = machines->add_subcommand("show", "One machine with its settings");
    verb->add_option("name", *name, "Its name")->required();
    verb->add_flag("--json", *json, "As JSON");
    verb->callback([=, &chosen] { chosen = [=] { return show(*name, *json); }; });
  }
  {
    auto* verb = machines->add_subcommand("remove", "Remove a machine");
    verb->add_option("name", *name, "Its name")->required();
    verb->callback([=, &chosen] { chosen = [=] { return remove(*name); }; });
  }
  {
    auto key = std::make_shared<std::string>(), value = std::make_shared<std::string>();
    auto* verb = machines->add_subcommand("set", "Set one setting of a machine, or give it back");
    verb->add_option("name", *name, "Its name")->required();
    verb->add_option("key", *key, "screen.fit, clipboard.way, …")->required();
    auto* given = verb->add_option("value", *value, "The value; without it the inherited one counts again");
    verb->callback([=, &chosen] {
      const bool has = given->count() > 0;
      chosen = [=] { return set(*name, *key, has ? std::optional(*value) : std::nullopt); };
    });
  }
  {
    auto words = std::make_shared<std::string>(), key = std::make_shared<std::string>(),
         value = std::make_shared<std::string>();
    auto* verb = machines->add_subcommand("set-all", "Set one setting of all machines that words narrow to");
    verb->add_option("words", *words, "As they are typed into the roster; \"\" means all")->required();
    verb->add_option("key", *key, "screen.fit, signin.from, …")->required();
    auto* given = verb->add_option("value", *value, "The value; without it the inherited one counts again");
    verb->callback([=, &chosen] {
      const bool has = given->count() > 0;
      chosen = [=] { return setAll(*words, *key, has ? std::optional(*value) : std::nullopt); };
    });
  }
  {
    auto* verb =
        machines->add_subcommand("check", "What is wrong in the records, without asking the network");
    verb->add_flag("--json", *json, "As JSON");
    verb->callback([=, &chosen] { chosen = [=] { return check(*json); }; });
  }
  machines->add_subcommand("undo", "Undo the newest change of the store")->callback([&chosen] {
    chosen = undo;
  });
}

}  // namespace kw::cli
