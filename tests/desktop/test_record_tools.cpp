// Pages that work with records: history, copies, own commands, first passwords, pasted rows.
#include "tests/desktop/record_pages.hpp"

using namespace kw;
using namespace kw::test;

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

TEST_CASE("The first password comes from the machine's host, and why it does not", "[window][credential]") {
  WindowBench bench(1);
  const std::string at = "cd " + bench.folder.path.string() + " && ";
  REQUIRE(std::system((at + "openssl genrsa -out key.pem 2048 2>/dev/null && printf Kf7-glass | "
                            "openssl pkeyutl -encrypt -inkey key.pem | base64 -w0 > blob")
                          .c_str()) == 0);
  const std::string script = (bench.folder.path / "host.sh").string();
  std::ofstream(script) << R"sh(cd "$(dirname "$0")"
case "$1 $2" in
"watch ") echo '{"machines":[{"id":"m1","name":"fern-store"}]}'; exec sleep 600;;
"first-password m1") [ -e ready ] && echo "{\"done\":true,\"sealed\":\"$(cat blob)\"}" ||
  echo '{"error":"it starts for the first time"}';;
esac)sh";
  Id machine = 0;
  bench.tools.store->commit("records", [&](StoreWriter& w) {
    HostRecord orchard;
    orchard.name = "orchard", orchard.address = "command:/bin/sh " + script;
    w.put(orchard);
    Machine m;
    m.folder = bench.groupId, m.name = "fern-store", m.host = "orchard";
    w.put(m);
    machine = m.id;
    w.set({OwnerKind::Machine, machine}, "host.id", "m1");
    Endpoint e;
    e.machine = machine, e.label = "shell", e.address = "ssh://duty@127.0.0.1";
    w.put(e);
  });
  MainWindow& window = bench.open();
  REQUIRE(shown([&] {
    const auto hosted = window.desk().hosts().of(machine);
    return hosted && hosted->hostLive;
  }));
  window.editMachine(machine);
  toPage(window.sheet(), "Sign-in");
  bench.child<QPushButton>("firstPassword")->click();
  auto* fetch = bench.child<QPushButton>("firstFromHost");
  CHECK(fetch->text().contains("orchard"));
  const auto says = [&](const QString& words) {
    for (const QLabel* label : window.sheet()->findChildren<QLabel*>())
      if (label->isVisible() && label->text().contains(words)) return true;
    return false;
  };
  fetch->click();
  CHECK(shown([&] { return says("starts for the first time") && fetch->isEnabled(); }));
  std::ofstream(bench.folder.path / "ready") << "yes";
  fetch->click();
  auto* blob = bench.child<QPlainTextEdit>("firstBlob");
  REQUIRE(shown([&] { return blob->toPlainText().size() > 300; }));
  bench.child<QLineEdit>("firstKey")
      ->setText(QString::fromStdString((bench.folder.path / "key.pem").string()));
  bench.child<QPushButton>("decryptFirst")->click();
  CHECK(bench.child<QLineEdit>("keptPassword")->text() == "Kf7-glass");
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
