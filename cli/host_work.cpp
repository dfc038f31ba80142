// What is done to one machine through its host: power, console; and why a way in does not open.
#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/asked_host.hpp"
#include "host/why.hpp"

namespace kw::cli {

namespace {

using Json = nlohmann::json;

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

void addHostWorkVerbs(CLI::App& app, Chosen& chosen) {
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
    const auto json = std::make_shared<bool>(false);
    verb->add_flag("--json", *json, "As JSON");
    verb->add_flag("--inside", *inside,
                   "Also sign in to the machine's own SSH and look what listens there, when nothing answers");
    verb->callback([=, &chosen] { chosen = [=] { return why(*target, *json, *inside); }; });
  }
}

}  // namespace kw::cli
