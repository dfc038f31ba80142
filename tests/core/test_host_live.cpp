// Hosts that are watched: the lab's, through the program that their owner gives; starts; why something does
// not open.
#include <sys/socket.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "host/console.hpp"
#include "host/starting.hpp"
#include "host/why.hpp"
#include "lab/scenario.hpp"
#include "route/checker.hpp"
#include "route/listens.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;

namespace {

/// The lab's fernery with two machines on free ports, asked through kettle-lab as its own command.
struct Fernery {
  explicit Fernery(std::chrono::milliseconds serviceDelay = {}) {
    for (const char* name : {"mist-bench", "bee-camera"}) {
      lab::ConsolePlan plan;
      plan.guest.name = name;
      plan.id = lab::idForName(name);
      plan.options.name = name;
      if (std::string(name) == "bee-camera") {
        plan.vnc = false;
        plan.guest.scene = lab::SceneKind::BeeCamera;
        lab::DoorPlan door{"127.0.0.1", 0, lab::spiceDoor({name, "", false, true, 1}), serviceDelay, "spice"};
        door.port = freePort();
        plan.doors.push_back(door);
      }
      consoles.push_back(std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan));
    }
    consoles[0]->start(true);
    std::vector<lab::HostedMachine> hosted;
    for (const auto& c : consoles) {
      lab::HostedMachine m;
      m.host = "fernery", m.name = c->plan().guest.name, m.id = c->plan().id, m.console = c.get();
      m.on = c == consoles[0];
      hosted.push_back(m);
    }
    api = std::make_unique<lab::HostApi>(apiRuntime.strand(), socket(), hosted);
    HostRecord record;
    record.name = "fernery";
    record.address =
        std::string("command:") + KW_BUILD + "/lab/kettle-lab host --socket " + socket() + " fernery";
    host = std::make_shared<Host>(record, AdapterTools{hostRuntime.strand(), systemClock(), {}, {}});
    host->start();
  }
  ~Fernery() {
    host->end();
    api.reset();
    apiRuntime.stop();
    for (auto& c : consoles) c->stop();
    runtime.stop();
  }
  static std::uint16_t freePort() {
    std::uint16_t port = 0;
    runToEnd([&]() -> Task<void> {
      port = listenTcp(co_await asio::this_coro::executor, "127.0.0.1", 0)->port();
    });
    return port;
  }
  [[nodiscard]] std::string socket() const { return (folder.path / "hosts.sock").string(); }
  [[nodiscard]] bool live() const { return host->view().stage == HostStage::Live; }
  [[nodiscard]] StockMachine machine(const std::string& name) const {
    const auto stock = host->view().stock;
    const auto found = stock->find(lab::idForName(name));
    return found == stock->end() ? StockMachine{} : found->second;
  }
  std::string order(const std::function<void(Host::Done)>& give) {
    std::promise<std::string> done;
    give([&](std::exception_ptr e) { done.set_value(e ? messageOf(e) : ""); });
    return done.get_future().get();
  }
  std::string power(const std::string& name, PowerAct act) {
    return order([&](Host::Done d) { host->power(lab::idForName(name), act, std::move(d)); });
  }

  TemporaryFolder folder;
  std::shared_ptr<lab::Fonts> fonts = std::make_shared<lab::Fonts>();
  Runtime runtime{1}, apiRuntime{1}, hostRuntime{1};
  std::vector<std::unique_ptr<lab::Console>> consoles;
  std::unique_ptr<lab::HostApi> api;
  std::shared_ptr<Host> host;
};

StartPlan planFor(Fernery& f, const std::string& name, int port) {
  StartPlan plan;
  plan.host = f.host;
  plan.id = lab::idForName(name);
  plan.addressNow = [port](const StockMachine&) {
    return parseAddress("spice://127.0.0.1:" + std::to_string(port));
  };
  plan.service = "its screen";
  return plan;
}

struct Watched {
  std::mutex mutex;
  std::vector<StartView> views;
  void add(const StartView& v) {
    const std::lock_guard held(mutex);
    views.push_back(v);
  }
  bool over() {
    const std::lock_guard held(mutex);
    return !views.empty() && views.back().over;
  }
  StartView last() {
    const std::lock_guard held(mutex);
    return views.back();
  }
  bool saw(const std::string& words) {
    const std::lock_guard held(mutex);
    for (const StartView& v : views)
      for (const StartStep& s : v.steps)
        if ((s.what + " " + s.remark).find(words) != std::string::npos) return true;
    return false;
  }
};

std::vector<Finding> whyOf(const std::string& address, std::shared_ptr<const Snapshot> records = nullptr,
                           Id way = 0, std::shared_ptr<Host> host = nullptr) {
  std::vector<Finding> out;
  if (!records) records = std::make_shared<Snapshot>();
  runToEnd([&]() -> Task<void> {
    WhyTools tools;
    tools.limit = std::chrono::milliseconds(1500);
    tools.host = host;
    out = co_await whyNot(records, way, parseAddress(address), tools);
  });
  return out;
}

const Finding* found(const std::vector<Finding>& all, const std::string& code) {
  for (const Finding& f : all)
    if (f.code == code) return &f;
  return nullptr;
}

/// Listens on loopback and says something to whoever comes (or nothing).
class Speaker {
 public:
  explicit Speaker(std::string says, bool hangsUp = false)
      : listener_(listenTcp(runtime_.strand(), "127.0.0.1", 0)) {
    spawn(runtime_.strand(), [this, says, hangsUp]() -> Task<void> {
      for (;;) {
        kept_.push_back(co_await listener_->accept());
        if (!says.empty()) co_await kept_.back()->write(viewOf(says));
        if (hangsUp) kept_.back()->close();
      }
    });
  }
  ~Speaker() { runtime_.stop(); }
  [[nodiscard]] std::string port() const { return std::to_string(listener_->port()); }

 private:
  Runtime runtime_{1};
  std::shared_ptr<Listener> listener_;
  std::vector<StreamPtr> kept_;
};

}  // namespace

TEST_CASE("A host asked by its own command: its stock, power, and changes from elsewhere", "[host][lab]") {
  Fernery f;
  REQUIRE(eventually([&] { return f.live(); }));
  CHECK(f.host->view().stock->size() == 2);
  CHECK(f.machine("mist-bench").state == Running::On);
  CHECK(f.machine("bee-camera").state == Running::Off);
  CHECK(f.machine("mist-bench").consoles.at(0).port == f.consoles[0]->port());
  CHECK_FALSE(f.host->view().abilities.pause.can);
  CHECK(f.power("mist-bench", PowerAct::Pause).find("cannot be paused") != std::string::npos);
  CHECK(f.power("mist-bench", PowerAct::ShutDown).empty());
  CHECK(eventually([&] { return f.machine("mist-bench").state == Running::Stopping; }));
  CHECK(eventually([&] { return f.machine("mist-bench").state == Running::Off; }));
  CHECK(f.machine("mist-bench").reason == "shut down by the guest");
  CHECK_FALSE(f.machine("mist-bench").since.empty());
  CHECK(f.power("mist-bench", PowerAct::Start) == "");
  CHECK(eventually([&] { return f.machine("mist-bench").state == Running::On; }));
  CHECK(f.order([&](Host::Done d) {
           f.host->power("nobody", PowerAct::Start, std::move(d));
         }).find("no machine with this ID") != std::string::npos);
}

TEST_CASE("A console's password and port are set through the host", "[host][lab]") {
  Fernery f;
  REQUIRE(eventually([&] { return f.live(); }));
  ConsoleChange change;
  change.password = "plum42";
  CHECK(f.order([&](Host::Done d) {
           f.host->change(lab::idForName("mist-bench"), change, std::move(d));
         }).empty());
  CHECK(eventually([&] { return f.machine("mist-bench").consoles.at(0).password; }));
  CHECK(f.consoles[0]->password() == "plum42");
  ConsoleChange port;
  port.port = Fernery::freePort();
  CHECK(f.order([&](Host::Done d) {
           f.host->change(lab::idForName("mist-bench"), port, std::move(d));
         }).empty());
  CHECK(eventually([&] { return f.machine("mist-bench").consoles.at(0).port == *port.port; }));
  runToEnd([&]() -> Task<void> {
    const CheckResult look = co_await checkAddress(
        parseAddress("vnc://127.0.0.1:" + std::to_string(*port.port)), std::chrono::seconds(3));
    CHECK(look.answers);
  });
}

TEST_CASE("A host that goes away is told of, and connected again when it is back", "[host][lab]") {
  Fernery f;
  REQUIRE(eventually([&] { return f.live(); }));
  f.api.reset();
  std::vector<lab::HostedMachine> one(1);
  one[0].host = "fernery", one[0].name = "mist-bench", one[0].id = lab::idForName("mist-bench"),
  one[0].console = f.consoles[0].get();
  // The watch of the old one is dropped with its runtime's next write; a new one takes the socket over.
  f.api = std::make_unique<lab::HostApi>(f.apiRuntime.strand(), f.socket(), one);
  f.host->retry();
  CHECK(f.power("mist-bench", PowerAct::Off).empty());
  CHECK(f.host->view().stage != HostStage::Ended);
}

TEST_CASE("A machine's first password is fetched from the command that knows its host", "[host]") {
  TemporaryFolder folder;
  const std::string script = (folder.path / "host.sh").string();
  std::ofstream(script) << R"(case "$1" in
watch) echo '{"machines":[{"id":"m1","name":"fern-store"}]}'; exec sleep 600;;
first-password) case "$2" in
  m1) echo '{"done":true,"sealed":"bGVhdmVz"}';;
  m2) echo '{"done":true}';;
  *) echo '{"error":"no machine has this ID"}';; esac;;
esac)";
  HostRecord record;
  record.name = "orchard", record.address = "command:/bin/sh " + script;
  Runtime runtime(1);
  const auto host = std::make_shared<Host>(record, AdapterTools{runtime.strand(), systemClock(), {}, {}});
  host->start();
  REQUIRE(eventually([&] { return host->view().stage == HostStage::Live; }));
  const auto ask = [&](const std::string& id) {
    const auto sealed = std::make_shared<std::string>();
    std::promise<std::string> done;
    host->firstPassword(id, sealed, [&](std::exception_ptr failure) {
      done.set_value(failure ? messageOf(failure) : *sealed);
    });
    return done.get_future().get();
  };
  CHECK(ask("m1") == "bGVhdmVz");
  CHECK(ask("m2").find("gives no first password") != std::string::npos);
  CHECK(ask("m3").find("no machine has this ID") != std::string::npos);
  host->end();
}

TEST_CASE("A command that is no host says so; the host waits and tries again", "[host]") {
  const auto trouble = [](const std::string& address) {
    Runtime runtime(1);
    HostRecord record;
    record.name = "orchard", record.address = address;
    const auto host = std::make_shared<Host>(record, AdapterTools{runtime.strand(), systemClock(), {}, {}});
    host->start();
    CHECK(eventually([&] { return host->view().stage == HostStage::Waiting; }));
    const std::string out = host->view().sentence;
    host->end();
    return out;
  };
  CHECK(trouble("command:/nowhere/at-all").find("cannot be started") != std::string::npos);
  CHECK(trouble("command:/bin/true").find("ended") != std::string::npos);
  CHECK(trouble("command:/bin/echo hello").find("no JSON") != std::string::npos);
  CHECK(trouble(R"(command:/bin/sh -c "echo '{\"error\":\"the cellar is locked\"}'")").find("cellar") !=
        std::string::npos);
  CHECK(trouble(R"(command:/bin/sh -c "echo '{\"machines\":7}'")").find("no list") != std::string::npos);
  CHECK(trouble("qmp:/nowhere/at.sock").find("does not exist") != std::string::npos);
  CHECK(trouble("libvirt:qemu+tcp://127.0.0.1:1/system").find("refused") != std::string::npos);
}

TEST_CASE("Start and wait: asked, running, address, answers; each step with its time", "[host][lab]") {
  Fernery f(std::chrono::milliseconds(900));
  REQUIRE(eventually([&] { return f.live(); }));
  const int port = f.consoles[1]->plan().doors[0].port;
  Watched seen;
  const auto errand =
      std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), planFor(f, "bee-camera", port));
  errand->start([&](const StartView& v) { seen.add(v); });
  REQUIRE(eventually([&] { return seen.over(); }));
  const StartView v = seen.last();
  REQUIRE_FALSE(v.failure.has_value());
  for (const StartStep& s : v.steps) CHECK(s.state == StepState::Done);
  CHECK(v.address->port == port);
  CHECK(v.took >= std::chrono::milliseconds(800));
  CHECK(seen.saw("does not answer yet"));
  CHECK(seen.saw("refused"));
}

TEST_CASE(
    "Start and wait ends well when stopped, when it takes too long, when the machine stops again, and for "
    "one that runs",
    "[host][lab]") {
  Fernery f(std::chrono::hours(1));
  REQUIRE(eventually([&] { return f.live(); }));
  const int port = f.consoles[1]->plan().doors[0].port;
  Watched seen;
  StartPlan plan = planFor(f, "bee-camera", port);
  const auto waits = [&] { return eventually([&] { return seen.saw("does not answer yet"); }); };
  SECTION("stopped") {
    const auto errand = std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), plan);
    errand->start([&](const StartView& v) { seen.add(v); });
    REQUIRE(waits());
    errand->stop();
    REQUIRE(eventually([&] { return seen.over(); }));
    CHECK(seen.last().failure->kind() == ErrorKind::Cancelled);
    CHECK(f.machine("bee-camera").state == Running::On);
  }
  SECTION("too long") {
    plan.limit = std::chrono::milliseconds(700);
    const auto errand = std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), plan);
    errand->start([&](const StartView& v) { seen.add(v); });
    REQUIRE(eventually([&] { return seen.over(); }));
    CHECK(seen.last().failure->kind() == ErrorKind::TimedOut);
    CHECK(seen.last().steps[3].state == StepState::Failed);
  }
  SECTION("it stops again") {
    const auto errand = std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), plan);
    errand->start([&](const StartView& v) { seen.add(v); });
    REQUIRE(waits());
    CHECK(f.power("bee-camera", PowerAct::Off).empty());
    REQUIRE(eventually([&] { return seen.over(); }));
    CHECK(std::string(seen.last().failure->what()).find("stopped again: forced off") != std::string::npos);
  }
  SECTION("it runs already") {
    plan = planFor(f, "mist-bench", 0);
    plan.addressNow = [&](const StockMachine& m) {
      return parseAddress("vnc://127.0.0.1:" + std::to_string(m.consoles.at(0).port));
    };
    const auto errand = std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), plan);
    errand->start([&](const StartView& v) { seen.add(v); });
    REQUIRE(eventually([&] { return seen.over(); }));
    CHECK_FALSE(seen.last().failure.has_value());
    CHECK(seen.last().steps[0].remark == "it need not be started");
  }
  SECTION("its console's password is set again") {
    plan = planFor(f, "mist-bench", 0);
    plan.addressNow = [&](const StockMachine& m) {
      return parseAddress("vnc://127.0.0.1:" + std::to_string(m.consoles.at(0).port));
    };
    ConsoleChange again;
    again.password = "plum42";
    plan.again = again;
    const auto errand = std::make_shared<StartErrand>(f.hostRuntime.strand(), systemClock(), plan);
    errand->start([&](const StartView& v) { seen.add(v); });
    REQUIRE(eventually([&] { return seen.over(); }));
    CHECK(f.consoles[0]->password() == "plum42");
    CHECK(seen.saw("password was set again"));
  }
}

TEST_CASE("What listens there is told by its greeting or its answers", "[host][why]") {
  CHECK(fromGreeting("SSH-2.0-x\r\n").family == "ssh");
  CHECK(fromGreeting("RFB 003.008\n").family == "vnc");
  CHECK(fromGreeting("HTTP/1.1 400 Bad\r\n").family == "http");
  CHECK(fromGreeting("\xff\xfd\x01").family == "line");
  CHECK(fromGreeting("\r\nmist-bench login: ").family == "prompt");
  CHECK(fromGreeting(std::string("\x15\x03\x01\x00\x02", 5)).family == "tls");
  CHECK(fromGreeting(std::string("\x01\x02", 2)).family.empty());
  CHECK(fromGreeting("").family.empty());
}

TEST_CASE("Why: another service has the port", "[host][why]") {
  const std::pair<const char*, const char*> services[] = {{"SSH-2.0-OpenSSH_9.2\r\n", "an SSH server"},
                                                          {"HTTP/1.1 400 Bad Request\r\n", "a web server"},
                                                          {"220 mail ready\r\n", "a mail"},
                                                          {"\r\nirrigation-plc login: ", "a line of text"}};
  for (const auto& [says, people] : services) {
    Speaker speaker(says);
    const auto all = whyOf("vnc://127.0.0.1:" + speaker.port());
    INFO(people);
    REQUIRE(found(all, "other-service") != nullptr);
    CHECK(found(all, "other-service")->sentence.find(people) != std::string::npos);
    CHECK_FALSE(found(all, "other-service")->cure.empty());
    CHECK(anyTrouble(all));
  }
}

TEST_CASE("Why: the right service there is no trouble", "[host][why]") {
  Fernery f;
  const auto all = whyOf("vnc://127.0.0.1:" + std::to_string(f.consoles[0]->port()));
  CHECK_FALSE(anyTrouble(all));
  CHECK(found(all, "answers") != nullptr);
  // And as seen by somebody who expects something else:
  CHECK(found(whyOf("ssh://127.0.0.1:" + std::to_string(f.consoles[0]->port())), "other-service")
            ->sentence.find("VNC") != std::string::npos);
}

TEST_CASE("Why: refused, hung up on, silent, and a name that nobody knows", "[host][why]") {
  const auto refused = whyOf("vnc://127.0.0.1:" + std::to_string(Fernery::freePort()));
  REQUIRE(found(refused, "refused") != nullptr);
  CHECK_FALSE(found(refused, "refused")->cure.empty());
  Speaker silent("");
  CHECK(found(whyOf("vnc://127.0.0.1:" + silent.port()), "other-service")->sentence.find("says nothing") !=
        std::string::npos);
  Speaker hangsUp("", true);
  CHECK(found(whyOf("vnc://127.0.0.1:" + hangsUp.port()), "other-service") != nullptr);
  // RFC 6761 6.4: names below .invalid never resolve, and resolvers need not ask anybody.
  const auto unknown = whyOf("vnc://mist-bench.invalid:5907");
  CHECK(found(unknown, "name-unknown") != nullptr);
}

TEST_CASE("Why: a display number was taken for a port", "[host][why]") {
  lab::ConsolePlan plan;
  plan.guest.name = "mist-bench";
  plan.options.name = "mist-bench";
  Runtime runtime(1);
  auto fonts = std::make_shared<lab::Fonts>();
  std::unique_ptr<lab::Console> console;
  int display = 60;
  for (; display < 99 && !console; ++display) {
    plan.port = static_cast<std::uint16_t>(5900 + display);
    auto tried = std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan);
    try {
      tried->start(true);
      console = std::move(tried);
      break;
    } catch (const Error&) {
      continue;  // somebody has that port
    }
  }
  REQUIRE(console);
  Address address = parseAddress("vnc://127.0.0.1:5901");
  address.port = display;
  const auto all = whyOf(address.uri());
  REQUIRE(found(all, "display-number") != nullptr);
  CHECK(found(all, "display-number")->change == "port:" + std::to_string(5900 + display));
  console->stop();
}

TEST_CASE("Why: the host is asked: off, gone, another port there, not reached", "[host][why][lab]") {
  Fernery f;
  REQUIRE(eventually([&] { return f.live(); }));
  TemporaryFolder folder;
  const auto store = openSqliteStore(folder.path / "records.sqlite");
  const auto record = [&](const std::string& name, const std::string& id, const std::string& address) {
    Id way = 0;
    store->commit("record", [&](StoreWriter& w) {
      Machine m;
      m.name = name, m.host = "fernery";
      w.put(m);
      w.set({OwnerKind::Machine, m.id}, "host.id", id);
      Endpoint e;
      e.machine = m.id, e.label = "screen", e.address = address;
      w.put(e);
      way = e.id;
    });
    return way;
  };
  const std::string wrong = "vnc://127.0.0.1:" + std::to_string(Fernery::freePort());
  const Id mist = record("mist-bench", lab::idForName("mist-bench"), wrong);
  const Id bees = record("bee-camera", lab::idForName("bee-camera"), wrong);
  const Id gone = record("palm-house-19", "nobody", wrong);
  const auto records = std::make_shared<Snapshot>(store->load());
  CHECK(found(whyOf(wrong, records, bees, f.host), "off")->change == "start");
  CHECK(found(whyOf(wrong, records, gone, f.host), "gone") != nullptr);
  const auto moved = whyOf(wrong, records, mist, f.host);
  REQUIRE(found(moved, "port-changed") != nullptr);
  CHECK(found(moved, "port-changed")->change == "drift");
  CHECK(found(moved, "running") != nullptr);
  CHECK(found(moved, "shared-port") != nullptr);  // all three records have it
  f.host->end();
  CHECK(found(whyOf(wrong, records, mist, f.host), "host-lost") != nullptr);
}

TEST_CASE("Why: paused, and a console that listens on its host's own loopback only", "[host][why]") {
  TemporaryFolder folder;
  const int port = Fernery::freePort();
  const nlohmann::json machines = {
      {{"id", "p"}, {"name", "mist-bench"}, {"state", "paused"}, {"reason", "a disk error"}},
      {{"id", "l"},
       {"name", "seed-bank"},
       {"state", "running"},
       {"consoles", {{{"kind", "vnc"}, {"listen", "127.0.0.1"}, {"port", port}}}}}};
  const nlohmann::json told{{"machines", machines}};
  std::ofstream(folder.path / "told.json") << told.dump() << "\n";
  HostRecord record;
  record.name = "fernery";
  record.address = "command:/bin/sh -c \"cat " + (folder.path / "told.json").string() + "; exec sleep 600\"";
  Runtime runtime(1);
  const auto host = std::make_shared<Host>(record, AdapterTools{runtime.strand(), systemClock(), {}, {}});
  host->start();
  const auto store = openSqliteStore(folder.path / "records.sqlite");
  // 0.0.0.0 is this computer, written as somebody would write another one.
  const std::string address = "vnc://0.0.0.0:" + std::to_string(port);
  std::map<std::string, Id> ways;
  store->commit("records", [&](StoreWriter& w) {
    for (const auto& [name, id] : {std::pair("mist-bench", "p"), std::pair("seed-bank", "l")}) {
      Machine m;
      m.name = name, m.host = "fernery";
      w.put(m);
      w.set({OwnerKind::Machine, m.id}, "host.id", id);
      Endpoint e;
      e.machine = m.id, e.label = "screen", e.address = address;
      w.put(e);
      ways[name] = e.id;
    }
  });
  const auto records = std::make_shared<Snapshot>(store->load());
  const auto paused = whyOf(address, records, ways["mist-bench"], host);
  REQUIRE(found(paused, "paused") != nullptr);
  CHECK(found(paused, "paused")->sentence.find("a disk error") != std::string::npos);
  const auto loopback = whyOf(address, records, ways["seed-bank"], host);
  REQUIRE(found(loopback, "loopback-only") != nullptr);
  CHECK(found(loopback, "loopback-only")->change == tunnelChange("127.0.0.1", "ssh://0.0.0.0"));
  host->end();
}
