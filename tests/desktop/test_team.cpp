// Two windows of two people on one real database.
#include "tests/desktop/window_bench.hpp"
#include "tests/peers/postgres.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// One person's desk: own vault, the team's records.
struct TeamDesk {
  TeamDesk(const std::string& uri, bool make = false) {
    tools.store = openStore(uri, make);
    tools.vault = openVault(folder.path / "vault");
  }
  MainWindow& open() {
    desk = std::make_unique<Desk>(tools);
    window = std::make_unique<MainWindow>(*desk);
    QObject::connect(window.get(), &QObject::destroyed, [] {});
    QObject::connect(&desk->records(), &Records::failed, [this](const QString& s) { told << s; });
    QObject::connect(&desk->records(), &Records::said, [this](const QString& s) { told << s; });
    window->show();
    return *window;
  }
  [[nodiscard]] const Snapshot& records() const { return desk->records().snapshot(); }
  TemporaryFolder folder;
  OpeningTools tools;
  std::unique_ptr<Desk> desk;
  std::unique_ptr<MainWindow> window;
  QStringList told;
};

}  // namespace

TEST_CASE("Two windows on a team's records: each sees the other's changes; the database may go and come back",
          "[window][team]") {
  if (!Postgres::available()) return;
  WindowBench folders(0);  // keeps the user's own folders out of it
  Postgres server;
  server.run("CREATE ROLE volunteer LOGIN SUPERUSER");
  TeamDesk duty(server.uri(), true), volunteer(server.uri("volunteer"));
  duty.open();
  volunteer.open();
  const auto seen = [&](const std::function<bool()>& condition) {
    QElapsedTimer timer;
    timer.start();
    const bool there = shown(condition, 3000);
    CHECK(timer.elapsed() < 1000);
    return there;
  };
  Id id = 0;
  REQUIRE(duty.desk->records().commit("add", [&](StoreWriter& w) {
    for (int i = 0; i < 40; ++i) {
      Machine m;
      m.name = i == 0 ? "mist-bench" : "seed-" + std::to_string(i);
      w.put(m);
      if (i == 0) id = m.id;
    }
  }));
  REQUIRE(seen([&] { return volunteer.records().machines.contains(id); }));
  const Id chosen = volunteer.records().machineNamed("seed-7")->id;
  volunteer.window->roster()->select(chosen);
  const auto change = [&](const std::string& title, const std::function<void(Machine&)>& how) {
    Machine m = duty.records().machines.at(id);
    how(m);
    REQUIRE(duty.desk->records().commit(QString::fromStdString(title), [&](StoreWriter& w) { w.put(m); }));
  };
  change("rename", [](Machine& m) { m.name = "mist-bench-2"; });
  REQUIRE(seen([&] { return volunteer.records().machines.at(id).name == "mist-bench-2"; }));
  Id group = 0;
  REQUIRE(duty.desk->records().commit("move", [&](StoreWriter& w) {
    Folder f;
    f.name = "Glasshouses";
    w.put(f);
    group = f.id;
    Machine m = duty.records().machines.at(id);
    m.folder = f.id;
    w.put(m);
  }));
  REQUIRE(seen([&] { return volunteer.records().machines.at(id).folder == group; }));
  CHECK(volunteer.window->roster()->selected() == chosen);

  // The database goes: both live, and say so once.
  server.stop();
  for (TeamDesk* d : {&duty, &volunteer}) {
    REQUIRE(shown([&] { return d->told.join("\n").contains("not reached"); }, 15000));
    CHECK(d->window->roster()->rows().size() >= 40);
  }
  CHECK_FALSE(duty.desk->records().commit("add", [&](StoreWriter& w) {
    Machine m;
    m.name = "lost";
    w.put(m);
  }));
  server.start();
  for (TeamDesk* d : {&duty, &volunteer})
    REQUIRE(shown([&] { return d->told.join("\n").contains("reached again"); }, 20000));
  REQUIRE(duty.desk->records().commit("remove", [&](StoreWriter& w) { w.removeMachine(id); }));
  CHECK(shown([&] { return !volunteer.records().machines.contains(id); }, 8000));
  CHECK(volunteer.records().machineNamed("lost") == nullptr);
  // Undo is of one's own.
  volunteer.window->action("undo")->trigger();
  CHECK_FALSE(volunteer.records().machines.contains(id));
  duty.window->action("undo")->trigger();
  CHECK(shown([&] { return volunteer.records().machines.contains(id); }, 8000));
}
