// Jump hosts, tunnels, and what happens when one is not what it was.
#include <atomic>
#include <fstream>

#include "route/engine_vnc.hpp"
#include "route/text_opening.hpp"
#include "tests/peers/ssh_support.hpp"
#include "tests/text_support.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

/// Records of two jump hosts, one behind the other.
struct TwoJumps {
  TwoJumps() {
    store = openSqliteStore(folder.path / "records.sqlite");
    tools.store = store;
    tools.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
    store->commit("jumps", [&](StoreWriter& w) {
      for (int i = 0; i < 2; ++i) {
        Machine m;
        m.name = i == 0 ? "gatehouse" : "fernery";
        w.put(m);
        Endpoint e;
        e.machine = m.id;
        e.label = "shell";
        e.address = jump(i).address();
        w.put(e);
        const Owner owner{OwnerKind::Machine, m.id};
        w.set(owner, "ssh.keys", jump(i).server().clientKey().string());
        w.set(owner, "ssh.knownhosts", (folder.path / "known_hosts").string());
        w.set(owner, "ssh.agent", "off");
        if (i == 1) w.set(owner, "route.via", "gatehouse");
      }
    });
  }
  [[nodiscard]] const SshBench& jump(int i) const { return i == 0 ? first : second; }
  TemporaryFolder folder;
  SshBench first, second;
  std::shared_ptr<Store> store;
  Runtime runtime{2};
  OpeningTools tools;
};

SettingReader reading(std::map<std::string, std::string> own) {
  return [own, usual = builtInSettings()](const std::string& key) {
    const auto at = own.find(key);
    return at == own.end() ? usual(key) : at->second;
  };
}

Answer yes(bool remember) {
  Answer a;
  a.accepted = true;
  a.remember = remember;
  return a;
}

}  // namespace

TEST_CASE("two jumps: a shell through them, keys asked for once and then kept", "[ssh]") {
  if (!haveSshServer()) return;
  TwoJumps jumps;
  const Snapshot records = jumps.store->load();
  const Machine* fernery = records.machineNamed("fernery");
  const Endpoint* shell = records.endpointsOf(fernery->id).front();
  const Owner owner{OwnerKind::WayIn, shell->id};
  for (int time = 0; time < 2; ++time) {
    OpeningTools tools = jumps.tools;
    tools.ssh = std::make_shared<SshPool>([&] { return jumps.runtime.strand(); });
    TextWatch watch(makeSession(jumps.runtime.strand(), parseAddress(shell->address), "fernery",
                                settingsOf(records, owner), tools, owner),
                    yes(true));
    REQUIRE(watch.live(std::chrono::seconds(20)));
    CHECK(watch.questions().size() == (time == 0 ? 2U : 0U));
    watch.console().resizeText(31, 97);
    watch.send("stty size; echo valve-$((20+3))\r");
    CHECK(watch.shows("valve-23"));
    CHECK(watch.shows("31 97"));
    REQUIRE(watch.route().hops.size() == 1);
    CHECK(watch.route().hops[0].reached);
    CHECK(watch.route().sealed);
  }
  // What was trusted is in the known_hosts file as well.
  std::ifstream known(jumps.folder.path / "known_hosts");
  const std::string text((std::istreambuf_iterator<char>(known)), {});
  for (const int i : {0, 1})
    CHECK(text.find("[127.0.0.1]:" + std::to_string(jumps.jump(i).port())) != std::string::npos);
}

TEST_CASE("ways in that are opened at the same moment share one connection and ask once", "[ssh]") {
  if (!haveSshServer()) return;
  TwoJumps jumps;
  const Snapshot records = jumps.store->load();
  const Endpoint* shell = records.endpointsOf(records.machineNamed("fernery")->id).front();
  const Owner owner{OwnerKind::WayIn, shell->id};
  const auto open = [&](bool trusts) {
    Answer answer = yes(false);
    answer.accepted = trusts;
    return std::make_unique<TextWatch>(makeSession(jumps.runtime.strand(), parseAddress(shell->address),
                                                   "fernery", settingsOf(records, owner), jumps.tools, owner),
                                       answer);
  };
  std::vector<std::unique_ptr<TextWatch>> watches;
  SECTION("all of them go on with what one was told") {
    for (int i = 0; i < 4; ++i) watches.push_back(open(true));
    std::size_t questions = 0;
    for (auto& watch : watches) {
      REQUIRE(watch->live(std::chrono::seconds(20)));
      questions += watch->questions().size();
    }
    CHECK(questions == 2);  // one for each host
    for (auto& watch : watches) {
      watch->send("echo valve-$((20+3))\r");
      CHECK(watch->shows("valve-23"));
    }
  }
  SECTION("when one is refused, the next one asks for itself") {
    watches.push_back(open(false));
    watches.push_back(open(true));
    CHECK(watches[1]->live(std::chrono::seconds(20)));
    // Either of them may come first: who was asked refused, who was not goes on with what the other was told.
    const bool live = watches[0]->live(std::chrono::seconds(20));
    CHECK(live == watches[0]->questions().empty());
    CHECK(watches[0]->questions().size() <= 1);
  }
}

TEST_CASE("a changed host key stops everything and shows both", "[ssh]") {
  if (!haveSshServer()) return;
  TwoJumps jumps;
  jumps.store->pin("ssh 127.0.0.1:" + std::to_string(jumps.first.port()), "SHA256:another");
  const Address address = parseAddress(jumps.first.address());
  TextWatch watch(makeSession(jumps.runtime.strand(), address, "gatehouse",
                              reading({{"ssh.keys", jumps.first.server().clientKey().string()},
                                       {"ssh.agent", "off"},
                                       {"ssh.knownhosts", (jumps.folder.path / "known").string()}}),
                              jumps.tools, {}));
  CHECK_FALSE(watch.live(std::chrono::seconds(20)));
  CHECK(watch.status().problem == ErrorKind::NotTrusted);
  REQUIRE(watch.questions().size() == 1);
  CHECK(watch.questions()[0].pinned == "SHA256:another");
  CHECK(watch.questions()[0].certificate.sha256 == jumps.first.server().hostKeySha256());
}

TEST_CASE("VNC to QEMU through two jumps shows what QEMU shows", "[ssh]") {
  if (!haveSshServer() || !have("/usr/bin/qemu-system-x86_64")) return;
  TwoJumps jumps;
  Qemu qemu({"-m", "64"}, "", true);
  REQUIRE(eventually([&] { return qemu.screendump().size().width >= 640; }, std::chrono::seconds(30)));
  qemu.stop();
  Address address = parseAddress(qemu.address());
  const auto trusts = std::make_shared<int>(0);
  VncConfig config = vncConfig(address, "mist-bench", reading({{"screen.quality", "lossless"}}));
  config.way = wayTo(address, reading({{"route.via", "fernery"}}), jumps.tools);
  Viewer viewer(config);
  viewer.answer = yes(true);
  REQUIRE(viewer.live());
  CHECK(viewer.shows(qemu.screendump()));
  CHECK(viewer.route().hops.size() == 2);
}

TEST_CASE("a tunnel to a port where nobody listens says so; a lost jump is seen", "[ssh]") {
  if (!haveSshServer()) return;
  TwoJumps jumps;
  const Address nowhere = parseAddress("tcp://127.0.0.1:" + std::to_string(freeTcpPort()));
  const SettingReader setting = reading({{"route.via", "gatehouse"}, {"reconnect.again", "off"}});
  TextWatch watch(makeSession(jumps.runtime.strand(), nowhere, "mist-bench", setting, jumps.tools, {}),
                  yes(true));
  CHECK_FALSE(watch.live());
  CHECK(watch.status().problem == ErrorKind::Refused);
  CHECK(watch.status().sentence.find("cannot reach it") != std::string::npos);

  const Address shell = parseAddress(jumps.first.address());
  TextWatch second(makeSession(jumps.runtime.strand(), shell, "gatehouse",
                               reading({{"ssh.keys", jumps.first.server().clientKey().string()},
                                        {"ssh.agent", "off"},
                                        {"reconnect.again", "off"},
                                        {"ssh.knownhosts", (jumps.folder.path / "k").string()}}),
                               jumps.tools, {}),
                   yes(false));
  REQUIRE(second.live());
  // The server's process for this session dies without a word; the shell's parent is it.
  second.send("kill -9 $PPID\r");
  CHECK(eventually([&] { return second.status().stage == SessionStage::Ended; }, std::chrono::seconds(20)));
  CHECK(second.status().problem == ErrorKind::ClosedByPeer);
}

TEST_CASE("a read over a tunnel may be given up at any moment", "[ssh]") {
  if (!haveSshServer()) return;
  TwoJumps jumps;
  Runtime quiet(1);
  auto listener = listenTcp(quiet.strand(), "127.0.0.1", 0);  // takes visitors and says nothing
  const Executor strand = jumps.runtime.strand();
  int givenUp = 0;
  runToEnd([&]() -> Task<void> {
    auto connection = co_await jumps.first.connect(strand);
    for (int i = 0; i < 60; ++i) {
      StreamPtr tunnel = co_await connection->forward("127.0.0.1", listener->port());
      const auto read = [](ByteStream& s) -> Task<void> {
        Bytes in(100);
        co_await s.readSome(in);
      };
      auto reading = read(*tunnel);
      auto pause = systemClock()->sleep(std::chrono::microseconds(i * 50));
      co_await firstOf(std::move(reading), std::move(pause));
      ++givenUp;
    }
  });
  CHECK(givenUp == 60);
}

namespace {

Byte patternAt(std::size_t position) { return static_cast<Byte>((position >> 11) * 31 + position); }

/// Sends `size` bytes of the pattern to one visitor, in pieces: a long one, then short ones that each wait to
/// be asked for.
Task<void> sendPattern(Listener& listener, std::size_t size, std::size_t inOne, std::size_t onRequest) {
  StreamPtr visitor = co_await listener.accept();
  Bytes piece, request(1);
  for (std::size_t at = 0; at < size; at += piece.size()) {
    piece.resize(std::min(at < inOne ? std::size_t{48'000} : onRequest, size - at));
    for (std::size_t i = 0; i < piece.size(); ++i) piece[i] = patternAt(at + i);
    if (at >= inOne) co_await visitor->readSome(request);
    co_await visitor->write(piece);
  }
  co_await visitor->readSome(request);  // until it is closed
}

}  // namespace

TEST_CASE("what comes while reads are given up is not lost and stays in order", "[ssh]") {
  if (!haveSshServer()) return;
  SshBench bench;
  Runtime runtime(2), source(1);
  auto listener = listenTcp(source.strand(), "127.0.0.1", 0);
  constexpr std::size_t kInOne = 48'000 * 1000, kOnRequest = 5000, kSize = kInOne + 1500 * kOnRequest;
  spawn(source.strand(), [&]() -> Task<void> { return sendPattern(*listener, kSize, kInOne, kOnRequest); });
  std::size_t at = 0, wrong = 0, givenUp = 0;
  runToEnd([&]() -> Task<void> {
    auto connection = co_await bench.connect(runtime.strand());
    StreamPtr tunnel = co_await connection->forward("127.0.0.1", listener->port());
    Bytes in(64 * 1024);
    const Bytes request(1);
    std::size_t asked = kInOne;
    for (int round = 0; at < kSize; ++round) {
      if (at == asked) {
        co_await tunnel->write(request);
        asked += kOnRequest;
      }
      std::size_t got = 0;
      const auto read = [&]() -> Task<void> { got = co_await tunnel->readSome(in); };
      auto reading = read();
      auto pause = systemClock()->sleep(std::chrono::microseconds(round % 200));
      co_await firstOf(std::move(reading), std::move(pause));
      givenUp += got == 0 ? 1U : 0U;
      for (std::size_t i = 0; i < got; ++i) wrong += in[i] != patternAt(at + i) ? 1U : 0U;
      at += got;
    }
    tunnel->close();
  });
  CHECK(at == kSize);
  CHECK(wrong == 0);
  CHECK(givenUp > 20);  // an answer to a request takes longer than no time at all
}

TEST_CASE("a command that says little and ends at once is heard to its end", "[ssh]") {
  if (!haveSshServer()) return;
  SshBench bench;
  Runtime runtime(2);
  std::size_t right = 0;
  constexpr int kCommands = 60;
  runToEnd([&]() -> Task<void> {
    auto connection = co_await bench.connect(runtime.strand());
    for (int i = 0; i < kCommands; ++i) {
      StreamPtr command = co_await connection->exec("echo seed; echo bank >&2");
      // A slow reader finds everything there, and the end; a fast one waits for each piece.
      if (i % 3 == 0) co_await systemClock()->sleep(std::chrono::milliseconds(i));
      Bytes in(i % 2 == 0 ? 3 : 1000);
      std::string said;
      try {
        for (;;) said += textOf(ByteView(in).first(co_await command->readSome(in)));
      } catch (const Error& e) {
        right += e.kind() == ErrorKind::ClosedByPeer && said.size() == 10 ? 1U : 0U;
      }
    }
  });
  CHECK(right == kCommands);
}

namespace {

/// What never ends until it is closed, and how much of it was read.
struct Pouring {
  explicit Pouring(StreamPtr from) : stream(std::move(from)) {}
  std::unique_ptr<ByteStream> stream;
  std::atomic<std::size_t> read = 0;
  static Task<void> swallow(std::shared_ptr<Pouring> self) {
    Bytes in(64 * 1024);
    for (;;) self->read += co_await self->stream->readSome(in);
  }
};

/// How long a byte takes to the other side and back, in milliseconds, the shortest first.
Task<std::vector<double>> roundTrips(ByteStream& echo, int times) {
  std::vector<double> out;
  const Bytes byte(1, 'k');
  Bytes back(1);
  for (int i = 0; i < times; ++i) {
    const auto start = std::chrono::steady_clock::now();
    co_await echo.write(byte);
    co_await echo.readSome(back);
    const std::chrono::duration<double, std::milli> took = std::chrono::steady_clock::now() - start;
    out.push_back(took.count());
  }
  std::sort(out.begin(), out.end());
  co_return out;
}

}  // namespace

TEST_CASE("while other channels pour, a quiet one is answered soon", "[ssh]") {
  if (!haveSshServer()) return;
  SshBench bench;
  Runtime runtime(2);
  // One of them on the quiet one's own connection.
  const std::size_t pourers = GENERATE(1U, 2U);
  std::vector<double> took;
  std::vector<std::size_t> meanwhile;
  runToEnd([&]() -> Task<void> {
    std::vector<std::shared_ptr<SshConnection>> connections;
    std::vector<std::shared_ptr<Pouring>> pouring;
    for (std::size_t i = 0; i < pourers; ++i) {
      connections.push_back(co_await bench.connect(runtime.strand()));
      pouring.push_back(std::make_shared<Pouring>(co_await connections.back()->exec("cat /dev/zero")));
      spawn(runtime.strand(), [p = pouring.back()] { return Pouring::swallow(p); });
    }
    StreamPtr echo = co_await connections.front()->exec("cat");
    co_await roundTrips(*echo, 1);  // the command starts
    for (const auto& p : pouring)
      while (p->read < 1'000'000) co_await systemClock()->sleep(std::chrono::milliseconds(1));
    for (const auto& p : pouring) meanwhile.push_back(p->read);
    took = co_await roundTrips(*echo, 1000);
    for (std::size_t i = 0; i < pourers; ++i) meanwhile[i] = pouring[i]->read - meanwhile[i];
    for (const auto& p : pouring) p->stream->close();
  });
  REQUIRE(took.size() == 1000);
  CAPTURE(took.front(), took[500], took[900], took[990], took.back());
  CHECK(took[500] < 50);  // what is under way comes first: about a megabyte
  CHECK(took[900] < 250);
  for (const std::size_t n : meanwhile) CHECK(n > 1'000'000);
}
