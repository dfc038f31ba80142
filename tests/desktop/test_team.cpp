// Two windows of two people on one real database.
#include <QCheckBox>
#include <QLineEdit>
#include <QPushButton>
#include <QScrollArea>

#include "desktop/record/credentials_view.hpp"
#include "route/sign_in_source.hpp"
#include "route/team_bundle.hpp"
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

TEST_CASE("A credential is given to a colleague with a tick, changed for both, and taken away",
          "[window][team]") {
  if (!Postgres::available()) return;
  WindowBench folders(0);
  Postgres server;
  TeamDesk duty(server.uri(), true);
  for (const char* name : {"volunteer", "moss"}) {
    server.run(std::string("CREATE ROLE ") + name + " LOGIN");
    server.run(std::string("GRANT kettle_people TO ") + name);
  }
  TeamDesk volunteer(server.uri("volunteer")), moss(server.uri("moss"));
  duty.open();
  volunteer.open();
  duty.window->showCredentials();
  CredentialsView& page = *duty.window->credentials();
  const auto field = [&](const char* name) { return page.findChild<QLineEdit*>(name); };
  const auto type = [&](const char* name, const QString& text) {
    field(name)->setFocus();
    field(name)->selectAll();
    QTest::keyClicks(field(name), text);
  };
  page.beginNew();
  type("credentialName", "duty at night");
  type("credentialPassword", "orchid-house-5");
  REQUIRE(page.keep());
  const Id id = duty.records().credentialNamed("duty at night")->id;
  // Moss has not opened these records with a window yet, and cannot be ticked.
  CHECK(page.findChild<QCheckBox*>("holds moss") == nullptr);
  auto* tick = page.findChild<QCheckBox*>("holds volunteer");
  REQUIRE(tick != nullptr);
  CHECK_FALSE(tick->isChecked());
  CHECK_FALSE(page.findChild<QPushButton*>("keepCredential")->isEnabled());
  CHECK_FALSE(keptBundle(volunteer.tools, id));
  tick->click();
  QTest::mouseClick(page.findChild<QPushButton*>("keepCredential"), Qt::LeftButton);
  REQUIRE(keptBundle(volunteer.tools, id));
  CHECK(keptBundle(volunteer.tools, id)->password == "orchid-house-5");
  CHECK_FALSE(keptBundle(moss.tools, id));

  // The colleague changes it in their window, for both.
  REQUIRE(shown([&] { return volunteer.records().credentialNamed("duty at night") != nullptr; }, 3000));
  volunteer.window->showCredentials("duty at night");
  CredentialsView& theirs = *volunteer.window->credentials();
  CHECK(theirs.findChild<QCheckBox*>("holds duty")->isChecked());
  QTest::keyClicks(theirs.findChild<QLineEdit*>("credentialPassword"), "potting-shed-6");
  REQUIRE(theirs.keep());
  CHECK(keptBundle(duty.tools, id)->password == "potting-shed-6");

  // Another computer of theirs is told of, and given nothing until it is said to be theirs.
  TeamDesk second(server.uri("volunteer"));
  publishDesk(second.tools);
  REQUIRE(shown([&] { return duty.records().revision == volunteer.records().revision; }, 3000));
  page.showAt("duty at night");
  auto* believed = page.findChild<QPushButton*>("theirs volunteer");
  REQUIRE(believed != nullptr);
  duty.window->resize(1280, 800);
  // What is to be compared and clicked is in sight, whole.
  CHECK(shown([&] {
    const QWidget* area = page.findChild<QScrollArea*>();
    return believed->visibleRegion().boundingRect().size() == believed->size() &&
           area->rect().contains(believed->mapTo(area, QPoint(believed->width(), 0)));
  }));
  page.findChild<QLineEdit*>("credentialPassword")->setFocus();
  type("credentialPassword", "glasshouse-7");
  REQUIRE(page.keep());
  CHECK_FALSE(keptBundle(second.tools, id));
  CHECK(keptBundle(volunteer.tools, id)->password == "glasshouse-7");
  page.findChild<QPushButton*>("theirs volunteer")->click();
  REQUIRE(keptBundle(second.tools, id));
  CHECK(keptBundle(second.tools, id)->password == "glasshouse-7");

  // Taken away: they have it no more, and it is to be changed.
  page.findChild<QCheckBox*>("holds volunteer")->click();
  QObject::connect(&page, &CredentialsView::said, [&](const QString& s) { duty.told << s; });
  const bool kept = page.keep();
  INFO(duty.told.join("\n").toStdString());
  REQUIRE(kept);
  CHECK_FALSE(keptBundle(volunteer.tools, id));
  CHECK(keptBundle(duty.tools, id)->password == "glasshouse-7");
  CHECK(field("credentialExpires")->text() == QDateTime::currentDateTimeUtc().toString("yyyy-MM-dd"));
  CHECK(duty.desk->records().store().history(1).front().title == "take duty at night away from volunteer");
  // Taken away and changed in one go: what is new is not given to whoever loses it, and nothing is left to
  // do.
  page.findChild<QCheckBox*>("holds volunteer")->click();
  REQUIRE(page.keep());
  REQUIRE(keptBundle(volunteer.tools, id));
  server.run(
      "CREATE TABLE public.given(account TEXT); CREATE FUNCTION public.note() RETURNS trigger LANGUAGE "
      "plpgsql "
      "AS 'BEGIN INSERT INTO public.given VALUES(NEW.account); RETURN NEW; END'; CREATE TRIGGER noted AFTER "
      "INSERT ON kettle.copy FOR EACH ROW EXECUTE FUNCTION public.note()");
  page.findChild<QCheckBox*>("holds volunteer")->click();
  type("credentialPassword", "palm-house-3");
  REQUIRE(page.keep());
  // Not even for a moment.
  server.run("DO 'BEGIN ASSERT NOT EXISTS(SELECT FROM public.given WHERE account=''volunteer''); END'");
  CHECK_FALSE(keptBundle(volunteer.tools, id));
  CHECK(keptBundle(duty.tools, id)->password == "palm-house-3");
  CHECK(field("credentialExpires")->text().isEmpty());
  CHECK(duty.desk->records().store().history(1).front().title == "change credential duty at night");
  // Changed, it need not be any more.
  type("credentialPassword", "seed-bank-8");
  REQUIRE(page.keep());
  CHECK(field("credentialExpires")->text().isEmpty());
}
