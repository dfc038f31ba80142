// What hosts tell, and what is made of it: JSON, domain XML, QMP, adoption and drift.
#include <nlohmann/json.hpp>

#include "host/console.hpp"
#include "host/libvirt_xml.hpp"
#include "host/qmp.hpp"
#include "record/words.hpp"
#include "tests/support.hpp"
#include "wire/child.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;
using Json = nlohmann::json;

namespace {

const char* const kDomain = R"(<domain type='qemu' id='3'>
  <name>mist-bench</name><uuid>5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4</uuid><title>Mist bench</title>
  <memory unit='KiB'>262144</memory><vcpu placement='static'>2</vcpu>
  <devices>
    <graphics type='vnc' port='5907' autoport='no' listen='127.0.0.1' passwd='plum42' passwdValidTo='2026-01-01T00:00:00'>
      <listen type='address' address='127.0.0.1'/></graphics>
    <graphics type='spice' autoport='yes' tlsPort='5931'/>
    <video><model type='qxl' heads='2'/></video><video><model type='qxl'/></video>
    <serial type='pty'><source path='/dev/pts/4'/><target port='0'/></serial>
    <serial type='unix'><source mode='bind' path='/run/mist-bench.serial'/></serial>
    <serial type='tcp'><source mode='bind' host='127.0.0.1' service='4001'/><protocol type='telnet'/></serial>
    <serial type='file'><source path='/tmp/log'/></serial>
    <channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0' state='connected'/></channel>
  </devices></domain>)";

StockMachine mistBench() {
  StockMachine m;
  m.state = Running::On;
  readDomainXml(kDomain, m);
  return m;
}

/// A store with one record, as adopting or somebody's hand made it.
struct Garden {
  TemporaryFolder folder;
  std::shared_ptr<Store> store = openSqliteStore(folder.path / "records.sqlite");
  HostPlace place{"fernery", {}};

  Id record(const std::string& name, const std::vector<std::string>& ways, const std::string& id) {
    Id out = 0;
    store->commit("record", [&](StoreWriter& w) {
      Machine m;
      m.name = name, m.host = "fernery";
      w.put(m);
      int position = 0;
      for (const std::string& address : ways) {
        Endpoint e;
        e.machine = m.id, e.label = "screen", e.address = address, e.position = position++;
        w.put(e);
      }
      if (!id.empty()) w.set({OwnerKind::Machine, m.id}, "host.id", id);
      out = m.id;
    });
    return out;
  }
  std::vector<StockRow> rows(const std::vector<StockMachine>& machines) {
    Stock stock;
    for (const StockMachine& m : machines) stock[m.id] = m;
    return stockRows(store->load(), place, stock);
  }
};

StockMachine simple(const std::string& id, const std::string& name, int port) {
  StockMachine m;
  m.id = id, m.name = name, m.state = Running::On;
  ConsoleFacts c;
  c.scheme = "vnc", c.listen = "127.0.0.1", c.port = port;
  m.consoles.push_back(c);
  return m;
}

}  // namespace

TEST_CASE("A machine survives being written as JSON; nonsense is refused with what is wrong", "[host]") {
  StockMachine m = mistBench();
  m.since = "2026-11-26T09:12:00Z";
  m.reason = "booted";
  m.addresses = {"127.0.0.31"};
  m.addressesFrom = "by its agent";
  m.consoles[1].byId = true;
  CHECK(stockMachineFrom(toJson(m)) == m);
  CHECK(stockMachineFrom({{"id", "a"}, {"name", "b"}, {"colour", "green"}}).name == "b");
  const auto refused = [](const Json& json, const std::string& word) {
    try {
      stockMachineFrom(json);
    } catch (const Error& e) {
      return e.kind() == ErrorKind::ProtocolBroken && std::string(e.what()).find(word) != std::string::npos;
    }
    return false;
  };
  CHECK(refused(Json::array(), "no object"));
  CHECK(refused({{"id", ""}, {"name", "b"}}, "no id"));
  CHECK(refused({{"id", "a"}, {"name", 7}}, "\"name\""));
  CHECK(refused({{"id", "a"}, {"name", "b"}, {"memory", -1}}, "\"memory\""));
  CHECK(refused({{"id", "a"}, {"name", "b"}, {"consoles", {{{"port", 70000}}}}}, "\"port\""));
  CHECK(refused({{"id", "a"}, {"name", "b"}, {"consoles", "many"}}, "\"consoles\""));
  CHECK(refused({{"id", "a"}, {"name", "b"}, {"addresses", std::vector<std::string>(65, "x")}}, "too long"));
}

TEST_CASE("Domain XML: consoles, serial ports, agent, size", "[host]") {
  const StockMachine m = mistBench();
  CHECK(m.id == "5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4");
  CHECK(m.title == "Mist bench");
  CHECK(m.memory == 256);
  CHECK(m.processors == 2);
  CHECK(m.agent);
  REQUIRE(m.consoles.size() == 2);
  CHECK(m.consoles[0].port == 5907);
  CHECK(m.consoles[0].password);
  CHECK_FALSE(m.consoles[0].automatic);
  CHECK(m.consoles[0].screens == 3);
  CHECK(m.consoles[1].tlsPort == 5931);
  CHECK(m.consoles[1].automatic);
  REQUIRE(m.serials.size() == 4);
  CHECK(m.serials[0].address == "serial:/dev/pts/4");
  CHECK(m.serials[1].address == "unix:/run/mist-bench.serial");
  CHECK(m.serials[2].address == "telnet://127.0.0.1:4001");
  CHECK(m.serials[3].address.empty());
  StockMachine other;
  CHECK_THROWS_AS(readDomainXml("<domain><name>", other), Error);
  CHECK_THROWS_AS(readDomainXml("<network/>", other), Error);
}

TEST_CASE("Domain XML: a console's password, port and listen address are changed, the rest stays", "[host]") {
  const std::string password = graphicsWithPassword(kDomain, "vnc", "quince<7");
  CHECK(password.find("passwd=\"quince&lt;7\"") != std::string::npos);
  CHECK(password.find("passwdValidTo") == std::string::npos);
  CHECK(password.find("port=\"5907\"") != std::string::npos);
  const std::string place = graphicsWithPlace(kDomain, "vnc", 5942, "0.0.0.0");
  CHECK(place.find("port=\"5942\"") != std::string::npos);
  CHECK(place.find("<listen type=\"address\" address=\"0.0.0.0\"") != std::string::npos);
  CHECK(place.find("127.0.0.1") == std::string::npos);
  CHECK(graphicsWithPlace(kDomain, "vnc", 0, {}).find("autoport=\"yes\"") != std::string::npos);
  CHECK_THROWS_AS(graphicsWithPassword(kDomain, "rdp", "x"), Error);
  CHECK(serialDeviceXml("/run/a b").find("path=\"/run/a b\"") != std::string::npos);
}

TEST_CASE("QMP: greeting, answers in any order, refusals, events, and an end in the middle", "[host]") {
  runToEnd([]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto ends = memoryPair(here);
    ByteStream* far = ends.second.get();
    auto monitor = std::make_shared<QmpMonitor>(here, std::move(ends.first));
    auto ready = std::make_shared<bool>(false);
    auto events = std::make_shared<std::vector<std::string>>();
    auto ended = std::make_shared<std::string>();
    spawn(
        here,
        [=] {
          return monitor->run([=] { *ready = true; }, [=](const std::string& e) { events->push_back(e); });
        },
        [=](std::exception_ptr e) { *ended = messageOf(e); });
    const std::string greeting =
        R"({"QMP":{"version":{"qemu":{"major":7,"minor":2,"micro":0}},"capabilities":[]}})"
        "\r\n";
    co_await far->write(viewOf(greeting));
    std::string line;
    const auto heard = [far]() -> Task<std::string> {
      Byte part[512];
      const std::size_t n = co_await far->readSome(part);
      co_return std::string(reinterpret_cast<const char*>(part), n);
    };
    line = co_await heard();
    CHECK(line.find("qmp_capabilities") != std::string::npos);
    co_await far->write(viewOf("{\"return\":{},\"id\":0}\n"));
    auto first = std::make_shared<std::string>(), second = std::make_shared<std::string>();
    const auto ask = [&](const char* command, std::shared_ptr<std::string> out) {
      spawn(here, [monitor, command, out]() -> Task<void> {
        const std::string name = command;
        try {
          *out = (co_await monitor->call(name)).dump();
        } catch (const Error& e) {
          *out = e.what();
        }
      });
    };
    // The first command may be given once run() has seen the negotiation's answer.
    while (!*ready) co_await systemClock()->sleep(std::chrono::milliseconds(1));
    CHECK(monitor->version() == "7.2.0");
    ask("query-a", first);
    line = co_await heard();
    CHECK(line.find("query-a") != std::string::npos);
    ask("query-b", second);
    line = co_await heard();
    CHECK(line.find("query-b") != std::string::npos);
    const std::string answers =
        "{\"event\":\"STOP\"}\n{\"error\":{\"class\":\"GenericError\",\"desc\":\"not now\"},\"id\":2}\n"
        "{\"return\":{\"x\":1},\"id\":1}\n{\"return\":{},\"id\":99}\n";
    for (const char c : answers) {
      const Byte one = static_cast<Byte>(c);
      co_await far->write(ByteView(&one, 1));
    }
    while (first->empty()) co_await systemClock()->sleep(std::chrono::milliseconds(1));
    CHECK(*first == "{\"x\":1}");
    CHECK(second->find("QEMU says: not now") != std::string::npos);
    CHECK(*events == std::vector<std::string>{"STOP"});
    ask("query-c", second);
    co_await heard();
    far->close();
    while (ended->empty()) co_await systemClock()->sleep(std::chrono::milliseconds(1));
    CHECK(second->find("QEMU ended") != std::string::npos);
  });
}

TEST_CASE("QMP: something else that answers is told as such", "[host]") {
  for (const char* said : {"SSH-2.0-OpenSSH_9.2\n", "{\"hello\":1}\n", "{\"QMP\":7}\n", "[1]\n",
                           "{\"QMP\":{\"version\":{\"qemu\":{\"major\":\"seven\"}}}}\n"}) {
    std::string failure;
    runToEnd([&]() -> Task<void> {
      const std::string words = said;
      QmpMonitor monitor(co_await asio::this_coro::executor,
                         replayStream(Bytes(words.begin(), words.end()), 3));
      try {
        co_await monitor.run([] {}, [](const std::string&) {});
      } catch (const Error& e) {
        failure = e.kind() == ErrorKind::ProtocolBroken ? e.what() : "";
      }
    });
    INFO(said);
    CHECK_FALSE(failure.empty());
  }
}

TEST_CASE("Serial ports out of QEMU's character devices", "[host]") {
  const auto serials = serialsFrom(Json::parse(R"([
    {"label":"serial0","filename":"pty:/dev/pts/3"},
    {"label":"serial1","filename":"disconnected:unix:/run/a.sock,server=on"},
    {"label":"compat_monitor0","filename":"vc"},
    {"label":"serial2","filename":"telnet:127.0.0.1:4001,server=on"},
    {"label":"serial3","filename":"file"}, 7])"));
  REQUIRE(serials.size() == 4);
  CHECK(serials[0].address == "serial:/dev/pts/3");
  CHECK(serials[1].address == "unix:/run/a.sock");
  CHECK(serials[2].address == "telnet://127.0.0.1:4001");
  CHECK(serials[3].address.empty());
}

TEST_CASE("Adopting makes a record with ways in that open, linked by ID, in one undo", "[host]") {
  Garden g;
  g.record("mist-bench", {"vnc://127.0.0.1:5999"}, "another");
  const Snapshot before = g.store->load();
  std::vector<Id> made;
  g.store->commit("adopt", [&](StoreWriter& w) { made = adopt(w, before, g.place, 0, {mistBench()}); });
  REQUIRE(made.size() == 1);
  const Snapshot now = g.store->load();
  const Machine& m = now.machines.at(made[0]);
  CHECK(m.name == "mist-bench 2");  // the name is taken
  CHECK(m.host == "fernery");
  CHECK(idOnHost(now, m.id) == "5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4");
  std::vector<std::string> addresses;
  for (const Endpoint* e : now.endpointsOf(m.id)) addresses.push_back(e->address);
  CHECK(addresses == std::vector<std::string>{"vnc://127.0.0.1:5907", "spice+tls://127.0.0.1:5931",
                                              "serial:/dev/pts/4", "unix:/run/mist-bench.serial",
                                              "telnet://127.0.0.1:4001"});
  g.store->undo();
  CHECK(g.store->load().machines.size() == 1);
}

TEST_CASE("A console on the loopback of a host elsewhere is reached through a jump on that host", "[host]") {
  const auto ways = offeredWays(mistBench(), {"fernery", "fernery.example"});
  REQUIRE(ways.size() >= 2);
  CHECK(ways[0].address == "vnc://127.0.0.1:5907");
  CHECK(ways[0].via == "ssh://fernery.example");
  // Sockets and devices are files over there.
  for (const OfferedWay& w : ways) CHECK(w.address.find("/dev/pts") == std::string::npos);
}

TEST_CASE("Drift is told and mended", "[host]") {
  Garden g;
  const Id record = g.record("palm-house-07", {"vnc://127.0.0.1:5917?ask=1"}, "p7");
  const auto mend = [&](DriftKind kind) {
    const Snapshot s = g.store->load();
    const auto rows = g.rows({simple("p7", "palm-house-07b", 5931)});
    REQUIRE(rows.size() == 1);
    CHECK(rows[0].record == record);
    const auto d = std::find_if(rows[0].drift.begin(), rows[0].drift.end(),
                                [&](const Drift& x) { return x.kind == kind; });
    REQUIRE(d != rows[0].drift.end());
    CHECK_FALSE(d->cure.empty());
    g.store->commit("mend", [&](StoreWriter& w) { cureDrift(w, s, record, "p7", *d); });
  };
  SECTION("another port") {
    mend(DriftKind::Port);
    const Snapshot s = g.store->load();
    CHECK(s.endpointsOf(record)[0]->address == "vnc://127.0.0.1:5931?ask=1");  // what else was kept stays
  }
  SECTION("another name") {
    mend(DriftKind::Renamed);
    CHECK(g.store->load().machines.at(record).name == "palm-house-07b");
  }
  SECTION("a way in that the record lacks") {
    StockMachine m = simple("p7", "palm-house-07", 5917);
    m.serials.push_back({"serial0", "unix:/run/p7"});
    const auto rows = g.rows({m});
    REQUIRE(rows[0].drift.size() == 1);
    CHECK(rows[0].drift[0].kind == DriftKind::NewWay);
    const Snapshot s = g.store->load();
    g.store->commit("mend", [&](StoreWriter& w) { cureDrift(w, s, record, "p7", rows[0].drift[0]); });
    CHECK(g.rows({m})[0].drift.empty());
  }
  SECTION("nothing differs") { CHECK(g.rows({simple("p7", "palm-house-07", 5917)})[0].drift.empty()); }
  SECTION("gone there, and one that nobody has") {
    const auto rows = g.rows({simple("x", "drying-room", 5942)});
    REQUIRE(rows.size() == 2);
    CHECK(rows[0].record == 0);
    CHECK(rows[1].gone);
    CHECK(rows[1].drift[0].kind == DriftKind::Gone);
  }
  SECTION("two records of one machine") {
    g.record("palm-house-7 by hand", {}, "p7");
    const auto rows = g.rows({simple("p7", "palm-house-07", 5917)});
    CHECK(std::any_of(rows[0].drift.begin(), rows[0].drift.end(),
                      [](const Drift& d) { return d.kind == DriftKind::Twice; }));
  }
  SECTION("known by its name only") {
    const Id byName = g.record("seed-bank", {"vnc://127.0.0.1:5920"}, "");
    const auto rows = g.rows({simple("s", "seed-bank", 5920), simple("p7", "palm-house-07", 5917)});
    const auto seed =
        std::find_if(rows.begin(), rows.end(), [](const StockRow& r) { return r.machine.id == "s"; });
    CHECK(seed->record == byName);
    REQUIRE(seed->drift.size() == 1);
    const Snapshot s = g.store->load();
    g.store->commit("link", [&](StoreWriter& w) { cureDrift(w, s, byName, "s", seed->drift[0]); });
    CHECK(idOnHost(g.store->load(), byName) == "s");
  }
}

TEST_CASE("A console whose port the host picks is where the host says; others where the record says",
          "[host]") {
  Garden g;
  const Id record = g.record("mist-bench", {"vnc://127.0.0.1:5900"}, "m");
  const Snapshot s = g.store->load();
  const Endpoint& way = *s.endpointsOf(record)[0];
  StockMachine m = simple("m", "mist-bench", 5907);
  CHECK(addressNow(s, way, m, g.place)->port == 5900);  // told as drift, not followed
  m.consoles[0].automatic = true;
  CHECK(addressNow(s, way, m, g.place)->port == 5907);
  m.consoles[0].port = 0;
  CHECK_FALSE(addressNow(s, way, m, g.place).has_value());
}

TEST_CASE("A free port knows consoles of the stock and records of the same host", "[host]") {
  Garden g;
  g.record("a", {"vnc://127.0.0.1:5902"}, "");
  Stock stock{{"m", simple("m", "mist-bench", 5901)}};
  CHECK(freePortFor(stock, g.store->load(), "127.0.0.1", 5901) == 5903);
  CHECK(freePortFor(stock, g.store->load(), "127.0.0.9", 5901) == 5902);
}

TEST_CASE("Host addresses: known kinds, and what is wrong with others", "[host]") {
  CHECK(problemWithHostAddress("libvirt:qemu:///system").empty());
  CHECK(problemWithHostAddress("libvirt:qemu+ssh://duty@127.0.0.1:2222/system").empty());
  CHECK(problemWithHostAddress("qmp:/run/machines").empty());
  CHECK(problemWithHostAddress("command:/bin/true watch").empty());
  CHECK(problemWithHostAddress("qemu:///system").find("libvirt:") != std::string::npos);
  CHECK(problemWithHostAddress("qmp:machines").find("whole path") != std::string::npos);
  CHECK(problemWithHostAddress("libvirt:nothing").find("no address") != std::string::npos);
  CHECK(problemWithHostAddress("libvirt:qemu+tcp://host:99999/system").find("no port") != std::string::npos);
  CHECK(problemWithHostAddress("command:\"unclosed").find("quote") != std::string::npos);
  CHECK(wordsOf("a \"b c\" 'd \\e' f\\ g") == std::vector<std::string>{"a", "b c", "d \\e", "f g"});
}

TEST_CASE("A host record lives in the store: kept, changed by one only, removed and brought back",
          "[host][record]") {
  Garden g;
  HostRecord h;
  g.store->commit("host", [&](StoreWriter& w) {
    h.name = "fernery", h.address = "qmp:/run/machines";
    w.put(h);
  });
  REQUIRE(g.store->load().hostNamed("fernery") != nullptr);
  HostRecord stale = h;
  h.address = "libvirt:qemu:///system";
  g.store->commit("change", [&](StoreWriter& w) { w.put(h); });
  stale.notes = "late";
  CHECK_THROWS_AS(g.store->commit("late", [&](StoreWriter& w) { w.put(stale); }), StaleError);
  g.store->commit("remove", [&](StoreWriter& w) { w.removeHost(h.id); });
  CHECK(g.store->load().hosts.empty());
  g.store->undo();
  CHECK(g.store->load().hostNamed("fernery")->address == "libvirt:qemu:///system");
}
