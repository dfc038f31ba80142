// kettle hosts: which there are, their stock, adoption.
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "cli/asked_host.hpp"
#include "cli/verbs.hpp"
#include "host/console.hpp"

namespace kw::cli {

namespace {

using Json = nlohmann::json;
using namespace kw::host;

struct AddHost {
  std::string name, address, group, passwordFile, user;
};

int addHost(const AddHost& request) {
  if (const std::string problem = problemWithHostAddress(request.address); !problem.empty())
    throw Error(ErrorKind::Local, problem);
  const OpeningTools tools = localTools();
  const Snapshot s = tools.store->load();
  if (s.hostNamed(request.name) != nullptr)
    throw Error(ErrorKind::Local, "a host of this name is in the store already", request.name);
  Id id = 0;
  tools.store->commit("add host " + request.name, [&](StoreWriter& w) {
    HostRecord h;
    h.name = request.name;
    h.address = request.address;
    if (!request.group.empty()) h.folder = folderNamed(s, w, request.group);
    w.put(h);
    id = h.id;
  });
  LiveOptions password;
  password.passwordFile = request.passwordFile;
  if (const auto given = givenPassword(password))
    keepSignIn(tools, {OwnerKind::Host, id}, {request.user, *given});
  std::cout << "added host " << request.name << "\n";
  return kDone;
}

int listHosts(bool json) {
  const Snapshot s = localTools().store->load();
  Json out = Json::array();
  for (const auto& [id, h] : s.hosts) {
    if (json)
      out.push_back({{"name", h.name}, {"address", h.address}});
    else
      std::cout << h.name << "\t" << h.address << "\n";
  }
  if (json) std::cout << out.dump(2) << "\n";
  return kDone;
}

int removeHost(const std::string& name) {
  const auto store = localTools().store;
  const Snapshot s = store->load();
  const Id id = hostOrThrow(s, name).id;
  store->commit("remove host " + name, [&](StoreWriter& w) { w.removeHost(id); });
  std::cout << "removed host " << name << "; its machines stay (kettle machines undo brings it back)\n";
  return kDone;
}

std::string csvField(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

Json rowJson(const HostRecord& host, const Snapshot& s, const StockRow& row) {
  Json one = toJson(row.machine);
  one["host"] = host.name;
  one["record"] = row.record == 0 ? Json(nullptr) : Json(s.machines.at(row.record).name);
  one["gone"] = row.gone;
  Json drift = Json::array();
  for (const Drift& d : row.drift) drift.push_back(d.sentence);
  one["drift"] = drift;
  return one;
}

int stock(const std::string& name, bool json, bool csv) {
  const OpeningTools tools = localTools();
  const Snapshot s = tools.store->load();
  std::vector<HostRecord> hosts;
  if (!name.empty()) {
    hosts.push_back(hostOrThrow(s, name));
  } else {
    for (const auto& [id, h] : s.hosts) hosts.push_back(h);
  }
  Json out = Json::array();
  if (csv) std::cout << "host,machine,state,since,id,addresses,console,record,drift\n";
  int code = kDone;
  for (const HostRecord& h : hosts) {
    std::vector<StockRow> rows;
    try {
      Asked asked(h, tools);
      rows = stockRows(s, asked.place(), *asked.stock());
    } catch (const Error& e) {
      if (hosts.size() == 1) throw;
      std::cerr << "kettle: " << h.name << ": " << e.what() << "\n";
      code = exitCodeFor(e.kind());
      continue;
    }
    for (const StockRow& row : rows) {
      std::string addresses, drift;
      for (const std::string& a : row.machine.addresses) addresses += (addresses.empty() ? "" : " ") + a;
      for (const Drift& d : row.drift) drift += (drift.empty() ? "" : "; ") + d.sentence;
      const std::string record = row.record == 0 ? "" : s.machines.at(row.record).name;
      const std::string state = row.gone ? "gone" : nameOf(row.machine.state);
      if (json) {
        out.push_back(rowJson(h, s, row));
      } else if (csv) {
        const std::string fields[] = {h.name,
                                      row.machine.name,
                                      state,
                                      row.machine.since,
                                      row.machine.id,
                                      addresses,
                                      consoleText(row.machine),
                                      record,
                                      drift};
        bool first = true;
        for (const std::string& f : fields)
          std::cout << (std::exchange(first, false) ? "" : ",") << csvField(f);
        std::cout << "\r\n";
      } else {
        std::cout << h.name << "\t" << row.machine.name << "\t" << state << "\t" << consoleText(row.machine)
                  << "\t" << (record.empty() ? "not in the roster" : record)
                  << (drift.empty() ? "" : "\t" + drift) << "\n";
      }
    }
  }
  if (json) std::cout << out.dump(2) << "\n";
  return code;
}

int adoptMachines(const std::string& name, bool all, const std::vector<std::string>& wanted) {
  const OpeningTools tools = localTools();
  const Snapshot s = tools.store->load();
  const HostRecord host = hostOrThrow(s, name);
  Asked asked(host, tools);
  std::vector<StockMachine> chosen;
  std::set<std::string> found;
  for (const StockRow& row : stockRows(s, asked.place(), *asked.stock())) {
    const bool named = std::find(wanted.begin(), wanted.end(), row.machine.name) != wanted.end() ||
                       std::find(wanted.begin(), wanted.end(), row.machine.id) != wanted.end();
    if (named) found.insert(row.machine.name), found.insert(row.machine.id);
    if (row.gone || row.record != 0) continue;
    if (all || named) chosen.push_back(row.machine);
  }
  for (const std::string& w : wanted)
    if (!found.contains(w)) throw Error(ErrorKind::Local, name + " has no machine of this name or ID", w);
  if (!chosen.empty())
    tools.store->commit("adopt from " + name, [&](StoreWriter& w) {
      const Id folder = host.folder != 0 ? host.folder : folderNamed(s, w, name);
      adopt(w, s, asked.place(), folder, chosen);
    });
  for (const StockMachine& m : chosen) std::cout << "adopted " << m.name << "\n";
  if (chosen.empty()) std::cout << "nothing to adopt: all of them are in the roster\n";
  return kDone;
}

}  // namespace

void addHostVerbs(CLI::App& app, Chosen& chosen) {
  auto* hosts = app.add_subcommand("hosts", "Hosts that run machines, and their stock");
  hosts->require_subcommand(1);
  const auto name = std::make_shared<std::string>();
  const auto json = std::make_shared<bool>(false), csv = std::make_shared<bool>(false),
             all = std::make_shared<bool>(false);
  {
    const auto request = std::make_shared<AddHost>();
    auto* verb = hosts->add_subcommand("add", "Keep a host");
    verb->add_option("name", request->name, "Its name")->required();
    std::string examples;
    for (const HostKind& k : allHostKinds())
      examples += (examples.empty() ? "" : ", ") + std::string(k.example);
    verb->add_option("--address", request->address, examples)->required();
    verb->add_option("--group", request->group, "Where adopted machines go: \"Alder Vale/Glasshouses\"");
    verb->add_option("--user", request->user, "Account on the host, where it asks for one");
    verb->add_option("--password-file", request->passwordFile, "File whose first line is its password");
    verb->callback([=, &chosen] { chosen = [=] { return addHost(*request); }; });
  }
  {
    auto* verb = hosts->add_subcommand("list", "All hosts");
    verb->add_flag("--json", *json, "As JSON");
    verb->callback([=, &chosen] { chosen = [=] { return listHosts(*json); }; });
  }
  {
    auto* verb = hosts->add_subcommand("stock", "What runs on one host, or on all");
    verb->add_option("name", *name, "The host");
    verb->add_flag("--json", *json, "As JSON (docs/formats.md)");
    verb->add_flag("--csv", *csv, "As CSV");
    verb->callback([=, &chosen] { chosen = [=] { return stock(*name, *json, *csv); }; });
  }
  {
    const auto wanted = std::make_shared<std::vector<std::string>>();
    auto* verb = hosts->add_subcommand("adopt", "Make records of machines that are not in the roster");
    verb->add_option("name", *name, "The host")->required();
    verb->add_option("machines", *wanted, "Names or IDs");
    verb->add_flag("--all", *all, "All of them");
    verb->callback([=, &chosen] {
      if (!*all && wanted->empty()) throw CLI::RequiredError("machines, or --all");
      chosen = [=] { return adoptMachines(*name, *all, *wanted); };
    });
  }
  {
    auto* verb = hosts->add_subcommand("remove", "Forget a host; its machines stay");
    verb->add_option("name", *name, "The host")->required();
    verb->callback([=, &chosen] { chosen = [=] { return removeHost(*name); }; });
  }
}

}  // namespace kw::cli
