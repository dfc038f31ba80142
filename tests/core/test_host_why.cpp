// Why a way in does not open, from what the peer itself shows: each finding with a peer broken on purpose.
#include <nlohmann/json.hpp>

#include <fstream>

#include "host/why.hpp"
#include "lab/scenario.hpp"
#include "rfb/server.hpp"
#include "route/shown.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;

namespace {

/// A screen on a free port of loopback.
class TestScreen : public rfb::ServerEvents {
 public:
  explicit TestScreen(rfb::ServerOptions options, Pixel colour = rgb(20, 90, 60))
      : options_(std::move(options)), listener_(listenTcp(runtime_.strand(), "127.0.0.1", 0)) {
    picture_->fill(picture_->rect(), colour);
    spawn(runtime_.strand(), [this]() -> Task<void> {
      for (;;) {
        StreamPtr visitor = co_await listener_->accept();
        const Executor here = co_await asio::this_coro::executor;
        auto server = std::make_shared<rfb::Server>(here, picture_, std::vector<Screen>{}, options_, *this);
        servers_.push_back(server);
        spawn(here, [server, held = std::make_shared<StreamPtr>(std::move(visitor))]() -> Task<void> {
          co_await server->run(std::move(*held));
        });
      }
    });
  }
  ~TestScreen() { runtime_.stop(); }
  [[nodiscard]] std::string address() const { return "vnc://127.0.0.1:" + std::to_string(listener_->port()); }
  [[nodiscard]] int notShared() const { return notShared_; }

 private:
  void signedIn(bool shared) override { notShared_ += shared ? 0 : 1; }
  rfb::ServerOptions options_;
  std::atomic<int> notShared_ = 0;
  Runtime runtime_{1};
  std::shared_ptr<Listener> listener_;
  std::shared_ptr<Framebuffer> picture_ = std::make_shared<Framebuffer>(Size{320, 200});
  std::vector<std::shared_ptr<rfb::Server>> servers_;
};

/// A roster with mist-bench, whose screen is at an address, and seed-bank.
struct Roster {
  explicit Roster(const std::string& address) {
    store->commit("records", [&](StoreWriter& w) {
      for (const char* name : {"mist-bench", "seed-bank"}) {
        Machine m;
        m.name = name, m.host = "fernery";
        w.put(m);
        if (machine == 0) machine = m.id;
      }
      w.set({OwnerKind::Machine, machine}, "host.id", "m");
      Endpoint e;
      e.machine = machine, e.label = "screen", e.address = address;
      w.put(e);
      way = e.id;
    });
  }
  std::vector<Finding> why(const std::shared_ptr<Host>& host = nullptr) const {
    std::vector<Finding> out;
    const auto records = std::make_shared<Snapshot>(store->load());
    runToEnd([&]() -> Task<void> {
      WhyTools tools;
      tools.store = store;
      tools.host = host;
      out = co_await whyNot(records, way, parseAddress(records->endpoints.at(way).address), tools);
    });
    return out;
  }
  void set(const std::string& key, const std::string& value) const {
    store->commit("set", [&](StoreWriter& w) { w.set({OwnerKind::WayIn, way}, key, value); });
  }
  TemporaryFolder folder;
  std::shared_ptr<Store> store = openSqliteStore(folder.path / "records.sqlite");
  Id machine = 0, way = 0;
};

const Finding* found(const std::vector<Finding>& all, const std::string& code) {
  for (const Finding& f : all)
    if (f.code == code) return &f;
  return nullptr;
}

rfb::ServerOptions certified(const MadeCertificate& certificate) {
  rfb::ServerOptions options;
  options.name = "QEMU (mist-bench)";
  options.certificate = certificate;
  options.password = "plum42";
  return options;
}

}  // namespace

TEST_CASE("Why: a certificate that is new, trusted, and another one than before", "[host][why]") {
  const MadeCertificate certificate = makeSelfSigned("fernery");
  TestScreen screen(certified(certificate));
  const Roster roster(screen.address());
  const auto first = roster.why();
  REQUIRE(found(first, "certificate-new") != nullptr);
  CHECK_FALSE(anyTrouble(first));
  CHECK(roster.store->pins().empty());  // a look trusts nothing
  roster.store->pin(
      parseAddress(screen.address()).host + ":" + std::to_string(parseAddress(screen.address()).port),
      sha256OfPem(certificate.certificatePem));
  CHECK(found(roster.why(), "certificate") != nullptr);
  const std::string other = sha256OfPem(makeSelfSigned("fernery").certificatePem);
  roster.store->pin(roster.store->pins().at(0).peer, other);
  const auto changed = roster.why();
  REQUIRE(found(changed, "certificate-changed") != nullptr);
  CHECK(found(changed, "certificate-changed")->sentence.find(sha256OfPem(certificate.certificatePem)) !=
        std::string::npos);
  CHECK_FALSE(found(changed, "certificate-changed")->cure.empty());
  CHECK(anyTrouble(changed));
  CHECK(roster.store->pins().at(0).sha256 == other);
}

TEST_CASE("Why: a certificate from the future means a wrong clock, an old one is told", "[host][why]") {
  TestScreen future(certified(makeSelfSigned("fernery", 365, 86400)));
  const auto clock = Roster(future.address()).why();
  REQUIRE(found(clock, "clock") != nullptr);
  CHECK(found(clock, "clock")->cure.find("time server") != std::string::npos);
  TestScreen past(certified(makeSelfSigned("fernery", -1, -86400L * 30)));
  const auto expired = Roster(past.address()).why();
  REQUIRE(found(expired, "certificate-expired") != nullptr);
  CHECK_FALSE(anyTrouble(expired));
}

TEST_CASE("Why: the port belongs to another machine, by its name or its certificate", "[host][why]") {
  rfb::ServerOptions options;
  options.name = "QEMU (seed-bank)";
  TestScreen named(options);
  const auto byName = Roster(named.address()).why();
  REQUIRE(found(byName, "other-machine") != nullptr);
  CHECK(found(byName, "other-machine")->sentence.find("\"seed-bank\" is another machine") !=
        std::string::npos);
  CHECK(found(byName, "other-machine")->change == "stock");
  TestScreen sealed(certified(makeSelfSigned("seed-bank")));
  CHECK(found(Roster(sealed.address()).why(), "other-machine") != nullptr);
  options.name = "mist-bench beside seed-bank";
  TestScreen itself(options);
  CHECK(found(Roster(itself.address()).why(), "other-machine") == nullptr);
}

TEST_CASE("Why: a console that forgot its password, and a black picture; nobody is turned out by the look",
          "[host][why]") {
  rfb::ServerOptions options;
  options.name = "QEMU (mist-bench)";
  TestScreen screen(options);
  const Roster roster(screen.address());
  const auto fine = roster.why();
  CHECK(found(fine, "picture") != nullptr);
  CHECK_FALSE(anyTrouble(fine));
  roster.set("host.setagain", "on");
  roster.set("screen.shared", "off");
  const auto forgotten = roster.why();
  REQUIRE(found(forgotten, "password-forgotten") != nullptr);
  CHECK(found(forgotten, "password-forgotten")->change == "again");
  CHECK(anyTrouble(forgotten));
  CHECK(screen.notShared() == 0);
  TestScreen black(options, rgb(3, 3, 3));
  const auto dark = Roster(black.address()).why();
  REQUIRE(found(dark, "black") != nullptr);
  CHECK_FALSE(found(dark, "black")->cure.empty());
}

TEST_CASE("Why: a service that has one visitor at a time is not opened to look", "[host][why]") {
  Runtime runtime(1);
  std::uint16_t port = 0;
  runToEnd(
      [&]() -> Task<void> { port = listenTcp(co_await asio::this_coro::executor, "127.0.0.1", 0)->port(); });
  lab::ConsolePlan plan;
  plan.vnc = false;
  plan.guest.name = "mist-bench";
  lab::DoorPlan door{"127.0.0.1", port, lab::spiceDoor({"mist-bench", "", false, true, 1}), {}, "spice"};
  plan.doors.push_back(door);
  lab::Console console(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), plan);
  console.start(true);
  const std::string address = "spice://127.0.0.1:" + std::to_string(port);
  const auto all = Roster(address).why();
  CHECK(found(all, "answers") != nullptr);
  CHECK_FALSE(anyTrouble(all));
  Shown shown;
  runToEnd([&]() -> Task<void> {
    const OpeningTools nothing;
    shown = co_await shownBy(parseAddress(address), builtInSettings(), nothing, std::chrono::seconds(2));
  });
  CHECK_FALSE(shown.letIn);
  CHECK_FALSE(shown.asksSignIn);
  console.stop();
  runtime.stop();
}

TEST_CASE("Why: the host says that the port is another machine's console", "[host][why]") {
  rfb::ServerOptions options;
  options.name = "desk";
  TestScreen screen(options);
  const Roster roster(screen.address());
  const nlohmann::json machines = {
      {{"id", "m"}, {"name", "mist-bench"}, {"state", "running"}},
      {{"id", "s"},
       {"name", "seed-bank"},
       {"state", "running"},
       {"consoles",
        {{{"kind", "vnc"}, {"listen", "127.0.0.1"}, {"port", parseAddress(screen.address()).port}}}}}};
  std::ofstream(roster.folder.path / "told.json") << nlohmann::json{{"machines", machines}}.dump() << "\n";
  HostRecord record;
  record.name = "fernery";
  record.address =
      "command:/bin/sh -c \"cat " + (roster.folder.path / "told.json").string() + "; exec sleep 600\"";
  Runtime runtime(1);
  const auto host = std::make_shared<Host>(record, AdapterTools{runtime.strand(), systemClock(), {}, {}});
  host->start();
  const auto all = roster.why(host);
  REQUIRE(found(all, "other-machine") != nullptr);
  CHECK(found(all, "other-machine")->sentence.find("the console of \"seed-bank\"") != std::string::npos);
  host->end();
}

TEST_CASE("Of a picture that is open: black, unchanged for long, an old size", "[why]") {
  OpenPicture open;
  open.size = {1280, 800}, open.wanted = {1600, 900};
  const auto codes = [&] {
    std::vector<Finding> found;
    lookAtOpenPicture(open, found);
    std::string out;
    for (const Finding& f : found) {
      CHECK_FALSE(f.cure.empty());
      out += f.code + (f.change.empty() ? "" : ">" + f.change) + " ";
    }
    return out;
  };
  CHECK(codes().empty());  // its record does not want the pane's size
  open.follows = true;
  CHECK(codes() == "old-size>size ");
  open.resizeWhy = "no display control";
  CHECK(codes() == "old-size ");
  open.size = {1592, 896};  // what machines make of such a wish
  CHECK(codes().empty());
  open.unchanged = std::chrono::minutes(4);
  CHECK(codes().empty());
  open.unchanged = std::chrono::minutes(5);
  CHECK(codes() == "unchanged ");
  open.black = true;
  CHECK(codes() == "black ");
}
