// Hosts against real ones: a libvirtd of our own, and QEMU's monitors.
#include <unistd.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "host/console.hpp"
#include "host/host.hpp"
#include "route/checker.hpp"
#include "tests/peers/libvirt.hpp"
#include "tests/peers/own_network.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/peers/watched_host.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;

namespace {

bool answers(int port, const std::string& at = "127.0.0.1") {
  bool out = false;
  runToEnd([&]() -> Task<void> {
    const Address address = parseAddress("vnc://" + at + ":" + std::to_string(port));
    const CheckResult look = co_await checkAddress(address, std::chrono::seconds(3));
    out = look.answers;
  });
  return out;
}

nlohmann::json whyInOwnNetwork(const std::string& before, const std::string& address) {
  TemporaryFolder folder;
  return kw::test::whyInOwnNetwork(folder.path, before, address);
}

std::string weightOf(const nlohmann::json& findings, const std::string& code) {
  for (const auto& f : findings)
    if (f.at("code") == code) return f.at("weight");
  return "none";
}

const char* const kVnc = "<graphics type='vnc' port='-1' autoport='yes' listen='127.0.0.1'/>";

}  // namespace

TEST_CASE("libvirt: the stock equals what virsh lists; starts, stops and kills are seen within two seconds",
          "[hosts]") {
  if (!Libvirtd::available()) return;
  Libvirtd libvirt;
  libvirt.define("mist-bench", kVnc);
  libvirt.define("seed-bank",
                 "<graphics type='vnc' port='-1' autoport='yes' listen='127.0.0.1' passwd='plum42'/>");
  Watching w("libvirt:" + libvirt.uri());
  REQUIRE(w.live());
  std::istringstream names(libvirt.virsh("list --all --name"));
  int listed = 0;
  for (std::string name; std::getline(names, name);) {
    if (name.empty()) continue;
    ++listed;
    REQUIRE(w.machine(name).has_value());
    CHECK(w.machine(name)->id + "\n" == libvirt.virsh("domuuid " + name).substr(0, 37));
  }
  CHECK(listed == static_cast<int>(w.host->view().stock->size()));
  CHECK(w.machine("mist-bench")->state == Running::Off);
  CHECK(w.machine("mist-bench")->consoles.at(0).port == 0);

  // From here …
  CHECK(w.power("mist-bench", PowerAct::Start) == "");
  REQUIRE(w.soon("mist-bench", Running::On));
  CHECK(libvirt.virsh("domstate mist-bench").starts_with("running"));
  const int port = w.machine("mist-bench")->consoles.at(0).port;
  CHECK(libvirt.virsh("domdisplay mist-bench").starts_with("vnc://127.0.0.1:" + std::to_string(port - 5900)));
  CHECK(answers(port));
  CHECK(w.power("mist-bench", PowerAct::Start).find("already") != std::string::npos);
  CHECK(w.power("mist-bench", PowerAct::Pause) == "");
  CHECK(w.soon("mist-bench", Running::Paused));
  CHECK(libvirt.virsh("domstate mist-bench").starts_with("paused"));
  CHECK(w.power("mist-bench", PowerAct::Resume) == "");
  CHECK(w.soon("mist-bench", Running::On));
  CHECK(w.power("mist-bench", PowerAct::Reset) == "");
  CHECK(w.power("mist-bench", PowerAct::Off) == "");
  CHECK(w.soon("mist-bench", Running::Off));
  CHECK(w.machine("mist-bench")->reason == "forced off");
  // … and from outside.
  libvirt.virsh("start seed-bank");
  CHECK(w.soon("seed-bank", Running::On));
  CHECK(w.machine("seed-bank")->consoles.at(0).password);
  libvirt.virsh("destroy seed-bank");
  CHECK(w.soon("seed-bank", Running::Off));
  libvirt.virsh("undefine seed-bank");
  CHECK(eventually([&] { return !w.machine("seed-bank"); }, std::chrono::seconds(2)));
  libvirt.define("drying-room", kVnc);
  CHECK(eventually([&] { return w.machine("drying-room").has_value(); }, std::chrono::seconds(2)));
}

TEST_CASE(
    "libvirt: a console's password counts at once and is gone after a stop; port and serial port come with "
    "the next start",
    "[hosts]") {
  if (!Libvirtd::available()) return;
  Libvirtd libvirt;
  const std::string sealed =
      "<graphics type='vnc' port='-1' autoport='yes' listen='127.0.0.1' passwd='first'/>";
  libvirt.define("mist-bench", sealed);
  Watching w("libvirt:" + libvirt.uri());
  REQUIRE(w.live());
  ConsoleChange password;
  password.password = "plum42";
  CHECK(w.change("mist-bench", password).find("off") != std::string::npos);
  CHECK(w.power("mist-bench", PowerAct::Start) == "");
  REQUIRE(w.soon("mist-bench", Running::On));
  CHECK(w.change("mist-bench", password) == "");
  CHECK(libvirt.virsh("dumpxml --security-info mist-bench").find("passwd='plum42'") != std::string::npos);
  CHECK(libvirt.virsh("dumpxml --inactive --security-info mist-bench").find("passwd='first'") !=
        std::string::npos);

  ConsoleChange place;
  place.port = freeTcpPort();
  place.listen = "127.0.0.5";
  const std::string path = (libvirt.folder() / "second.serial").string();
  place.addSerial = path;
  CHECK(w.change("mist-bench", place) == "");
  CHECK(w.machine("mist-bench")->consoles.at(0).port != *place.port);
  CHECK(w.power("mist-bench", PowerAct::Off) == "");
  REQUIRE(w.soon("mist-bench", Running::Off));
  CHECK(w.power("mist-bench", PowerAct::Start) == "");
  REQUIRE(w.soon("mist-bench", Running::On));
  CHECK(w.machine("mist-bench")->consoles.at(0).port == *place.port);
  CHECK(libvirt.virsh("dumpxml --security-info mist-bench").find("passwd='first'") !=
        std::string::npos);  // forgotten
  libvirt.define("drying-room", kVnc);
  REQUIRE(eventually([&] { return w.machine("drying-room").has_value(); }));
  CHECK(w.power("drying-room", PowerAct::Start) == "");
  REQUIRE(w.soon("drying-room", Running::On));
  CHECK(w.change("drying-room", password).find("started without a password") != std::string::npos);
  CHECK(w.machine("mist-bench")->consoles.at(0).listen == "127.0.0.5");
  CHECK(answers(*place.port, "127.0.0.5"));
  CHECK_FALSE(answers(*place.port));
  const auto ways = offeredWays(*w.machine("mist-bench"), {"fernery", {}});
  CHECK(std::any_of(ways.begin(), ways.end(),
                    [&](const OfferedWay& o) { return o.address == "unix:" + path; }));
  runToEnd([&]() -> Task<void> {
    const StreamPtr line = co_await connectUnix(path);
    line->close();
  });
}

TEST_CASE("libvirt: a host that is restarted is told of, and connected again with its machines running",
          "[hosts]") {
  if (!Libvirtd::available()) return;
  Libvirtd libvirt;
  libvirt.define("mist-bench", kVnc);
  libvirt.virsh("start mist-bench");
  Watching w("libvirt:" + libvirt.uri());
  REQUIRE(w.live());
  std::atomic<bool> lost = false;
  w.host->observe([&] {
    if (w.host->view().stage == HostStage::Waiting) lost = true;
  });
  libvirt.restart();
  CHECK(eventually([&] { return lost.load(); }));
  REQUIRE(w.live());
  CHECK(w.machine("mist-bench")->state == Running::On);
  CHECK(w.host->view().problem == std::nullopt);
}

TEST_CASE("QEMU by QMP: found in a folder, its consoles and lines, power, password, and its end",
          "[hosts][qemu]") {
  if (!have("/usr/bin/qemu-system-x86_64") || !have("/boot/memtest86+x64.bin")) return;
  TemporaryFolder monitors;
  Watching w("qmp:" + monitors.path.string());
  REQUIRE(w.live());
  CHECK(w.host->view().stock->empty());
  const std::string serial =
      (monitors.path.parent_path() / (monitors.path.filename().string() + ".serial")).string();
  {
    Qemu qemu({"-m", "64", "-name", "mist-bench", "-uuid", "5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4", "-kernel",
               "/boot/memtest86+x64.bin", "-serial", "unix:" + serial + ",server=on,wait=off", "-qmp",
               "unix:" + monitors.path.string() + "/mist.qmp,server=on,wait=off"},
              "password=on");
    REQUIRE(w.soon("mist-bench", Running::On, std::chrono::seconds(5)));
    const StockMachine m = *w.machine("mist-bench");
    CHECK(m.id == "5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4");
    CHECK(m.memory == 64);
    CHECK(m.processors == 1);
    REQUIRE_FALSE(m.consoles.empty());
    CHECK(std::any_of(m.serials.begin(), m.serials.end(),
                      [&](const SerialFacts& s) { return s.address == "unix:" + serial; }));
    {
      // A monitor has one visitor at a time; the second is told so.
      Watching second("qmp:" + monitors.path.string() + "/mist.qmp");
      CHECK(eventually([&] { return second.host->view().sentence.find("one visitor") != std::string::npos; },
                       std::chrono::seconds(10)));
      CHECK(second.host->view().cure.find("second monitor") != std::string::npos);
    }
    CHECK(w.power("mist-bench", PowerAct::Pause) == "");
    CHECK(w.soon("mist-bench", Running::Paused));
    CHECK(qemu.qmp("query-status")["status"] == "paused");
    qemu.cont();
    CHECK(w.soon("mist-bench", Running::On));
    CHECK(w.power("mist-bench", PowerAct::Reset) == "");
    CHECK(w.power("mist-bench", PowerAct::Start).find("only while the machine runs") != std::string::npos);
    CHECK(w.power("mist-bench", PowerAct::Restart).find("cannot ask") != std::string::npos);
    ConsoleChange password;
    password.password = "plum42";
    CHECK(w.change("mist-bench", password) == "");
    CHECK(w.power("mist-bench", PowerAct::Off) == "");
    CHECK(eventually([&] { return !w.machine("mist-bench"); }, std::chrono::seconds(2)));
    CHECK(w.host->view().stage == HostStage::Live);
  }
  std::error_code ignored;
  std::filesystem::remove(serial, ignored);
}

TEST_CASE("Why: filtered, unreachable, and each address of a name, in networks of their own",
          "[hosts][why]") {
  // A device that swallows what it is given: nobody answers, nobody refuses.
  const auto filtered = whyInOwnNetwork(
      "ip tuntap add dev away mode tun; ip addr add 192.0.2.1/24 dev away; ip link set away up",
      "vnc://192.0.2.7:5907");
  CHECK(weightOf(filtered, "filtered") == "trouble");
  const auto unreachable = whyInOwnNetwork("", "vnc://192.0.2.7:5907");
  CHECK(weightOf(unreachable, "unreachable") == "trouble");
  // A name with two addresses, of which only one has the service.
  const auto two = whyInOwnNetwork(
      "ip link set lo up\n"
      "printf '127.0.0.3 mist-bench\\n127.0.0.2 mist-bench\\n' > $HOME/hosts\n"
      "mount --bind $HOME/hosts /etc/hosts\n"
      "printf 'RFB 003.008\\n' > $HOME/greeting\n"
      "socat -U TCP-LISTEN:5907,bind=127.0.0.2,fork,reuseaddr OPEN:$HOME/greeting &\n"
      "trap \"kill $!\" EXIT\n"
      "until ss -ltn | grep -q 5907; do :; done",
      "vnc://mist-bench:5907");
  CHECK(weightOf(two, "name") == "good");
  CHECK(weightOf(two, "refused") == "remark");  // the other one
  CHECK(weightOf(two, "connects") == "good");
  CHECK(weightOf(two, "answers") == "good");
}
