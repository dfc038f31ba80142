// What people do with records: credentials, colleagues' changes, history, several at once, templates,
// commands.
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPlainTextEdit>
#include <QScrollBar>
#include <QTableWidget>
#include <fstream>

#include "base/file.hpp"
#include "desktop/pages/exchange_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/record/history_view.hpp"
#include "desktop/record/many_sheet.hpp"
#include "desktop/record/merge_view.hpp"
#include "desktop/record/own_commands.hpp"
#include "desktop/record/setting_editor.hpp"
#include "route/sign_in_source.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// A second program on the same records.
std::unique_ptr<Store> colleague(WindowBench& bench) {
  return openSqliteStore(bench.folder.path / "records.sqlite");
}

void toPage(QWidget* sheet, const QString& name) {
  auto* pages = sheet->findChild<QListWidget*>();
  const auto found = pages->findItems(name, Qt::MatchExactly);
  REQUIRE(found.size() == 1);
  pages->setCurrentItem(found.first());
}

void pick(QComboBox* box, const QString& text) {
  const int at = box->findText(text);
  REQUIRE(at >= 0);
  box->setCurrentIndex(at);
  emit box->activated(at);
}

void typeInto(QLineEdit* edit, const QString& text) {
  edit->clear();
  QTest::keyClicks(edit, text);
}

const Machine& machineOf(MainWindow& window, Id id) {
  return window.desk().records().snapshot().machines.at(id);
}

}  // namespace

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

TEST_CASE("History says who changed what, and puts it back", "[window][records]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  const Id id = bench.machineIds[0];
  Machine m = machineOf(window, id);
  m.notes = "valve B sticks";
  window.desk().records().commit("change notes", [&](StoreWriter& w) { w.put(m); });
  window.roster()->select(id);
  window.action("history")->trigger();
  HistoryView* history = window.history();
  REQUIRE(history->table()->rowCount() == 2);
  CHECK(history->table()->item(0, 2)->text() == "change notes");
  CHECK_FALSE(history->table()->item(0, 1)->text().isEmpty());
  REQUIRE(history->details()->rowCount() == 1);
  CHECK(history->details()->item(0, 2)->text() == "valve B sticks");
  bench.child<QPushButton>("restoreChange")->click();
  CHECK(machineOf(window, id).notes.empty());
  CHECK(history->table()->rowCount() == 3);
  window.action("undo")->trigger();
  CHECK(machineOf(window, id).notes == "valve B sticks");
}

TEST_CASE("Copies, templates and favourites", "[window][records]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  window.roster()->select(bench.machineIds[0]);
  window.desk().records().commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.endpoints[0]}, "screen.fit", "fill");
    w.set({OwnerKind::Machine, bench.machineIds[1]}, "look.template", "on");
  });
  window.action("duplicate")->trigger();
  const Snapshot& s = window.desk().records().snapshot();
  const Machine* copy = s.machineNamed("palm-house-01 2");
  REQUIRE(copy != nullptr);
  REQUIRE(s.endpointsOf(copy->id).size() == 1);
  CHECK(s.resolve({OwnerKind::WayIn, s.endpointsOf(copy->id)[0]->id}, "screen.fit").value == "fill");
  CHECK(window.roster()->selected() == copy->id);
  CHECK(window.roster()->rows().back().machine == bench.machineIds[1]);  // among the templates, at the end
  QMenu templates;
  window.fillTemplates(&templates);
  REQUIRE(templates.actions().size() == 1);
  templates.actions()[0]->trigger();
  const Machine* made = window.desk().records().snapshot().machineNamed("palm-house-02 2");
  REQUIRE(made != nullptr);
  CHECK(window.desk().records().snapshot().resolve({OwnerKind::Machine, made->id}, "look.template").value ==
        "off");
  window.showStage();
  window.roster()->select(bench.machineIds[0]);
  window.action("favourite")->trigger();
  CHECK(window.roster()->rows()[0].title == "Favourites");
  CHECK(window.roster()->rows()[1].machine == bench.machineIds[0]);
  CHECK(window.action("favourite")->isChecked());
  window.action("favourite")->trigger();
  CHECK(window.roster()->rows()[0].title != "Favourites");
}

TEST_CASE("Own commands run without a shell, once somebody agreed; a failing one keeps a machine shut",
          "[window][records]") {
  WindowBench bench(1);
  const std::string note = (bench.folder.path / "note").string();
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, bench.machineIds[0]}, "commands.own",
          "Note = cp /dev/null " + note + "-{name};; Fail = false");
    w.set({OwnerKind::Machine, bench.machineIds[0]}, "commands.before", "test -e " + note + "-ready");
    w.set({OwnerKind::Machine, bench.machineIds[0]}, "commands.after", "cp /dev/null " + note + "-after");
  });
  MainWindow& window = bench.open();
  int asked = 0;
  bool answer = false;
  window.ownCommands()->ask = [&](const QString&) { return ++asked, answer; };
  QMenu menu;
  window.fillOwnCommands(&menu, bench.machineIds[0]);
  REQUIRE(menu.actions().size() == 2);
  menu.actions()[0]->trigger();
  CHECK(asked == 1);
  CHECK_FALSE(std::filesystem::exists(note + "-palm-house-01"));
  answer = true;
  menu.actions()[0]->trigger();
  CHECK(shown([&] { return std::filesystem::exists(note + "-palm-house-01"); }));
  menu.actions()[0]->trigger();
  CHECK(asked == 2);  // agreed to for later, too
  window.openEndpoint(bench.endpoints[0]);
  CHECK(shown([&] { return asked == 3; }));
  QTest::qWait(1);
  CHECK(window.desk().sessionOf(bench.endpoints[0]) == nullptr);
  std::ofstream(note + "-ready") << "x";
  window.openEndpoint(bench.endpoints[0]);
  REQUIRE(shown([&] {
    OpenSession* s = window.desk().sessionOf(bench.endpoints[0]);
    return s != nullptr && s->isLive();
  }));
  window.endSession(window.desk().sessionOf(bench.endpoints[0]));
  CHECK(shown([&] { return std::filesystem::exists(note + "-after"); }));
}

TEST_CASE("A first password goes from the cloud's text into the record", "[window][records]") {
  WindowBench bench(1);
  const std::string at = "cd " + bench.folder.path.string() + " && ";
  REQUIRE(
      std::system(
          (at + "openssl genrsa -out key.pem 2048 2>/dev/null && printf Kf7-glass | openssl pkeyutl -encrypt "
                "-inkey key.pem -pkeyopt rsa_padding_mode:oaep | base64 > blob")
              .c_str()) == 0);
  MainWindow& window = bench.open();
  window.editMachine(0, "ssh://duty@127.0.0.1");
  typeInto(bench.child<QLineEdit>("machineName"), "fern-store");
  bench.child<QPushButton>("keep")->click();
  toPage(window.sheet(), "Sign-in");
  bench.child<QPushButton>("firstPassword")->click();
  bench.child<QPlainTextEdit>("firstBlob")->setPlainText("nonsense!");
  bench.child<QLineEdit>("firstKey")
      ->setText(QString::fromStdString((bench.folder.path / "key.pem").string()));
  bench.child<QPushButton>("decryptFirst")->click();
  CHECK(bench.child<QLineEdit>("keptPassword")->text().isEmpty());
  bench.child<QPlainTextEdit>("firstBlob")
      ->setPlainText(QString::fromStdString(textOf(readFile(bench.folder.path / "blob"))));
  bench.child<QPushButton>("decryptFirst")->click();
  bench.child<QPushButton>("keep")->click();
  const Snapshot& s = window.desk().records().snapshot();
  const auto kept =
      keptSignIn(bench.tools, {OwnerKind::WayIn, s.endpointsOf(s.machineNamed("fern-store")->id)[0]->id});
  REQUIRE(kept.has_value());
  CHECK(kept->password == "Kf7-glass");
}

TEST_CASE("Rows of a spreadsheet are pasted into the roster; columns are said by hand and remembered",
          "[window][records]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  QApplication::clipboard()->setText("Bezeichnung\tNetz\tBem.\nfern-store\t127.0.0.11:5911\tvalve\n");
  window.roster()->setFocus();
  QTest::keyClick(window.roster(), Qt::Key_V, Qt::ControlModifier);
  ExchangeView* view = window.exchangeView();
  REQUIRE(view != nullptr);
  CHECK(view->table()->rowCount() == 0);
  pick(view->findChild<QComboBox*>("column:name"), "Bezeichnung");
  CHECK(shown([&] { return view->findChild<QComboBox*>("column:name") != nullptr; }));
  QTest::qWait(1);
  pick(view->findChild<QComboBox*>("column:address"), "Netz");
  REQUIRE(shown([&] { return view->table()->rowCount() == 1; }));
  bench.child<QPushButton>("importFiles")->click();
  REQUIRE(window.desk().records().snapshot().machineNamed("fern-store") != nullptr);
  // The same headings later need nothing said.
  view->showCells("Bezeichnung\tNetz\tBem.\nseed-bank\t127.0.0.11:5912\t\n");
  CHECK(view->table()->rowCount() == 1);
  CHECK(view->table()->item(0, 1)->text() == "seed-bank");
}

TEST_CASE("A command for a password runs only after somebody at this desk agreed to it",
          "[window][records]") {
  WindowBench bench(1, "orchid");
  const std::string mark = (bench.folder.path / "ran").string();
  const std::string command = "sh -c \"touch " + mark + "; echo orchid\"";
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, bench.machineIds[0]}, "signin.from", "command");
    w.set({OwnerKind::Machine, bench.machineIds[0]}, "signin.command", command);
  });
  MainWindow& window = bench.open();
  bool answer = false;
  QString shownCommand;
  window.ownCommands()->ask = [&](const QString& c) {
    shownCommand = c;
    return answer;
  };
  window.openEndpoint(bench.endpoints[0]);
  CHECK(shownCommand.toStdString() == command);
  CHECK(window.desk().sessionOf(bench.endpoints[0]) == nullptr);
  // By any other way it is refused, too.
  CHECK(window.desk().open(bench.endpoints[0]) == nullptr);
  CHECK_FALSE(std::filesystem::exists(mark));
  answer = true;
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* session = window.desk().sessionOf(bench.endpoints[0]);
  REQUIRE(session != nullptr);
  CHECK(shown([&] { return session->isLive(); }));
  CHECK_FALSE(session->question().has_value());
  CHECK(std::filesystem::exists(mark));
}

TEST_CASE("No setting's choice is cut off in its box, and no label in its lines", "[window]") {
  WindowBench bench(1);
  bench.open();
  QWidget page(bench.window.get());
  const Snapshot& records = bench.desk->records().snapshot();
  int boxes = 0;
  for (const Setting& s : allSettings()) {
    CAPTURE(s.key);
    const SettingEditor editor = makeSettingEditor(s, records, s.standard, &page, [](const std::string&) {});
    editor.widget->ensurePolished();
    QLabel* label = makeSettingLabel(s, &page);
    label->ensurePolished();
    for (const QString& word : label->text().split(' '))
      CHECK(label->fontMetrics().horizontalAdvance(word) <= label->width());
    auto* box = qobject_cast<QComboBox*>(editor.widget);
    if (box == nullptr || s.choices.empty()) continue;
    ++boxes;
    QStyleOptionComboBox option;
    option.initFrom(box);
    option.rect = QRect(0, 0, box->width(), box->sizeHint().height());
    option.subControls = QStyle::SC_All;
    const int room =
        box->style()->subControlRect(QStyle::CC_ComboBox, &option, QStyle::SC_ComboBoxEditField, box).width();
    CHECK(room > 100);
    for (const SettingChoice& c : s.choices)
      CHECK(std::pair(std::string(c.label), box->fontMetrics().horizontalAdvance(c.label) <= room) ==
            std::pair(std::string(c.label), true));
  }
  CHECK(boxes > 20);
}
