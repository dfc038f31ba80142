// What people do with records: credentials, colleagues' changes, history, several at once, templates,
// commands.
#include "tests/desktop/record_pages.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A credential is made once, inherited from a group, and opens what takes it", "[window][records]") {
  WindowBench bench(2, "orchid");
  MainWindow& window = bench.open();
  window.action("credentials")->trigger();
  typeInto(bench.child<QLineEdit>("credentialName"), "duty at night");
  typeInto(bench.child<QLineEdit>("credentialPassword"), "orchid");
  typeInto(bench.child<QLineEdit>("credentialCode"), "no base32!");
  CHECK_FALSE(bench.child<QPushButton>("keepCredential")->isEnabled());
  typeInto(bench.child<QLineEdit>("credentialCode"), "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ");
  bench.child<QPushButton>("keepCredential")->click();
  REQUIRE(window.credentials()->table()->rowCount() == 1);
  CHECK(window.credentials()->table()->item(0, 2)->text() == "password, code");
  CHECK(shown([&] { return bench.child<QLabel>("credentialCodeNow")->text().size() > 8; }));
  // Nothing of it shows in the form.
  CHECK(bench.child<QLineEdit>("credentialPassword")->text().isEmpty());

  window.roster()->select(bench.machineIds[0]);
  window.action("groupSheet")->trigger();
  toPage(window.sheet(), "Sign-in");
  pick(bench.child<QComboBox>("setting:signin.from"), "duty at night");
  bench.child<QPushButton>("keep")->click();
  window.editMachine(bench.machineIds[0]);
  toPage(window.sheet(), "Sign-in");
  CHECK(bench.child<QPushButton>("origin:signin.from")->text() == "from group Palm house");
  CHECK(window.sheet()->findChild<QLineEdit*>("keptPassword") == nullptr);
  window.credentials()->showAt("duty at night");
  CHECK(window.credentials()->table()->item(0, 3)->text() == "2");

  window.openEndpoint(bench.endpoints[0]);
  OpenSession* session = window.desk().sessionOf(bench.endpoints[0]);
  REQUIRE(session != nullptr);
  CHECK(shown([&] { return session->isLive(); }));
  CHECK_FALSE(session->question().has_value());
}

TEST_CASE("A credential that is refused is asked for in the pane and changed for all that share it",
          "[window][records]") {
  WindowBench bench(2, "orchid");
  MainWindow& window = bench.open();
  Credential c;
  c.name = "duty at night";
  bench.tools.store->commit("credential", [&](StoreWriter& w) {
    w.put(c);
    w.set({OwnerKind::Folder, bench.groupId}, "signin.from", "named:duty at night");
  });
  SecretBundle wrong;
  wrong.password = "fern", wrong.codeSecret = "1234567890";
  keepBundle(bench.tools, c.id, wrong);
  window.desk().records().reload();
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* session = window.desk().sessionOf(bench.endpoints[0]);
  REQUIRE(shown([&] { return session->question().has_value(); }));
  CHECK(session->question()->again);
  CHECK(QString::fromStdString(session->question()->account).contains("not that of an account"));
  REQUIRE(shown([&] { return window.findChild<QCheckBox*>("keepAnswer") != nullptr; }));
  auto* keep = bench.child<QCheckBox>("keepAnswer");
  CHECK(keep->text().contains("duty at night"));
  CHECK(keep->text().contains("2 ways in"));
  keep->setChecked(true);
  bench.child<QLineEdit>("password")->setText("orchid");
  bench.child<QPushButton>("signIn")->click();
  REQUIRE(shown([&] { return session->isLive(); }));
  REQUIRE(shown([&] { return keptBundle(bench.tools, c.id)->password == "orchid"; }));
  CHECK(keptBundle(bench.tools, c.id)->codeSecret == "1234567890");
  window.openEndpoint(bench.endpoints[1]);
  OpenSession* other = window.desk().sessionOf(bench.endpoints[1]);
  CHECK(shown([&] { return other->isLive(); }));
}

TEST_CASE("A colleague's changes are seen without losing place or selection", "[window][records]") {
  WindowBench bench(3);
  bench.tools.store->commit("many", [&](StoreWriter& w) {
    for (int i = 0; i < 60; ++i) {
      Machine m;
      m.folder = bench.groupId, m.name = "seed-" + std::to_string(i);
      w.put(m);
    }
  });
  MainWindow& window = bench.open();
  window.roster()->select(bench.machineIds[1]);
  window.roster()->verticalScrollBar()->setValue(200);
  const auto other = colleague(bench);
  Machine m = other->load().machines.at(bench.machineIds[0]);
  m.name = "mist-bench";
  other->commit("rename", [&](StoreWriter& w) { w.put(m); });
  CHECK(shown([&] { return machineOf(window, m.id).name == "mist-bench"; }, 1500));
  other->commit("remove", [&](StoreWriter& w) { w.removeMachine(bench.machineIds[2]); });
  CHECK(shown([&] { return !window.desk().records().snapshot().machines.contains(bench.machineIds[2]); },
              1500));
  CHECK(window.roster()->selected() == bench.machineIds[1]);
  CHECK(window.roster()->verticalScrollBar()->value() == 200);
}

TEST_CASE("Two people change one record: side by side, merged field by field, nothing lost",
          "[window][records]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  const Id id = bench.machineIds[0];
  window.editMachine(id);
  toPage(window.sheet(), "Notes");
  window.sheet()->findChild<QPlainTextEdit*>()->setPlainText("valve B sticks");
  const auto other = colleague(bench);
  Machine theirs = other->load().machines.at(id);
  theirs.tags = "controller", theirs.notes = "ask duty first";
  other->commit("theirs", [&](StoreWriter& w) {
    w.put(theirs);
    w.set({OwnerKind::Machine, id}, "screen.fit", "fill");
  });
  const auto& labels = window.sheet()->findChildren<QLabel*>();
  CHECK(shown(
      [&] {
        return std::any_of(labels.begin(), labels.end(),
                           [](QLabel* l) { return l->isVisible() && l->text().contains("meanwhile"); });
      },
      2000));
  bench.child<QPushButton>("keep")->click();
  MergeView* merge = window.sheet()->mergeView();
  REQUIRE(merge->isVisible());
  REQUIRE(merge->fields().size() == 3);
  const auto row = [&](const std::string& what) {
    for (std::size_t i = 0; i < merge->fields().size(); ++i)
      if (merge->fields()[i].what == what) return static_cast<int>(i);
    return -1;
  };
  CHECK(merge->fields()[static_cast<std::size_t>(row("Notes"))].takeMine);
  CHECK_FALSE(merge->fields()[static_cast<std::size_t>(row("Tags"))].takeMine);
  SECTION("what is chosen is kept together") {
    bench.child<QPushButton>("keepMerged")->click();
    CHECK(machineOf(window, id).notes == "valve B sticks");
    CHECK(machineOf(window, id).tags == "controller");
    CHECK(window.desk().records().snapshot().resolve({OwnerKind::Machine, id}, "screen.fit").value == "fill");
    CHECK_FALSE(window.sheet()->mergeView()->isVisible());
  }
  SECTION("theirs for a field that both changed") {
    emit merge->table()->cellClicked(row("Notes"), 2);
    CHECK(merge->table()->item(row("Notes"), 2)->text().startsWith("●"));
    bench.child<QPushButton>("keepMerged")->click();
    CHECK(machineOf(window, id).notes == "ask duty first");
  }
  SECTION("mine is dropped") {
    bench.child<QPushButton>("dropMine")->click();
    CHECK(machineOf(window, id).notes == "ask duty first");
    CHECK_FALSE(window.sheet()->dirty());
  }
}

TEST_CASE("Two people change one group: side by side, merged field by field, nothing lost",
          "[window][records]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  const Id id = bench.groupId;
  const Owner group{OwnerKind::Folder, id};
  const auto other = colleague(bench);
  const auto folder = [&] { return window.desk().records().snapshot().folders.at(id); };
  const auto value = [&](const char* key) {
    return window.desk().records().snapshot().resolve(group, key).value;
  };
  window.editGroup(id);
  SECTION("a sheet that nobody edits follows") {
    Folder theirs = other->load().folders.at(id);
    theirs.name = "Ferneries";
    other->commit("theirs", [&](StoreWriter& w) { w.put(theirs); });
    CHECK(shown([&] { return window.sheet()->machineName() == "Ferneries"; }, 2000));
    CHECK_FALSE(window.sheet()->dirty());
  }
  SECTION("both changed: each field is chosen") {
    bench.child<QLineEdit>("machineName")->setText("Glasshouses at night");
    Folder theirs = other->load().folders.at(id);
    theirs.name = "Ferneries", theirs.host = "fernery";
    other->commit("theirs", [&](StoreWriter& w) {
      w.put(theirs);
      w.set(group, "screen.fit", "fill");
    });
    REQUIRE(shown([&] { return folder().name == "Ferneries"; }, 2000));
    bench.child<QPushButton>("keep")->click();
    MergeView* merge = window.sheet()->mergeView();
    REQUIRE(merge->isVisible());
    REQUIRE(merge->fields().size() == 3);
    for (const MergeField& f : merge->fields()) {
      INFO(f.what);
      CHECK(f.takeMine == (f.what == "Name"));
    }
    bench.child<QPushButton>("keepMerged")->click();
    CHECK_FALSE(merge->isVisible());
    CHECK(folder().name == "Glasshouses at night");
    CHECK(folder().host == "fernery");
    CHECK(value("screen.fit") == "fill");
  }
  SECTION("only a setting that both changed, which no version tells of") {
    toPage(window.sheet(), "Screen");
    pick(bench.child<QComboBox>("setting:screen.fit"), "One to one, moving about");
    other->commit("theirs", [&](StoreWriter& w) { w.set(group, "screen.fit", "fill"); });
    REQUIRE(shown([&] { return value("screen.fit") == "fill"; }, 2000));
    bench.child<QPushButton>("keep")->click();
    MergeView* merge = window.sheet()->mergeView();
    REQUIRE(merge->isVisible());
    REQUIRE(merge->fields().size() == 1);
    emit merge->table()->cellClicked(0, 2);  // theirs
    bench.child<QPushButton>("keepMerged")->click();
    CHECK(value("screen.fit") == "fill");
  }
  SECTION("removed meanwhile: kept anew") {
    bench.child<QLineEdit>("machineName")->setText("Ferneries");
    other->commit("gone", [&](StoreWriter& w) { w.removeFolder(id); });
    REQUIRE(shown([&] { return !window.desk().records().snapshot().folders.contains(id); }, 2000));
    bench.child<QPushButton>("keep")->click();
    bench.child<QPushButton>("keep")->click();
    const auto& folders = window.desk().records().snapshot().folders;
    CHECK(std::any_of(folders.begin(), folders.end(),
                      [](const auto& f) { return f.second.name == "Ferneries"; }));
  }
}

TEST_CASE("A sheet that nobody edits follows a colleague; a machine that was removed can be kept anew",
          "[window][records]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  const Id id = bench.machineIds[0];
  window.editMachine(id);
  const auto other = colleague(bench);
  Machine theirs = other->load().machines.at(id);
  theirs.name = "mist-bench";
  other->commit("theirs", [&](StoreWriter& w) { w.put(theirs); });
  CHECK(shown([&] { return bench.child<QLineEdit>("machineName")->text() == "mist-bench"; }, 2000));
  other->commit("set", [&](StoreWriter& w) { w.set({OwnerKind::Machine, id}, "screen.fit", "fill"); });
  REQUIRE(shown(
      [&] {
        return window.desk().records().snapshot().resolve({OwnerKind::Machine, id}, "screen.fit").value ==
               "fill";
      },
      2000));
  typeInto(bench.child<QLineEdit>("machineName"), "mist-bench-2");
  other->commit("gone", [&](StoreWriter& w) { w.removeMachine(id); });
  REQUIRE(shown([&] { return !window.desk().records().snapshot().machines.contains(id); }, 2000));
  bench.child<QPushButton>("keep")->click();
  bench.child<QPushButton>("keep")->click();
  const Machine* made = window.desk().records().snapshot().machineNamed("mist-bench-2");
  REQUIRE(made != nullptr);
  CHECK(window.desk().records().snapshot().endpointsOf(made->id).size() == 1);
  const ResolvedSetting fit =
      window.desk().records().snapshot().resolve({OwnerKind::Machine, made->id}, "screen.fit");
  CHECK(fit.value == "fill");
  CHECK(fit.setHere);
}

TEST_CASE("Two hundred machines are edited together, with mixed values and one undo", "[window][records]") {
  WindowBench bench(1);
  bench.tools.store->commit("many", [&](StoreWriter& w) {
    for (int i = 0; i < 200; ++i) {
      Machine m;
      m.folder = bench.groupId, m.name = "bench-" + std::to_string(i), m.tags = i % 2 == 0 ? "old" : "";
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.11:" + std::to_string(5900 + i);
      w.put(e);
      if (i % 2 == 0) w.set({OwnerKind::Machine, m.id}, "screen.fit", "fill");
    }
  });
  MainWindow& window = bench.open();
  window.narrowField()->setText("bench-");
  QTest::keyClick(window.roster(), Qt::Key_A, Qt::ControlModifier);
  REQUIRE(window.roster()->chosen().size() == 200);
  window.action("together")->trigger();
  ManySheet* sheet = window.manySheet();
  REQUIRE(sheet->isVisible());
  toPage(sheet, "Screen");
  auto* fit = sheet->findChild<QComboBox*>("setting:screen.fit");
  CHECK(fit->currentIndex() == -1);
  CHECK(fit->placeholderText() == "mixed");
  CHECK(sheet->findChild<QPushButton*>("many:screen.fit")->text() == "set on 100 of 200");
  pick(fit, "One to one, moving about");
  typeInto(sheet->findChild<QLineEdit*>("manyGroup"), "Alder Vale / Orchard");
  typeInto(sheet->findChild<QLineEdit*>("manyAddTag"), "night");
  bench.child<QPushButton>("keepMany")->click();
  const Snapshot& s = window.desk().records().snapshot();
  int right = 0;
  for (const auto& [id, m] : s.machines)
    if (m.name.starts_with("bench-") && s.resolve({OwnerKind::Machine, id}, "screen.fit").value == "actual" &&
        s.pathOf(m.folder).back()->name == "Orchard" && m.tags.find("night") != std::string::npos)
      ++right;
  CHECK(right == 200);
  window.action("undo")->trigger();
  const Snapshot& back = window.desk().records().snapshot();
  CHECK(back.resolve({OwnerKind::Machine, back.machineNamed("bench-0")->id}, "screen.fit").value == "fill");
  CHECK(back.machineNamed("bench-0")->tags == "old");
  CHECK(back.pathOf(back.machineNamed("bench-1")->folder).back()->name == "Palm house");
  const Id first = back.machineNamed("bench-0")->id;
  // All of them inherit again.
  window.editMany(window.roster()->chosen());
  sheet->findChild<QPushButton*>("many:screen.fit")->click();
  CHECK(sheet->findChild<QPushButton*>("many:screen.fit")->text() == "inherited again by all");
  bench.child<QPushButton>("keepMany")->click();
  CHECK(window.desk().records().snapshot().resolve({OwnerKind::Machine, first}, "screen.fit").origin ==
        "built in");
}

TEST_CASE("Several machines are chosen by keys and clicks, and removed together", "[window][records]") {
  WindowBench bench(4);
  MainWindow& window = bench.open();
  RosterList* roster = window.roster();
  const auto click = [&](int i, Qt::KeyboardModifiers keys) {
    const QRectF row = roster->rowRect(bench.machineIds[static_cast<std::size_t>(i)]);
    QTest::mouseClick(roster->viewport(), Qt::LeftButton, keys, row.topLeft().toPoint() + QPoint(60, 12));
  };
  click(0, {});
  CHECK(roster->chosen().size() == 1);
  click(2, Qt::ShiftModifier);
  CHECK(roster->chosen().size() == 3);
  click(1, Qt::ControlModifier);
  CHECK(roster->chosen() == std::vector<Id>{bench.machineIds[0], bench.machineIds[2]});
  QTest::keyClick(roster, Qt::Key_Escape);
  CHECK(roster->chosen().size() == 1);
  roster->select(bench.machineIds[0]);
  QTest::keyClick(roster, Qt::Key_Down, Qt::ShiftModifier);
  QTest::keyClick(roster, Qt::Key_Down, Qt::ShiftModifier);
  CHECK(roster->chosen().size() == 3);
  QTest::keyClick(roster, Qt::Key_Up, Qt::ShiftModifier);
  CHECK(roster->chosen().size() == 2);
  QTest::keyClick(roster, Qt::Key_Delete);
  CHECK(window.desk().records().snapshot().machines.size() == 2);
  window.action("undo")->trigger();
  CHECK(window.desk().records().snapshot().machines.size() == 4);
}
