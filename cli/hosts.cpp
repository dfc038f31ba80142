// Hosts and what they run: stock, adoption, power, consoles, and why a way in does not open.
#include <future>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "host/console.hpp"
#include "host/starting.hpp"
#include "host/why.hpp"

namespace kw::cli {

namespace {

using Json = nlohmann::json;
using namespace kw::host;

constexpr auto kHostLimit = std::chrono::seconds(20);

const HostRecord& hostOrThrow(const Snapshot& s, const std::string& name) {
  const HostRecord* h = s.hostNamed(name);
  if (h == nullptr)
    throw Error(ErrorKind::Local, "no host has this name", name).withCure("kettle hosts list shows them.");
  return *h;
}

/// A host that is connected for as long as this object lives.
class Asked {
 public:
  Asked(const HostRecord& record, const OpeningTools& tools, std::chrono::nanoseconds limit = kHostLimit)
      : host_(std::make_shared<Host>(record, toolsFor(record, tools))) {
    host_->start();
    runToEnd([&] {
      return awaitView(
          host_,
          [](const HostView& v) { return v.stage == HostStage::Live || v.stage == HostStage::Waiting; },
          limit, record.name);
    });
    const HostView view = host_->view();
    if (view.stage != HostStage::Live)
      throw Error(view.problem.value_or(ErrorKind::Unreachable), view.sentence, record.name)
          .withCure(view.cure);
  }
  ~Asked() { host_->end(); }

  std::shared_ptr<Host> host() { return host_; }
  [[nodiscard]] std::shared_ptr<const Stock> stock() const { return host_->view().stock; }
  [[nodiscard]] HostPlace place() const { return {host_->record().name, {}}; }
  Executor strand() { return runtime_.strand(); }

  void power(const std::string& id, PowerAct act) {
    wait([&](Host::Done done) { host_->power(id, act, std::move(done)); });
  }
  void change(const std::string& id, const ConsoleChange& what) {
    wait([&](Host::Done done) { host_->change(id, what, std::move(done)); });
  }
  void until(std::chrono::nanoseconds limit, const std::string& what,
             const std::function<bool(const HostView&)>& holds) {
    runToEnd([&] { return awaitView(host_, holds, limit, what); });
  }

 private:
  AdapterTools toolsFor(const HostRecord& record, const OpeningTools& tools) {
    AdapterTools out{runtime_.strand(), systemClock(), {}, {}};
    if (const auto kept = keptSignIn(tools, {OwnerKind::Host, record.id})) {
      out.user = kept->user;
      out.password = kept->password;
    }
    return out;
  }
  static void wait(const std::function<void(Host::Done)>& give) {
    std::promise<void> done;
    give([&](std::exception_ptr failure) { failure ? done.set_exception(failure) : done.set_value(); });
    done.get_future().get();
  }

  Runtime runtime_{1};
  std::shared_ptr<Host> host_;
};

struct AddHost {
  std::string name, address, group, passwordFile, user;
};

OpeningTools localTools() {
  OpeningTools tools;
  tools.store = openUsualStore();
  tools.vault = openVault(configFolder());
  return tools;
}

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

std::string consoleText(const StockMachine& m) {
  std::string out;
  for (const ConsoleFacts& c : m.consoles) {
    out += (out.empty() ? "" : "; ") + c.scheme + " ";
    out += c.port != 0         ? c.listen + (c.listen.empty() ? "" : ":") + std::to_string(c.port)
           : c.automatic       ? "gets a port when started"
           : !c.socket.empty() ? c.socket
                               : "without a port";
    if (c.password) out += " password";
  }
  return out;
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

/// A machine of the store with its host and what it is called there.
struct OnHost {
  Snapshot records;
  Id machine = 0;
  HostRecord host;
  std::string id;
};

OnHost onHost(const OpeningTools& tools, const std::string& name) {
  OnHost out;
  out.records = tools.store->load();
  const Machine* m = out.records.machineNamed(name);
  if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", name);
  out.machine = m->id;
  out.id = idOnHost(out.records, m->id);
  const HostRecord* host = out.records.hostNamed(m->host);
  if (host == nullptr || out.id.empty())
    throw Error(ErrorKind::Unsupported, "this machine is not linked to a host", name)
        .withCure("Adopt it: kettle hosts adopt HOST " + name + ", or set host.id.");
  out.host = *host;
  return out;
}

StockMachine machineOf(const Asked& asked, const OnHost& at) {
  const auto stock = asked.stock();
  const auto found = stock->find(at.id);
  if (found == stock->end())
    throw Error(ErrorKind::Local, at.host.name + " has no machine with this ID any more", at.id);
  return found->second;
}

struct PowerWords {
  std::string machine, verb, wait;
  double timeout = 120;
};

/// Of the machine's ways in the first that this program opens.
const Endpoint* firstWay(const Snapshot& s, Id machine) {
  for (const Endpoint* e : s.endpointsOf(machine))
    if (canOpen(e->scheme())) return e;
  return nullptr;
}

int startAndWait(Asked& asked, const OnHost& at, const PowerWords& words, const OpeningTools& tools) {
  const Endpoint* way = firstWay(at.records, at.machine);
  if (way == nullptr) throw Error(ErrorKind::Local, "the machine has no way in to wait for", words.machine);
  StartPlan plan;
  plan.host = asked.host();
  plan.id = at.id;
  plan.limit = std::chrono::nanoseconds(static_cast<std::int64_t>(words.timeout * 1e9));
  plan.addressNow = [&, way](const StockMachine& m) {
    return addressNow(at.records, *way, m, asked.place());
  };
  plan.again = passwordAgain(at.records, tools, at.machine);
  plan.service = "its " + way->label;
  std::promise<StartView> over;
  const auto errand = std::make_shared<StartErrand>(asked.strand(), systemClock(), plan);
  errand->start([&over, last = std::string()](const StartView& v) mutable {
    for (const StartStep& s : v.steps) {
      if (s.state == StepState::Ahead) continue;
      const std::string line = s.what + (s.remark.empty() ? "" : " (" + s.remark + ")");
      if (s.state != StepState::Now || &s != &v.steps.back()) continue;
      if (line != last) std::cerr << "kettle: " << line << "\n";
      last = line;
    }
    if (v.over) over.set_value(v);
  });
  const StartView v = over.get_future().get();
  for (const StartStep& s : v.steps)
    if (s.state == StepState::Done)
      std::cout << std::fixed << std::setprecision(1) << std::chrono::duration<double>(s.at).count() << " s\t"
                << s.what << "\n";
  if (v.failure) throw *v.failure;
  return kDone;
}

int power(const PowerWords& words) {
  const OpeningTools tools = localTools();
  const OnHost at = onHost(tools, words.machine);
  Asked asked(at.host, tools);
  const auto limit = std::chrono::nanoseconds(static_cast<std::int64_t>(words.timeout * 1e9));
  const auto stateIs = [&](Running wanted) {
    return [&, wanted](const HostView& v) {
      const auto m = v.stock->find(at.id);
      // Some hosts know a machine only while it runs.
      return m == v.stock->end() ? wanted == Running::Off : m->second.state == wanted;
    };
  };
  if (words.verb == "status") {
    const StockMachine m = machineOf(asked, at);
    std::cout << nameOf(m.state) << (m.reason.empty() ? "" : "\t" + m.reason) << "\n";
    return kDone;
  }
  const std::string wait = words.wait;
  if (words.verb == "start" && wait == "answering") return startAndWait(asked, at, words, tools);
  if (words.verb == "cycle") {
    if (machineOf(asked, at).state != Running::Off) asked.power(at.id, PowerAct::Off);
    asked.until(limit, "being off", stateIs(Running::Off));
    asked.power(at.id, PowerAct::Start);
  } else {
    const Running before = machineOf(asked, at).state;
    const auto act = powerActFrom(words.verb);
    const bool done = (act == PowerAct::Start && before == Running::On) ||
                      ((act == PowerAct::Off || act == PowerAct::ShutDown) && before == Running::Off);
    if (done)
      std::cout << "it is " << nameOf(before) << " already\n";
    else
      asked.power(at.id, *act);
  }
  if (words.verb == "start" || words.verb == "cycle")
    if (const auto again = passwordAgain(at.records, tools, at.machine)) {
      asked.until(limit, "running", stateIs(Running::On));
      asked.change(at.id, *again);
    }
  if (wait == "running") asked.until(limit, "running", stateIs(Running::On));
  if (wait == "off") asked.until(limit, "being off", stateIs(Running::Off));
  if (wait == "answering") {
    asked.until(limit, "running", stateIs(Running::On));
    return startAndWait(asked, at, words, tools);
  }
  return kDone;
}

struct ConsoleWords {
  std::string machine, verb, value, passwordFile;
};

int console(const ConsoleWords& words) {
  const OpeningTools tools = localTools();
  const OnHost at = onHost(tools, words.machine);
  Asked asked(at.host, tools);
  const StockMachine m = machineOf(asked, at);
  const HostAbilities can = asked.host()->view().abilities;
  ConsoleChange change;
  if (!m.consoles.empty()) change.scheme = m.consoles.front().scheme;
  if (words.verb == "show") {
    std::cout << consoleText(m) << "\n";
    for (const SerialFacts& s : m.serials) std::cout << s.name << "\t" << s.address << "\n";
    return kDone;
  }
  if (words.verb == "port" || words.verb == "listen") {
    const bool port = words.verb == "port";
    const Ability& able = port ? can.port : can.listen;
    if (!able.can) throw Error(ErrorKind::Unsupported, able.why, at.host.name);
    if (port)
      change.port = parseAddress("tcp://host:" + words.value).port;
    else
      change.listen = words.value;
    asked.change(at.id, change);
    std::cout << (can.portCounts == When::AtOnce
                      ? "done\n"
                      : "kept; it needs a full stop and start: kettle power " + words.machine + " cycle\n");
    return kDone;
  }
  if (words.verb == "password") {
    LiveOptions file;
    file.passwordFile = words.passwordFile;
    const auto given = givenPassword(file);
    if (!given) throw Error(ErrorKind::Local, "name a file whose first line is the password: --file");
    setConsolePassword(tools, at.records, at.machine, *given);
    change.password = *given;
    asked.change(at.id, change);
    std::cout << "set; it is set again at each start from here\n";
    return kDone;
  }
  if (words.verb == "add-serial") {
    if (!can.serial.can) throw Error(ErrorKind::Unsupported, can.serial.why, at.host.name);
    change.addSerial = words.value.empty() ? serialPathFor(m) : words.value;
    asked.change(at.id, change);
    std::cout << *change.addSerial << "\nneeds a full stop and start: kettle power " << words.machine
              << " cycle\n";
    return kDone;
  }
  throw Error(ErrorKind::Local, "no such verb", words.verb);
}

int why(const std::string& target, bool json, bool inside) {
  Runtime runtime(1);
  OpeningTools tools = localTools();
  tools.ssh = std::make_shared<SshPool>([&runtime] { return runtime.strand(); });
  auto records = std::make_shared<Snapshot>(tools.store->load());
  Id wayIn = 0;
  Address address;
  std::unique_ptr<Asked> asked;
  WhyTools whyTools;
  whyTools.store = tools.store;
  if (inside) whyTools.inside = InsideTools{tools, std::make_shared<TerminalAsker>(false)};
  if (const Machine* m = records->machineNamed(target)) {
    const Endpoint* way = firstWay(*records, m->id);
    if (way == nullptr) throw Error(ErrorKind::Local, "the machine has no way in", target);
    wayIn = way->id;
    address = parseAddress(way->address);
    const HostRecord* host = records->hostNamed(m->host);
    if (host != nullptr && !idOnHost(*records, m->id).empty()) {
      try {
        asked = std::make_unique<Asked>(*host, tools);
        whyTools.host = asked->host();
      } catch (const Error& e) {
        std::cerr << "kettle: its host " << host->name << " cannot be asked: " << e.what() << "\n";
      }
    }
  } else {
    address = parseAddress(target);
  }
  std::vector<Finding> found;
  runToEnd([&]() -> Task<void> { found = co_await whyNot(records, wayIn, address, whyTools); });
  Json out = Json::array();
  for (const Finding& f : found) {
    const char* weight = f.weight == Weight::Good      ? "good"
                         : f.weight == Weight::Trouble ? "trouble"
                                                       : "remark";
    if (json) {
      out.push_back({{"code", f.code}, {"weight", weight}, {"sentence", f.sentence}, {"cure", f.cure}});
      continue;
    }
    std::cout << (f.weight == Weight::Good      ? "  ok  "
                  : f.weight == Weight::Trouble ? "  !!  "
                                                : "   -  ")
              << f.sentence << "\n";
    if (!f.cure.empty())
      std::cout << "      " << f.cure << (f.change == "inside" ? " (kettle why --inside)" : "") << "\n";
  }
  if (json) std::cout << out.dump(2) << "\n";
  return anyTrouble(found) ? kUnreachable : kDone;
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
  {
    const auto words = std::make_shared<PowerWords>();
    auto* verb = app.add_subcommand("power", "Switch a machine through its host");
    verb->add_option("machine", words->machine, "Its name")->required();
    verb->add_option(
            "verb", words->verb,
            "status, start, shutdown (asks the guest), off (at once, loses work), restart (asks), reset "
            "(at once, loses work), cycle (off and start), pause, resume")
        ->required()
        ->check(CLI::IsMember(
            {"status", "start", "shutdown", "off", "restart", "reset", "cycle", "pause", "resume"}));
    verb->add_option("--wait", words->wait, "Until running, answering or off")
        ->check(CLI::IsMember({"running", "answering", "off"}));
    verb->add_option("--timeout", words->timeout, "Seconds to wait at most")->capture_default_str();
    verb->callback([=, &chosen] { chosen = [=] { return power(*words); }; });
  }
  {
    const auto words = std::make_shared<ConsoleWords>();
    auto* verb = app.add_subcommand("console", "A machine's console on its host: show it, or set it up");
    verb->add_option("machine", words->machine, "Its name")->required();
    verb->add_option("verb", words->verb, "show, port N, listen ADDRESS, password, add-serial [PATH]")
        ->required()
        ->check(CLI::IsMember({"show", "port", "listen", "password", "add-serial"}));
    verb->add_option("value", words->value, "The port, address or path");
    verb->add_option("--file", words->passwordFile, "File whose first line is the password");
    verb->callback([=, &chosen] { chosen = [=] { return console(*words); }; });
  }
  {
    const auto target = std::make_shared<std::string>();
    auto* verb = app.add_subcommand("why", "Why a machine or an address does not open, step by step");
    const auto inside = std::make_shared<bool>(false);
    verb->add_option("target", *target, "A machine's name or a URI")->required();
    verb->add_flag("--json", *json, "As JSON");
    verb->add_flag("--inside", *inside,
                   "Also sign in to the machine's own SSH and look what listens there, when nothing answers");
    verb->callback([=, &chosen] { chosen = [=] { return why(*target, *json, *inside); }; });
  }
}

}  // namespace kw::cli
