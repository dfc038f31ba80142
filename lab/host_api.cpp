#include "lab/host_api.hpp"

#include <sodium.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "host/line_reader.hpp"

namespace kw::lab {

namespace {

using Json = nlohmann::json;
using host::Running;
using host::StockMachine;

/// A guest that was asked to shut down takes this long.
constexpr auto kShutDownTakes = std::chrono::milliseconds(1500);

struct Hosted {
  HostedMachine plan;
  bool stopping = false;
  std::string since, reason;
};

Json failure(const std::string& sentence, const std::string& cure = "") {
  Json out{{"error", sentence}};
  if (!cure.empty()) out["cure"] = cure;
  return out;
}

}  // namespace

std::filesystem::path hostApiSocket() { return runtimeFolder() / "lab" / "hosts.sock"; }

std::string idForName(const std::string& name) {
  Byte digest[16];
  crypto_generichash(digest, sizeof digest, reinterpret_cast<const Byte*>(name.data()), name.size(), nullptr,
                     0);
  digest[6] = static_cast<Byte>((digest[6] & 0x0f) | 0x80);  // RFC 9562 5.8
  digest[8] = static_cast<Byte>((digest[8] & 0x3f) | 0x80);
  std::string out = hex(ByteView(digest, sizeof digest));
  for (const std::size_t at : {8U, 13U, 18U, 23U}) out.insert(at, "-");
  return out;
}

StockMachine stockOf(const HostedMachine& machine, bool on, const std::string& since,
                     const std::string& reason) {
  StockMachine m;
  m.id = machine.id;
  m.name = machine.name;
  m.state = on ? Running::On : Running::Off;
  m.since = since;
  m.reason = reason;
  m.processors = 2;
  m.memory = 4096;
  if (on) {
    m.addresses = machine.addresses;
    if (!m.addresses.empty()) m.addressesFrom = "by its agent";
    m.agent = !m.addresses.empty();
  }
  for (const std::string& address : machine.serials) m.serials.push_back({"serial0", address});
  if (machine.console == nullptr) return m;
  const ConsolePlan& plan = machine.console->plan();
  if (plan.vnc) {
    host::ConsoleFacts c;
    c.scheme = "vnc";
    c.listen = plan.address;
    c.port = machine.console->port() != 0 ? machine.console->port() : plan.port;
    c.password = !machine.console->password().empty();
    c.screens = plan.guest.twoScreens ? 2 : 1;
    m.consoles.push_back(c);
  }
  for (const DoorPlan& door : plan.doors) {
    if (door.console.empty()) continue;
    host::ConsoleFacts c;
    c.scheme = door.console;
    c.listen = door.address;
    c.port = door.port;
    c.screens = static_cast<int>(plan.guest.mostScreens);
    m.consoles.push_back(c);
  }
  if (plan.consoleById != 0) {
    host::ConsoleFacts c;
    c.scheme = "rdp";
    c.listen = plan.address;
    c.port = plan.consoleById;
    c.byId = true;
    c.password = true;
    m.consoles.push_back(c);
  }
  return m;
}

struct HostApi::State : std::enable_shared_from_this<HostApi::State> {
  State(Executor s, const std::filesystem::path& path) : strand(std::move(s)), changed(strand) {
    std::error_code ignored;
    std::filesystem::remove(path, ignored);
    listener = listenUnix(strand, path.string());
  }

  Task<void> acceptAll() {
    const auto self = shared_from_this();
    while (!ended) {
      const auto stream = std::make_shared<StreamPtr>(co_await listener->accept());
      spawn(strand, [self, stream] { return self->serve(stream); });
    }
  }

  Task<void> serve(std::shared_ptr<StreamPtr> shared) {
    const auto self = shared_from_this();
    ByteStream& stream = **shared;
    host::LineReader lines(stream, 65536);
    const Json request = Json::parse(co_await lines.next(), nullptr, false);
    if (!request.is_object()) co_return;
    const std::string host = request.value("host", ""), verb = request.value("verb", "");
    if (verb == "watch") co_return co_await watch(stream, host);
    Json answer;
    try {
      if (verb == "power")
        answer = power(host, request.value("id", ""), request.value("act", ""));
      else if (verb == "console")
        answer = console(host, request.value("id", ""), request.value("change", Json::object()));
      else
        answer = failure("no such verb: " + verb);
    } catch (const Error& e) {
      answer = failure(e.what(), e.cure());
    }
    co_await say(stream, answer);
    stream.close();
  }

  static Task<void> say(ByteStream& stream, const Json& what) {
    const std::string line = what.dump() + "\n";
    co_await stream.write(viewOf(line));
  }

  static StockMachine toldOf(const Hosted& h) {
    StockMachine m = stockOf(h.plan, h.plan.on, h.since, h.reason);
    if (h.stopping) m.state = Running::Stopping;
    return m;
  }

  Task<void> watch(ByteStream& stream, std::string host) {
    std::map<std::string, StockMachine> told;
    Json all = Json::array();
    for (const Hosted& h : machines) {
      if (h.plan.host != host) continue;
      told[h.plan.id] = toldOf(h);
      all.push_back(host::toJson(told[h.plan.id]));
    }
    const Json first{{"host", "the lab's " + host},
                     {"machines", all},
                     {"cannot",
                      {{"pause", "The lab's machines cannot be paused."},
                       {"listen", "The lab's consoles stay on their loopback address."},
                       {"serial", "The lab adds no serial ports."}}}};
    co_await say(stream, first);
    // Nothing is read any more: whoever leaves is noticed at the next write.
    for (;;) {
      const auto mine = std::make_shared<Signal>(strand);
      watchers.push_back(mine);
      co_await mine->wait();
      for (const Hosted& h : machines) {
        if (h.plan.host != host) continue;
        const StockMachine now = toldOf(h);
        if (told[h.plan.id] == now) continue;
        told[h.plan.id] = now;
        const Json one{{"machine", host::toJson(now)}};
        co_await say(stream, one);
      }
    }
  }

  void tellWatchers() {
    for (const auto& w : std::exchange(watchers, {})) w->notify();
  }

  Hosted& find(const std::string& host, const std::string& id) {
    for (Hosted& h : machines)
      if (h.plan.host == host && h.plan.id == id) return h;
    throw Error(ErrorKind::Local, host + " has no machine with this ID", id);
  }

  void switchTo(Hosted& h, bool on, const std::string& reason) {
    if (h.plan.on == on) return;
    if (on) {
      h.plan.console->withGuest([](Guest& g) { g.reboot(); });
      h.plan.console->start(false);
    } else {
      h.plan.console->stop();
    }
    h.plan.on = on;
    h.stopping = false;
    h.since = host::timeText();
    h.reason = reason;
    tellWatchers();
  }

  Json power(const std::string& host, const std::string& id, const std::string& verb) {
    Hosted& h = find(host, id);
    const auto act = host::powerActFrom(verb);
    if (!act || h.plan.console == nullptr) return failure("this machine does not take \"" + verb + "\"");
    switch (*act) {
      case host::PowerAct::Start: switchTo(h, true, ""); break;
      case host::PowerAct::Off: switchTo(h, false, "forced off"); break;
      case host::PowerAct::ShutDown:
        if (!h.plan.on || h.stopping) break;
        h.stopping = true;
        tellWatchers();
        spawn(strand, [self = shared_from_this(), id = h.plan.id, at = h.plan.host]() -> Task<void> {
          co_await systemClock()->sleep(kShutDownTakes);
          Hosted& asked = self->find(at, id);
          if (asked.stopping) self->switchTo(asked, false, "shut down by the guest");
        });
        break;
      case host::PowerAct::Restart:
      case host::PowerAct::Reset:
        if (!h.plan.on) return failure("it is off");
        h.plan.console->withGuest([](Guest& g) { g.reboot(); });
        break;
      default: return failure("The lab's machines cannot be paused.");
    }
    return {{"done", true}};
  }

  Json console(const std::string& host, const std::string& id, const Json& change) {
    Hosted& h = find(host, id);
    if (h.plan.console == nullptr || !h.plan.console->plan().vnc)
      return failure("it has no console that can be set");
    if (change.contains("addSerial") || change.contains("listen")) return failure("the lab cannot do that");
    if (change.contains("password")) h.plan.console->setPassword(change["password"].get<std::string>());
    if (change.contains("port")) {
      const int port = change["port"].get<int>();
      if (port < 1 || port > 65535) return failure("no such port");
      h.plan.console->usePort(static_cast<std::uint16_t>(port));
    }
    tellWatchers();
    return {{"done", true}};
  }

  Executor strand;
  Signal changed;
  std::unique_ptr<Listener> listener;
  std::vector<Hosted> machines;
  std::vector<std::shared_ptr<Signal>> watchers;
  bool ended = false;
};

HostApi::HostApi(const Executor& strand, const std::filesystem::path& socket,
                 std::vector<HostedMachine> machines)
    : state_(std::make_shared<State>(strand, socket)) {
  for (HostedMachine& m : machines) {
    Hosted h;
    h.since = host::timeText();
    if (!m.on) h.reason = "shut down by the guest";
    h.plan = std::move(m);
    state_->machines.push_back(std::move(h));
  }
  spawn(strand, [state = state_] { return state->acceptAll(); });
}

HostApi::~HostApi() {
  post(state_->strand, [state = state_] {
    state->ended = true;
    state->listener->close();
  });
}

void HostApi::powerFor(const std::string& host, const std::string& id, const std::string& verb) {
  post(state_->strand, [state = state_, host, id, verb] { state->power(host, id, verb); });
}

void HostApi::tell() {
  post(state_->strand, [state = state_] { state->tellWatchers(); });
}

int relayHostRequest(const std::filesystem::path& socket, const std::vector<std::string>& words) {
  int code = 0;
  runToEnd([&]() -> Task<void> {
    Json request{{"host", words.at(0)}, {"verb", words.size() > 1 ? words[1] : ""}};
    if (words.size() > 2) request["id"] = words[2];
    if (words.size() > 3) request["act"] = words[3];
    if (request["verb"] == "console") {
      std::string line;
      std::getline(std::cin, line);
      request["change"] = Json::parse(line, nullptr, false);
    }
    StreamPtr stream;
    try {
      stream = co_await connectUnix(socket.string());
    } catch (const Error&) {
      std::cout
          << Json{{"error", "the lab does not run"}, {"cure", "Start it: ./run demo, or kettle-lab."}}.dump()
          << std::endl;
      code = 3;
      co_return;
    }
    const std::string line = request.dump() + "\n";
    co_await stream->write(viewOf(line));
    host::LineReader lines(*stream);
    try {
      for (;;) std::cout << co_await lines.next() << std::endl;
    } catch (const Error&) {
      // The lab has said all there is.
    }
  });
  return code;
}

}  // namespace kw::lab
