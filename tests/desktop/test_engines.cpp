// Remote desktops and machines with several screens in the real window; a line that was sealed and is not any
// more.
#include "desktop/picture/screens_plan.hpp"
#include "lab/console_port.hpp"
#include "lab/scenario.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// The window, and one guest reached through a door of its own.
class DoorBench : public WindowBench {
 public:
  DoorBench(const std::string& machine, const std::function<std::string(std::uint16_t)>& addressAt)
      : WindowBench(1) {
    lab::LabSecrets secrets;
    secrets.certificate = makeSelfSigned("fernery");
    secrets.guestPassword = "guest-7";
    for (lab::ConsolePlan plan : lab::consolePlans(secrets, std::chrono::milliseconds(0))) {
      if (plan.guest.name != machine) continue;
      for (lab::DoorPlan& door : plan.doors) door.address = "127.0.0.1", door.port = 0;
      guest = std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan);
    }
    REQUIRE(guest != nullptr);
    guest->start(true);
    REQUIRE(eventually([&] { return guest->doorPort(0) != 0; }));
    tools.store->commit("add", [&](StoreWriter& w) {
      Machine m;
      m.folder = groupId, m.name = machine, m.host = "fernery";
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "desktop", e.address = addressAt(guest->doorPort(0));
      w.put(e);
      way = e.id;
    });
  }
  ~DoorBench() {
    window.reset();
    desk.reset();
    guest->stop();
  }
  OpenSession* begin() {
    open().openEndpoint(way);
    OpenSession* s = window->stage()->sessionOf(way);
    REQUIRE(s != nullptr);
    return s;
  }
  QPushButton* button(const QString& name) {
    for (auto* b : window->findChildren<QPushButton*>(name))
      if (b->isVisible()) return b;
    return nullptr;
  }
  std::unique_ptr<lab::Console> guest;
  Id way = 0;
};

std::string rdpAt(std::uint16_t port) { return "rdp://duty@127.0.0.1:" + std::to_string(port); }
std::string spiceAt(std::uint16_t port) { return "spice://127.0.0.1:" + std::to_string(port); }

}  // namespace

TEST_CASE("A remote desktop: certificate, whose account, a wrong password, then keys reach the machine",
          "[window][rdp]") {
  DoorBench bench("seed-bank", rdpAt);
  OpenSession* s = bench.begin();
  REQUIRE(shown([&] { return s->question() && s->question()->kind == Question::Kind::Trust; }));
  CHECK(QApplication::activeModalWidget() == nullptr);
  REQUIRE(bench.button("trustKeep") != nullptr);
  QTest::mouseClick(bench.button("trustKeep"), Qt::LeftButton);
  REQUIRE(shown([&] { return s->question() && s->question()->kind == Question::Kind::UserAndPassword; }));
  CHECK_THAT(s->question()->account, Catch::Contains("of the machine itself"));
  auto* field = bench.child<QLineEdit>("password");
  REQUIRE(field != nullptr);
  QTest::keyClicks(field, "wrong");
  QTest::keyClick(field, Qt::Key_Return);
  REQUIRE(shown([&] { return s->question() && s->question()->again; }));
  CHECK(s->question()->refused == "wrong name or password");
  field = bench.child<QLineEdit>("password");
  QTest::keyClicks(field, "guest-7");
  QTest::keyClick(field, Qt::Key_Return);
  REQUIRE(shown([&] { return s->isLive() && s->hasPicture(); }));
  CHECK(s->route().sealed);
  CHECK(s->pictureSize() == Size{1280, 800});
  const auto note = [&] {
    std::string text;
    bench.guest->withGuest([&](lab::Guest& g) {
      g.key(0xffe3, true);
      g.key('c', true);
      text = g.takeCopied();
      g.key(0xffe3, false);
    });
    return text;
  };
  s->typeText("Lot 12");
  CHECK(shown([&] { return note() == "Lot 12"; }));
  // It is over when it is ended.
  bench.window->endSession(s);
  CHECK(shown([&] { return bench.guest->visitors() == 0; }));
}

TEST_CASE("A console's screens are there as its record wishes them", "[window][spice]") {
  DoorBench bench("herbarium-scan", spiceAt);
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.way}, "screen.screens", "2");
    w.set({OwnerKind::WayIn, bench.way}, "screen.lie", "left");
  });
  OpenSession* s = bench.begin();
  REQUIRE(shown([&] { return s->screens().size() == 2 && bench.window->screenWindows().size() == 1; }));
  CHECK(bench.window->screenWindows().at(0)->screen() == 2);
  CHECK(s->offers()[1].area.x == 0);
  CHECK(s->offers()[0].area.x == s->offers()[1].area.width);
  CHECK_FALSE(s->offers()[2].on);
}

TEST_CASE("Screens are switched on and placed from the plan; one gets a window of its own",
          "[window][spice]") {
  DoorBench bench("herbarium-scan", spiceAt);
  OpenSession* s = bench.begin();
  REQUIRE(shown([&] { return s->isLive() && s->offers().size() == 3 && s->capabilities().screens.can; }));
  bench.window->openScreensPlan(s);
  auto* plan = bench.window->findChild<ScreensPlan*>();
  REQUIRE(plan != nullptr);
  QTest::mouseClick(plan, Qt::LeftButton, {}, plan->switchOf(1).center());
  REQUIRE(shown([&] { return s->screens().size() == 2 && s->offers()[1].on; }));
  REQUIRE(shown([&] { return plan->tile(1).left() > plan->tile(0).left(); }));
  // Dragged to the left of the first one.
  const QPoint from = plan->tile(1).center(), to(plan->tile(0).left() - 20, from.y());
  QTest::mousePress(plan, Qt::LeftButton, {}, from);
  QTest::mouseMove(plan, to);
  QMouseEvent move(QEvent::MouseMove, to, plan->mapToGlobal(to), Qt::LeftButton, Qt::LeftButton, {});
  QApplication::sendEvent(plan, &move);
  QTest::mouseRelease(plan, Qt::LeftButton, {}, to);
  REQUIRE(shown(
      [&] { return s->offers()[1].area.x == 0 && s->offers()[0].area.x == s->offers()[1].area.width; }));
  REQUIRE(shown([&] { return plan->tile(1).left() < plan->tile(0).left(); }));
  QTest::mouseDClick(plan, Qt::LeftButton, {}, plan->tile(1).center());
  REQUIRE(shown([&] { return !bench.window->screenWindows().isEmpty(); }));
  // Its size follows that window, and it stays on its side.
  s->shown.followsPane = true;
  bench.window->screenWindows().first()->resize(720, 560);
  REQUIRE(shown([&] { return s->offers()[1].area == Rect{0, 0, 720, 560}; }));
  CHECK(shown([&] { return s->offers()[0].area.x == 720; }));
  // Switched off again; the last one is not.
  s->session().switchScreen(1, {});
  REQUIRE(shown([&] { return s->screens().size() == 1; }));
  s->session().switchScreen(0, {});
  CHECK(shown([&] { return s->remarkText().contains("last screen"); }));
  CHECK(s->screens().size() == 1);
}

TEST_CASE("A line that was sealed and comes back plain is told in the pane; stopping sends nothing",
          "[window]") {
  WindowBench bench(1, "orchid");
  const std::string peer = "127.0.0.1:" + std::to_string(bench.consoles[0]->port());
  bench.tools.store->pin(peer, "ab:cd");
  keepSignIn(bench.tools, {OwnerKind::WayIn, bench.endpoints[0]}, {"", "orchid", SecretUse::Proved});
  MainWindow& window = bench.open();
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  REQUIRE(shown([&] { return s->question() && s->question()->kind == Question::Kind::Unsealed; }));
  auto* stop = bench.child<QPushButton>("stopHere");
  REQUIRE(stop != nullptr);
  QTest::mouseClick(stop, Qt::LeftButton);
  REQUIRE(shown([&] { return s->status().problem == ErrorKind::NotTrusted; }));
  // Again, and on: then the password is asked for, since the kept one is for a sealed line.
  s->session().retry();
  REQUIRE(shown([&] { return s->question() && s->question()->kind == Question::Kind::Unsealed; }));
  REQUIRE(shown([&] { return bench.child<QPushButton>("goOnPlain") != nullptr; }));
  QTest::mouseClick(bench.child<QPushButton>("goOnPlain"), Qt::LeftButton);
  REQUIRE(shown([&] { return s->question() && s->question()->kind == Question::Kind::Password; }));
  CHECK_FALSE(s->isLive());
}
