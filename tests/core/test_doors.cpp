// Machines of the lab opened over RDP and SPICE as a person would: by address, over real sockets on loopback.
#include "lab/console_port.hpp"
#include "lab/scenario.hpp"
#include "route/opening.hpp"
#include "session/keys.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::lab;

namespace {

struct Person : SessionObserver {
  std::mutex mutex;
  SessionStatus status;
  RouteFacts route;
  Capabilities can;
  Size size;
  std::vector<ScreenOffer> offers;
  Region seen = Region::exact();
  std::vector<Question> questions;
  std::string password, clipboard;
  int lives = 0, sizes = 0;
  void statusChanged(const SessionStatus& s) override {
    const std::lock_guard held(mutex);
    if (s.stage == SessionStage::Live && status.stage != SessionStage::Live) ++lives;
    status = s;
  }
  void routeChanged(const RouteFacts& r) override {
    const std::lock_guard held(mutex);
    route = r;
  }
  void capabilitiesChanged(const Capabilities& c) override {
    const std::lock_guard held(mutex);
    can = c;
  }
  void pictureResized(Size s, const std::vector<Screen>&) override {
    const std::lock_guard held(mutex);
    if (!(s == size)) ++sizes;
    size = s;
    seen.clear();
  }
  void screensOffered(const std::vector<ScreenOffer>& list) override {
    const std::lock_guard held(mutex);
    offers = list;
  }
  void damaged(const Region& r) override {
    const std::lock_guard held(mutex);
    seen.add(r);
  }
  void clipboardText(const std::string& text) override {
    const std::lock_guard held(mutex);
    clipboard = text;
  }
  void asked(const Question& q, std::function<void(Answer)> reply) override {
    Answer a;
    {
      const std::lock_guard held(mutex);
      questions.push_back(q);
      a.accepted = q.kind == Question::Kind::Trust || (!q.again && !password.empty());
      a.user = q.user;
      a.password = password;
    }
    reply(a);
  }
  template <typename F>
  bool until(F what) {
    return eventually([&] {
      const std::lock_guard held(mutex);
      return what(*this);
    });
  }
  bool live() {
    return until([](Person& p) {
      return p.status.stage == SessionStage::Live && !p.size.empty() &&
             p.seen.covers({0, 0, p.size.width, p.size.height});
    });
  }
  std::optional<ErrorKind> problem() {
    until([](Person& p) { return p.status.problem.has_value(); });
    const std::lock_guard held(mutex);
    return status.problem;
  }
};

class LabBench {
 public:
  LabBench() {
    secrets.certificate = makeSelfSigned("fernery");
    secrets.guestPassword = "guest-7";
    secrets.hostPassword = "host-7";
    for (ConsolePlan plan : consolePlans(secrets, std::chrono::milliseconds(0))) {
      if (plan.guest.name != "seed-bank" && plan.guest.name != "herbarium-scan" &&
          plan.guest.name != "ticket-kiosk")
        continue;
      plan.address = "127.0.0.1";
      plan.port = 0;
      for (DoorPlan& door : plan.doors) door.address = "127.0.0.1", door.port = 0;
      consoles[plan.guest.name] = std::make_unique<Console>(runtime.strand(), systemClock(), fonts, plan);
      consoles[plan.guest.name]->start(true);
    }
    host = std::make_unique<ConsolePort>(runtime.strand(), "127.0.0.1", 0, consolePortPlan(secrets).options,
                                         std::vector<Console*>{consoles["seed-bank"].get()});
    host->start();
  }
  ~LabBench() {
    if (session) {
      session->end();
      person->until([](Person& p) { return p.status.stage == SessionStage::Ended; });
    }
    for (auto& [name, console] : consoles) console->stop();
    runtime.stop();
  }
  std::string service(const std::string& machine) {
    REQUIRE(eventually([&] { return consoles[machine]->doorPort(0) != 0; }));
    return "127.0.0.1:" + std::to_string(consoles[machine]->doorPort(0));
  }
  std::string console(const std::string& id) {
    return "rdp://duty@127.0.0.1:" + std::to_string(host->port()) + "?machine=" + id;
  }
  void open(const std::string& address, const std::string& password,
            std::map<std::string, std::string> settings = {}) {
    person->password = password;
    session = makeSession(runtime.strand(), parseAddress(address), "seed-bank",
                          overlaid(builtInSettings(), std::move(settings)), {}, {});
    session->observe(person);
    session->start();
  }
  bool shows(const std::string& machine) {
    bool same = false;
    consoles[machine]->withGuest([&](Guest& g) {
      const auto mine = session->picture();
      const auto lock = mine->lock();
      same = samePixels(*mine, *g.picture());
    });
    return same;
  }
  LabSecrets secrets;
  Runtime runtime{2};
  std::shared_ptr<Fonts> fonts = std::make_shared<Fonts>();
  std::map<std::string, std::unique_ptr<Console>> consoles;
  std::unique_ptr<ConsolePort> host;
  std::shared_ptr<Session> session;
  std::shared_ptr<Person> person = std::make_shared<Person>();
};

}  // namespace

TEST_CASE("A host's console is chosen by the machine's ID and stays through a reboot and its sizes",
          "[lab][rdp]") {
  LabBench bench;
  bench.open(bench.console(kSeedBankId), "host-7");
  REQUIRE(bench.person->live());
  CHECK(bench.person->route.sealed);
  CHECK(bench.person->questions.back().account.find("host") != std::string::npos);
  for (const Chord& chord : chordsForText("Fern?"))
    for (const bool down : {true, false})
      for (const KeyStroke& k : chord) bench.session->key(k.keysym, k.scanCode, down);
  CHECK(eventually([&] { return bench.shows("seed-bank"); }));
  bench.consoles["seed-bank"]->withGuest([](Guest& g) { g.reboot(); });
  CHECK(bench.person->until([](Person& p) { return p.sizes >= 3; }));  // desktop, firmware, boot text …
  CHECK(bench.person->lives == 1);
}

TEST_CASE("The machine's own service takes its own account; what is wrong is told with a cure",
          "[lab][rdp]") {
  LabBench bench;
  SECTION("the right one, and the pane's size") {
    bench.open("rdp://duty@" + bench.service("seed-bank"), "guest-7");
    REQUIRE(bench.person->live());
    CHECK(bench.person->until([](Person& p) { return p.can.resize.can; }));
    bench.session->requestSize({1000, 700});
    CHECK(bench.person->until([](Person& p) { return p.size == Size{1000, 700}; }));
    bench.session->offerClipboard("lot AV-1200");
    bench.session->key('v', 0x2f, true);
    CHECK(eventually([&] { return bench.shows("seed-bank"); }));
  }
  SECTION("the host's password is not the machine's") {
    bench.open("rdp://duty@" + bench.service("seed-bank"), "host-7");
    CHECK(bench.person->problem() == ErrorKind::SignInFailed);
    CHECK(bench.person->status.sentence.find("wrong name or password") != std::string::npos);
    CHECK(bench.person->questions.back().again);
    CHECK(bench.person->questions.back().refused == "wrong name or password");
  }
  SECTION("an expired one") {
    bench.open("rdp://night%20volunteer@" + bench.service("ticket-kiosk"), "guest-7");
    CHECK(bench.person->problem() == ErrorKind::SignInFailed);
    CHECK(bench.person->status.sentence.find("expired") != std::string::npos);
    CHECK(bench.person->status.cure.find("new password") != std::string::npos);
  }
  SECTION("an ID that the host does not know") {
    bench.open(bench.console("nobody"), "host-7", {{"reconnect.again", "off"}});
    CHECK(bench.person->problem() == ErrorKind::Refused);
    CHECK(bench.person->status.cure.find("ID") != std::string::npos);
  }
}

TEST_CASE("A service that does not answer yet is opened by itself once it does", "[lab][rdp]") {
  LabBench bench;
  const std::string where = bench.service("seed-bank");
  bench.consoles["seed-bank"]->stop();
  bench.open("rdp://duty@" + where, "guest-7");
  REQUIRE(bench.person->until([](Person& p) { return p.status.stage == SessionStage::Waiting; }));
  CHECK(bench.person->problem() == ErrorKind::Refused);
  ConsolePlan plan = bench.consoles["seed-bank"]->plan();
  plan.doors[0].port = static_cast<std::uint16_t>(parseAddress("rdp://" + where).port);
  bench.consoles["again"] =
      std::make_unique<Console>(bench.runtime.strand(), systemClock(), bench.fonts, plan);
  bench.consoles["again"]->start(true);
  REQUIRE(bench.person->live());
}

TEST_CASE("herbarium-scan: three screens switched on, moved and off, the last one kept", "[lab][spice]") {
  LabBench bench;
  bench.open("spice://" + bench.service("herbarium-scan"), "");
  REQUIRE(bench.person->live());
  CHECK(bench.person->questions.empty());
  REQUIRE(bench.person->until([](Person& p) { return p.can.screens.can && p.offers.size() == 3; }));
  bench.session->switchScreen(1, {800, 600});
  REQUIRE(bench.person->until([](Person& p) { return p.offers[1].on && p.size == Size{1824, 768}; }));
  CHECK(bench.person->offers[1].area == Rect{1024, 0, 800, 600});
  // The second one to the left of the first.
  auto plan = bench.person->offers;
  plan[1].area.x = 0;
  plan[0].area.x = 800;
  bench.session->arrangeScreens(plan);
  REQUIRE(
      bench.person->until([](Person& p) { return p.offers[0].area.x == 800 && p.offers[1].area.x == 0; }));
  REQUIRE(bench.person->live());
  CHECK(eventually([&] { return bench.shows("herbarium-scan"); }));
  bench.session->switchScreen(1, {});
  REQUIRE(bench.person->until([](Person& p) { return !p.offers[1].on && p.size == Size{1024, 768}; }));
  bench.session->switchScreen(0, {});  // stays on
  bench.session->switchScreen(2, {640, 480});
  REQUIRE(bench.person->until([](Person& p) { return p.offers[2].on; }));
  CHECK(bench.person->offers[0].on);
  CHECK(bench.person->lives == 1);
}

TEST_CASE("A session that is still open when its threads end is freed with them", "[lab][rdp][spice]") {
  const auto [scheme, machine] =
      GENERATE(std::pair("spice://", "herbarium-scan"), std::pair("rdp://duty@", "seed-bank"));
  LabBench bench;
  std::weak_ptr<Session> left;
  {
    const auto person = std::make_shared<Person>();
    person->password = "guest-7";
    Runtime own;
    const auto session = makeSession(own.strand(), parseAddress(scheme + bench.service(machine)), machine,
                                     builtInSettings(), {}, {});
    session->observe(person);
    session->start();
    REQUIRE(person->live());
    left = session;
  }
  CHECK(left.expired());
}
