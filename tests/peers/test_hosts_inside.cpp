// Why a way in does not open, seen from inside the machine: through its own SSH (OpenSSH), and by the agent
// in a Linux guest that QEMU and a libvirtd run.
#include <nlohmann/json.hpp>

#include "host/why.hpp"
#include "route/text_opening.hpp"
#include "tests/peers/libvirt.hpp"
#include "tests/peers/linux_guest.hpp"
#include "tests/peers/own_network.hpp"
#include "tests/peers/ssh_support.hpp"
#include "tests/peers/watched_host.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;

namespace {

class Yes : public Asker {
 public:
  explicit Yes(bool trusts) : trusts_(trusts) {}
  Task<Answer> ask(Question question) override {
    co_return Answer{trusts_ && question.kind == Question::Kind::Trust, {}, {}, true};
  }
  void doing(const std::string&) override {}

 private:
  bool trusts_;
};

const Finding* found(const std::vector<Finding>& all, const std::string& code) {
  for (const Finding& f : all)
    if (f.code == code) return &f;
  return nullptr;
}

/// A guest whose agent says 192.0.2.15, and that serves port 3389 on its loopback only.
std::optional<LinuxGuest> guestWithAgent(const std::filesystem::path& folder) {
  return makeLinuxGuest(folder, {.programs = {"/usr/sbin/qemu-ga"},
                                 .modules = {"virtio_pci", "virtio_console"},
                                 .beforeSignIn = "busybox mkdir -p /var/run /run\nbusybox ip link set lo up\n"
                                                 "busybox ip addr add 192.0.2.15/32 dev lo\n"
                                                 "busybox httpd -p 127.0.0.1:3389 -h /root\n"
                                                 "qemu-ga -p /dev/vport0p1 -t /tmp -f /tmp/ga.pid &\n"});
}

constexpr auto kBoot = std::chrono::seconds(180);

}  // namespace

TEST_CASE("Why, from inside through the machine's own SSH: on its loopback only; a tunnel into it opens",
          "[hosts][why][ssh]") {
  if (!haveSshServer()) return;
  const int sshPort = freeTcpPort();
  // The machine is 127.0.0.3, where only its SSH listens.
  SshBench ssh("ListenAddress 127.0.0.3:" + std::to_string(sshPort));
  Runtime runtime(2);
  const std::shared_ptr<Listener> listener = listenTcp(runtime.strand(), "127.0.0.1", 0);
  const int screen = listener->port();
  spawn(runtime.strand(), [listener]() -> Task<void> {
    const std::string greeting = "RFB 003.008\n";
    for (std::vector<StreamPtr> visitors;;) {
      visitors.push_back(co_await listener->accept());
      co_await visitors.back()->write(viewOf(greeting));
    }
  });
  TemporaryFolder folder;
  OpeningTools tools;
  std::filesystem::create_directories(folder.path / "kettle-window");
  tools.store = openSqliteStore(folder.path / "kettle-window/records.sqlite");
  tools.ssh = std::make_shared<SshPool>([&runtime] { return runtime.strand(); });
  Id way = 0, command = 0;
  tools.store->commit("records", [&](StoreWriter& w) {
    Machine m;
    m.name = "mist-bench";
    w.put(m);
    Endpoint e;
    e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.3:" + std::to_string(screen);
    w.put(e);
    way = e.id;
    Endpoint s;
    s.machine = m.id, s.label = "shell";
    s.address = "ssh://" + lab::SshServer::user() + "@127.0.0.3:" + std::to_string(sshPort);
    w.put(s);
    command = s.id;
    const Owner own{OwnerKind::WayIn, command};
    w.set(own, "ssh.keys", ssh.server().clientKey().string());
    w.set(own, "ssh.agent", "off");
    w.set(own, "ssh.useconfig", "off");
    w.set(own, "ssh.knownhosts", (folder.path / "known_hosts").string());
  });
  const auto why = [&](std::shared_ptr<Asker> asker) {
    std::vector<Finding> out;
    const auto records = std::make_shared<Snapshot>(tools.store->load());
    runToEnd([&]() -> Task<void> {
      WhyTools with;
      with.store = tools.store;
      if (asker) with.inside = InsideTools{tools, asker};
      out = co_await whyNot(records, way, parseAddress(records->endpoints.at(way).address), with);
    });
    return out;
  };
  const auto untouched = why(nullptr);
  REQUIRE(found(untouched, "refused") != nullptr);
  REQUIRE(found(untouched, "inside-possible") != nullptr);
  CHECK(found(untouched, "inside-possible")->change == "inside");
  CHECK(found(untouched, "inside-loopback") == nullptr);
  // Nobody who answers: its key is not known yet.
  const auto unknown = why(std::make_shared<Yes>(false));
  REQUIRE(found(unknown, "inside-unknown") != nullptr);
  CHECK(found(unknown, "inside-unknown")->weight == Weight::Remark);
  const auto inside = why(std::make_shared<Yes>(true));
  REQUIRE(found(inside, "inside-loopback") != nullptr);
  CHECK(found(inside, "inside-loopback")->sentence.find("127.0.0.1") != std::string::npos);
  const std::string change = found(inside, "inside-loopback")->change;
  CHECK(change == tunnelChange("127.0.0.1", "mist-bench"));
  // A shell says the same, once the key is known; without being told to it does not sign in.
  const auto codes = [](const nlohmann::json& findings) {
    std::string out;
    for (const auto& f : findings) out += f.at("code").get<std::string>() + " ";
    return out;
  };
  CHECK(codes(whyHere(folder.path, "mist-bench")).find("inside-possible") != std::string::npos);
  CHECK(codes(whyHere(folder.path, "--inside mist-bench")).find("inside-loopback") != std::string::npos);
  // The cure, taken: the greeting comes through the tunnel.
  const Endpoint before = tools.store->load().endpoints.at(way);
  tools.store->commit("tunnel", [&](StoreWriter& w) { goThroughTunnel(w, before, change); });
  const Snapshot now = tools.store->load();
  std::string greeting;
  runToEnd([&]() -> Task<void> {
    Yes asker(true);
    RouteFacts facts;
    const auto to =
        wayTo(parseAddress(now.endpoints.at(way).address), settingsOf(now, {OwnerKind::WayIn, way}), tools);
    const StreamPtr stream = co_await to->connect(asker, facts, nullptr);
    Byte bytes[12];
    for (std::size_t have = 0; have < sizeof bytes;)
      have += co_await stream->readSome(ByteSpan(bytes).subspan(have));
    greeting = textOf(ByteView(bytes));
  });
  CHECK(greeting == "RFB 003.008\n");
}

TEST_CASE("Why, from inside by the guest's agent: QEMU's own socket, and libvirt", "[hosts][why][qemu]") {
  if (!have("/usr/bin/qemu-system-x86_64") || !have("/usr/sbin/qemu-ga")) return;
  TemporaryFolder folder;
  const auto guest = guestWithAgent(folder.path);
  if (!guest) return;
  const auto looked = [&](Watching& w, const std::string& host) {
    REQUIRE(w.live());
    REQUIRE(eventually([&] { return w.machine("mist-bench") && w.machine("mist-bench")->agent; }, kBoot));
    REQUIRE(eventually([&] { return !w.machine("mist-bench")->addresses.empty(); }, kBoot));
    CHECK(w.machine("mist-bench")->addresses == std::vector<std::string>{"192.0.2.15"});
    CHECK(w.machine("mist-bench")->addressesFrom == "by its agent");
    TemporaryFolder home;
    std::filesystem::create_directories(home.path / "kettle-window");
    const auto store = openSqliteStore(home.path / "kettle-window/records.sqlite");
    store->commit("records", [&](StoreWriter& writer) {
      HostRecord h;
      h.name = "fernery", h.address = host;
      writer.put(h);
      Machine m;
      m.name = "mist-bench", m.host = "fernery";
      writer.put(m);
      writer.set({OwnerKind::Machine, m.id}, "host.id", w.machine("mist-bench")->id);
      Endpoint e;
      e.machine = m.id, e.label = "desktop", e.address = "rdp://192.0.2.15";
      writer.put(e);
    });
    w.host->end();  // a monitor has one visitor at a time
    const auto findings =
        whyInOwnNetwork(home.path, "ip link set lo up && ip addr add 192.0.2.15/32 dev lo", "mist-bench");
    INFO(findings.dump(2));
    bool told = false;
    for (const auto& f : findings)
      if (f.at("code") == "inside-loopback") {
        told = true;
        CHECK(f.at("weight") == "trouble");
        CHECK(f.at("sentence").get<std::string>().find("its agent says") == 0);
      }
    CHECK(told);
  };
  {
    TemporaryFolder monitors;
    std::vector<std::string> arguments = guest->arguments({});
    for (const std::string word : {"-name", "mist-bench", "-serial", "null", "-device", "virtio-serial-pci",
                                   "-chardev", "socket,id=ga,path=FOLDER/ga,server=on,wait=off", "-device",
                                   "virtserialport,chardev=ga,name=org.qemu.guest_agent.0", "-qmp"})
      arguments.push_back(word);
    arguments.push_back("unix:" + monitors.path.string() + "/mist.qmp,server=on,wait=off");
    Qemu qemu(arguments);
    Watching w("qmp:" + monitors.path.string());
    looked(w, "qmp:" + monitors.path.string());
  }
  if (!Libvirtd::available()) return;
  Libvirtd libvirt;
  libvirt.define("mist-bench", "", &*guest);
  Watching w("libvirt:" + libvirt.uri());
  REQUIRE(w.live());
  CHECK(w.power("mist-bench", PowerAct::Start) == "");
  looked(w, "libvirt:" + libvirt.uri());
}
