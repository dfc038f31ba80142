// From records and addresses to what is opened: routes over jumps, line settings, imported SSH hosts, checks.
#include <fstream>

#include "route/checker.hpp"
#include "route/ssh_import.hpp"
#include "route/text_opening.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// The built-in values, but these.
SettingReader with(std::map<std::string, std::string> own) {
  return [own, usual = builtInSettings()](const std::string& key) {
    const auto at = own.find(key);
    return at == own.end() ? usual(key) : at->second;
  };
}

/// Records of machines with one way in each.
class Garden {
 public:
  Garden() {
    tools.store = openSqliteStore(folder_.path / "records.sqlite");
    tools.ssh = std::make_shared<SshPool>([this] { return runtime_.strand(); });
  }
  Id add(const std::string& name, const std::string& address, const std::string& via = "") {
    Id id = 0;
    tools.store->commit("add " + name, [&](StoreWriter& w) {
      Machine m;
      m.name = name;
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "way", e.address = address;
      w.put(e);
      if (!via.empty()) w.set({OwnerKind::Machine, m.id}, "route.via", via);
      id = m.id;
    });
    return id;
  }
  /// "duty@gatehouse, duty@fernery:2200"; or what is wrong.
  std::string route(const std::string& address, const std::string& via) const {
    try {
      std::string out;
      for (const SshHop& hop : hopsTo(parseAddress(address), with({{"route.via", via}}), tools))
        out += (out.empty() ? "" : ", ") + hop.name;
      return out;
    } catch (const Error& e) {
      return "! " + std::string(e.what());
    }
  }
  OpeningTools tools;

 private:
  TemporaryFolder folder_;
  Runtime runtime_{1};
};

bool has(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

}  // namespace

TEST_CASE("a route goes over machines of the records, each with the route that it has itself", "[route]") {
  Garden garden;
  garden.add("gatehouse", "ssh://duty@192.0.2.1");
  garden.add("fernery", "ssh://duty@192.0.2.11:2200", "gatehouse");
  garden.add("orchard", "ssh://duty@192.0.2.12", "ssh://night@192.0.2.9, fernery");
  const std::string screen = "vnc://192.0.2.20:5901";
  CHECK(garden.route(screen, "").empty());
  CHECK(garden.route(screen, "gatehouse") == "duty@192.0.2.1");
  CHECK(garden.route(screen, "fernery") == "duty@192.0.2.1, duty@192.0.2.11:2200");
  CHECK(garden.route(screen, "orchard") ==
        "night@192.0.2.9, duty@192.0.2.1, duty@192.0.2.11:2200, duty@192.0.2.12");
  CHECK(garden.route(screen, " gatehouse ,, ssh://seed-desk@192.0.2.7:22 ") ==
        "duty@192.0.2.1, seed-desk@192.0.2.7");
  CHECK(garden.route("vnc://192.0.2.20:5901?via=gatehouse", "fernery") == "duty@192.0.2.1");
  CHECK(garden.route(screen, "none").empty());
}

TEST_CASE("a route that cannot be is refused with what is wrong with it", "[route]") {
  Garden garden;
  garden.add("gatehouse", "ssh://duty@192.0.2.1", "fernery");
  garden.add("fernery", "ssh://duty@192.0.2.11", "gatehouse");
  garden.add("mist-bench", "vnc://192.0.2.21:5901");
  const std::string screen = "vnc://192.0.2.20:5901";
  CHECK(has(garden.route(screen, "gatehouse"), "goes in a circle"));
  CHECK(has(garden.route(screen, "seed-bank"), "seed-bank"));
  CHECK(has(garden.route(screen, "seed-bank"), "not in the records"));
  CHECK(has(garden.route(screen, "mist-bench"), "without a way in by SSH"));
  CHECK(has(garden.route(screen, "telnet://192.0.2.1"), "a jump is an ssh:// address"));
}

TEST_CASE("a password given for the target is not shown to the jumps", "[route]") {
  Garden garden;
  garden.add("gatehouse", "ssh://duty@192.0.2.1");
  garden.tools.givenPassword = "alder-vale-7";
  const SettingReader setting = with({{"route.via", "gatehouse, ssh://duty@192.0.2.2"}});
  const Address target = parseAddress("ssh://duty@192.0.2.30");
  for (const SshHop& hop : hopsTo(target, setting, garden.tools)) CHECK_FALSE(hop.options.password);
  CHECK(sshHop(target, setting, garden.tools, {}).options.password == "alder-vale-7");
}

TEST_CASE("a hop takes user, keys and limits from address and settings", "[route]") {
  const Garden garden;
  const SettingReader setting = with({{"ssh.keys", "/keys/one, /keys/two"},
                                      {"ssh.certificate", "/keys/one-cert.pub"},
                                      {"ssh.agent", "off"},
                                      {"ssh.alive", "7"},
                                      {"connect.limit", "4"}});
  const SshHop hop = sshHop(parseAddress("ssh://duty@192.0.2.30:2022"), setting, garden.tools, {});
  CHECK(hop.name == "duty@192.0.2.30:2022");
  CHECK(hop.options.keyFiles == std::vector<std::string>{"/keys/one", "/keys/two"});
  CHECK(hop.options.certificateFile == "/keys/one-cert.pub");
  CHECK_FALSE(hop.options.useAgent);
  CHECK(hop.options.keepAlive == std::chrono::seconds(7));
  CHECK(hop.options.limit == std::chrono::seconds(4));
  CHECK_FALSE(hop.remember);  // nobody's record
  const SshHop other = sshHop(parseAddress("ssh://192.0.2.30?key=/keys/three"), setting, garden.tools, {});
  CHECK(other.options.keyFiles == std::vector<std::string>{"/keys/three"});
  CHECK_FALSE(other.options.user.empty());  // one's own
}

TEST_CASE("a socket of this machine is not looked for behind a jump", "[route]") {
  Garden garden;
  garden.add("gatehouse", "ssh://duty@192.0.2.1");
  struct : Asker {
    Task<Answer> ask(Question) override { co_return Answer{}; }
    void doing(const std::string&) override {}
  } asker;
  RouteFacts facts;
  std::optional<ErrorKind> kind;
  const Address address = parseAddress("vnc+unix:/run/mist-bench");
  const auto hops = hopsTo(address, with({{"route.via", "gatehouse"}}), garden.tools);
  runToEnd([&]() -> Task<void> {
    try {
      co_await connectThrough(hops, address, std::chrono::seconds(1), garden.tools, asker, facts, nullptr);
    } catch (const Error& e) {
      kind = e.kind();
    }
  });
  CHECK(kind == ErrorKind::Unsupported);
}

TEST_CASE("line settings: the address goes before the record; what is wrong is named", "[route][line]") {
  const SettingReader setting =
      with({{"line.speed", "19200"}, {"line.frame", "7E1"}, {"line.flow", "xonxoff"}});
  const auto people = [&](const std::string& address) {
    try {
      return lineSettings(parseAddress(address), setting).forPeople();
    } catch (const Error& e) {
      return "! " + std::string(e.what());
    }
  };
  CHECK(people("serial:/dev/ttyS0") == "19200 7E1 XON/XOFF");
  CHECK(people("serial:/dev/ttyS0?speed=115200") == "115200 7E1 XON/XOFF");
  CHECK(people("telnet+serial://192.0.2.21:2101?frame=8N1&flow=none") == "19200 8N1");
  CHECK(people("serial:/dev/ttyS0?frame=5N1.5&flow=rtscts&speed=50") == "50 5N1.5 RTS/CTS");
  for (const std::string wrong : {"speed=fast", "speed=0", "speed=", "speed=999999999", "frame=9N1",
                                  "frame=8X1", "frame=8N3", "flow=maybe"}) {
    INFO(wrong);
    CHECK(has(people("serial:/dev/ttyS0?" + wrong), "! "));
  }
}

TEST_CASE("lists of a setting are parted by commas, blanks around them do not count", "[route]") {
  CHECK(splitList("").empty());
  CHECK(splitList(" , ,").empty());
  CHECK(splitList("one") == std::vector<std::string>{"one"});
  CHECK(splitList(" one two ,\tthree") == std::vector<std::string>{"one two", "three"});
}

TEST_CASE("hosts of an SSH configuration become machines; jumps among them are named as machines",
          "[route]") {
  Garden garden;
  garden.add("orchard", "ssh://duty@192.0.2.12");
  const SshConfig config = SshConfig::parse(
      "Host gatehouse\n  HostName 192.0.2.1\n  User duty\n"
      "Host fernery orchard\n  ProxyJump gatehouse,night@192.0.2.9:2022\n  IdentityFile /keys/a\n"
      "  IdentityFile /keys/b\n  CertificateFile /keys/a-cert.pub\n"
      "Host *.alder-vale.example\n  User anybody\n",
      "/nowhere");
  const std::vector<SshImport> imports = sshImportsOf(config, garden.tools.store->load());
  REQUIRE(imports.size() == 3);
  CHECK(imports[0].name == "gatehouse");
  CHECK(imports[0].via.empty());
  CHECK(imports[1].name == "fernery");
  CHECK(imports[1].via == "gatehouse, ssh://night@192.0.2.9:2022");
  CHECK(imports[1].keys == "/keys/a, /keys/b");
  CHECK_FALSE(imports[1].there);
  CHECK(imports[2].there);
  int written = 0;
  garden.tools.store->commit("import", [&](StoreWriter& w) { written = writeSshImports(w, 0, imports); });
  CHECK(written == 2);
  const Snapshot records = garden.tools.store->load();
  CHECK(records.machines.size() == 3);
  const Machine* fernery = records.machineNamed("fernery");
  REQUIRE(fernery != nullptr);
  const Owner owner{OwnerKind::Machine, fernery->id};
  CHECK(records.resolve(owner, "ssh.certificate").value == "/keys/a-cert.pub");
  // They can be used at once.
  CHECK(
      garden.route("vnc://192.0.2.20:5901", "fernery").starts_with("duty@192.0.2.1, night@192.0.2.9:2022, "));
  garden.tools.store->undo();
  CHECK(garden.tools.store->load().machines.size() == 1);
}

TEST_CASE("checks of lines look, but do not touch what only one can use", "[route]") {
  const auto check = [](const std::string& address) {
    CheckResult result;
    const Address parsed = parseAddress(address);
    runToEnd([&]() -> Task<void> { result = co_await checkAddress(parsed, std::chrono::seconds(2)); });
    return result;
  };
  Runtime runtime(1);
  auto listener = listenTcp(runtime.strand(), "127.0.0.1", 0);
  int visitors = 0;
  spawn(runtime.strand(), [&]() -> Task<void> {
    for (;;) {
      StreamPtr visitor = co_await listener->accept();
      ++visitors;
      co_await visitor->write(viewOf("SSH-2.0-made-up\r\n"));
    }
  });
  const std::string here = "127.0.0.1:" + std::to_string(listener->port());
  for (const std::string scheme : {"tcp://", "telnet+serial://", "tls://"}) {
    const CheckResult r = check(scheme + here);
    CHECK(r.untried);
    CHECK_FALSE(r.answers);
    CHECK_FALSE(r.problem);
  }
  CHECK(visitors == 0);
  CHECK(check("ssh://duty@" + here).answers);
  const CheckResult wrong = check("vnc://" + here);
  CHECK(wrong.listens);
  CHECK(has(wrong.sentence, "no VNC console"));
  const CheckResult device = check("serial:/dev/null");
  CHECK(device.answers);
  CHECK(has(device.sentence, "device is there"));
  CHECK(check("serial:/dev/no-such-line").problem == ErrorKind::Unreachable);
  CHECK(has(check("unix:/dev/null").sentence, "write serial: before it"));
  runtime.stop();
}
