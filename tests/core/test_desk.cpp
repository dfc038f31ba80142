// What lies behind every front: what is opened, how it is shown, the journal of a visit, remembered starts.
#include <fstream>

#include "base/file.hpp"
#include "desk/opened.hpp"
#include "desk/ports.hpp"
#include "desk/shown_as.hpp"
#include "desk/usual_starts.hpp"
#include "desk/visit_notes.hpp"
#include "lab/host.hpp"
#include "tests/store_suite.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

struct Records {
  TemporaryFolder folder;
  std::shared_ptr<Store> store = openSqliteStore(folder.path / "records.sqlite");
  Id mist = 0, screen = 0, twin = 0;
  Records() {
    store->commit("records", [&](StoreWriter& w) {
      Machine m, other;
      m.name = "mist-bench", other.name = "audio-guide";
      w.put(m);
      w.put(other);
      mist = m.id;
      Endpoint e, same;
      e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.11:5907";
      same.machine = other.id, same.label = "screen", same.address = e.address;
      w.put(e);
      w.put(same);
      screen = e.id, twin = same.id;
      w.set({OwnerKind::Machine, m.id}, "screen.size", "fixed");
      w.set({OwnerKind::Machine, m.id}, "screen.fixed", "1440x900");
      w.set({OwnerKind::WayIn, e.id}, "screen.screens", "3");
      w.set({OwnerKind::WayIn, e.id}, "screen.lie", "left");
      w.set({OwnerKind::WayIn, e.id}, "screen.viewonly", "on");
    });
  }
};

}  // namespace

TEST_CASE("A way in, an address and a file's machine are opened with their names and settings", "[desk]") {
  Records records;
  Runtime runtime(1);
  OpeningTools tools;
  tools.store = records.store;
  const auto snapshot = std::make_shared<Snapshot>(records.store->load());
  Opened way = openedWayIn(runtime.strand(), snapshot, records.screen, tools);
  CHECK(way.machine == "mist-bench");
  CHECK(way.label == "screen · vnc");
  CHECK(way.address == "vnc://127.0.0.11:5907");
  CHECK(way.wayIn == records.screen);
  const ShownAs shown = shownAs(way.setting);
  CHECK(shown.ownSize == Size{1440, 900});
  CHECK((!shown.followsPane && !shown.likeMonitor));
  CHECK(shown.screens.count == 3);
  CHECK(shown.screens.lie == ScreensLie::Left);
  CHECK(shown.onlyLook);
  CHECK(failureOf([&] { openedWayIn(runtime.strand(), snapshot, 999, tools); }).find("not in the records") !=
        std::string::npos);

  const Opened line = openedAddress(runtime.strand(), "tcp://127.0.0.11:4000", tools);
  CHECK(line.machine == "127.0.0.11:4000");
  CHECK(line.label.find("line · ") == 0);
  CHECK(line.session->text() != nullptr);
  CHECK_FALSE(shownAs(line.setting).screens.any());
  CHECK_THROWS_AS(openedAddress(runtime.strand(), "nothing://x", tools), Error);

  exchange::Entry entry;
  entry.name = "seed-bank", entry.from = "desk.rdp";
  CHECK_THROWS_AS(openedOnce(runtime.strand(), entry, tools), Error);
  entry.ways.push_back({"", "vnc://127.0.0.1:5901", {{"screen.fit", "actual"}}});
  const Opened once = openedOnce(runtime.strand(), entry, tools);
  CHECK(once.label == "file · vnc");
  CHECK(once.address.find("from desk.rdp") != std::string::npos);
  CHECK(shownAs(once.setting).fit == "actual");
}

TEST_CASE("The password that a file hands over signs in, and no other does", "[desk]") {
  struct Told : SessionObserver {
    std::atomic<bool> live{false}, wasAsked{false};
    void statusChanged(const SessionStatus& s) override { live = s.stage == SessionStage::Live; }
    void asked(const Question&, std::function<void(Answer)> reply) override {
      wasAsked = true;
      reply({});
    }
  };
  Runtime runtime(2);
  lab::ConsolePlan plan;
  plan.options.password = "plum42";
  lab::Console console(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), plan);
  console.start(true);
  exchange::Entry entry;
  entry.name = "herbarium-scan", entry.from = "console.vv";
  entry.ways.push_back({"", "vnc://127.0.0.1:" + std::to_string(console.port()), {}});
  for (const bool handedOver : {true, false}) {
    CAPTURE(handedOver);
    if (handedOver) entry.password = "plum42";
    if (!handedOver) entry.password.reset();
    const Opened once = openedOnce(runtime.strand(), entry, {});
    const auto told = std::make_shared<Told>();
    once.session->observe(told);
    once.session->start();
    CHECK(eventually([&] { return handedOver ? told->live.load() : told->wasAsked.load(); }));
    CHECK(told->wasAsked == !handedOver);
    once.session->end();
  }
  console.stop();
  runtime.stop();
}

TEST_CASE("The journal of a visit: each trouble once, its logs, how it ended", "[desk]") {
  Records records;
  VisitNotes visit(records.store, "mist-bench", "v1");
  visit.note(Told::Opened, "vnc://127.0.0.11:5907");
  SessionStatus lost{SessionStage::Waiting, "refused", ErrorKind::Refused, "", 1, {}};
  const SessionStatus live{SessionStage::Live, "live", std::nullopt, "", 1, {}};
  SessionStatus again = lost;
  again.stage = SessionStage::Connecting, again.problem.reset();
  CHECK(visit.status(lost));
  CHECK_FALSE(visit.status(again));
  CHECK_FALSE(visit.status(lost));  // tried again, the same trouble
  CHECK_FALSE(visit.status(live));
  CHECK(visit.status(lost));  // another one
  CHECK_FALSE(visit.log(""));
  CHECK(visit.log("/logs/a.txt"));
  CHECK_FALSE(visit.log("/logs/a.txt"));
  CHECK_FALSE(visit.log(""));
  CHECK(visit.log("/logs/a.txt"));
  visit.status(live);
  visit.ended(live);
  std::vector<std::string> told;
  for (const JournalEntry& e : records.store->journal(50)) {
    CHECK(e.visit == "v1");
    told.push_back(std::to_string(static_cast<int>(e.told)) + " " + e.text);
  }
  CHECK(told == std::vector<std::string>{"4 closed", "3 /logs/a.txt", "3 /logs/a.txt", "2 refused",
                                         "2 refused", "1 vnc://127.0.0.11:5907"});
  const VisitNotes never(records.store, "mist-bench", "v2");
  never.ended(again);
  CHECK(records.store->journal(1).front().text == "given up");
  VisitNotes(nullptr, "mist-bench", "v3").ended(lost);  // no store: nothing to write to
}

TEST_CASE("How long machines take to start is remembered, for the last five starts", "[desk]") {
  TemporaryFolder folder;
  const auto file = folder.path / "state" / "starts.json";
  UsualStarts starts(file);
  CHECK(starts.secondsOf(7) == 0);
  for (const int seconds : {90, 90, 90, 21, 19, 0, 20, 22}) starts.remember(7, seconds);
  CHECK(UsualStarts(file).secondsOf(7) == 20);
  starts.remember(8, 0);
  CHECK(starts.secondsOf(8) == 1);
  std::ofstream(file) << "{\"7\": [\"long\", 12, null]}";
  CHECK(starts.secondsOf(7) == 12);
  std::ofstream(file) << "no JSON";
  CHECK(starts.secondsOf(7) == 0);
  starts.remember(7, 5);
  CHECK(starts.secondsOf(7) == 5);
  UsualStarts("/proc/nowhere/starts.json").remember(7, 5);  // only a guess is lost
}

TEST_CASE("Ports of the records: who has the same, and the next one that is free", "[desk]") {
  const Records records;
  const Snapshot s = records.store->load();
  CHECK(clashOf(s, s.endpoints.at(records.screen)) == "audio-guide");
  Endpoint alone = s.endpoints.at(records.screen);
  alone.address = "vnc://127.0.0.11:5908";
  CHECK_FALSE(clashOf(s, alone));
  CHECK(freePortFrom(s, parseAddress("vnc://127.0.0.11:5907")) == 5908);
  CHECK(freePortFrom(s, parseAddress("vnc://127.0.0.12:5907")) == 5907);
}
