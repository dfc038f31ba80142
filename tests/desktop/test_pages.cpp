// The pages of the stage: groups' sheets, the roster's grouping, colours, importing.
#include <QAccessible>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QTableWidget>
#include <fstream>

#include "base/file.hpp"
#include "desktop/look/glyphs.hpp"
#include "desktop/look/own_colours.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/pages/colours_view.hpp"
#include "desktop/pages/exchange_view.hpp"
#include "desktop/pages/import_view.hpp"
#include "desktop/pages/journal_view.hpp"
#include "desktop/roster/roster_accessible.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A group has a sheet: renamed, moved, its settings handed down, removed and brought back",
          "[window]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  window.roster()->select(bench.machineIds[0]);
  window.action("groupSheet")->trigger();
  CHECK(window.sheet()->editsFolder());
  auto* name = bench.child<QLineEdit>("machineName");
  name->setText("");
  CHECK_FALSE(bench.child<QPushButton>("keep")->isEnabled());
  name->setText("Orangery");
  SECTION("it is kept, with a setting that its machines inherit") {
    auto* pages = window.sheet()->findChild<QListWidget*>();
    for (int i = 0; i < pages->count(); ++i)
      if (pages->item(i)->text() == "Screen") pages->setCurrentRow(i);
    auto* fit = bench.child<QComboBox>("setting:screen.fit");
    fit->setCurrentIndex(2);
    emit fit->activated(2);
    bench.child<QPushButton>("keep")->click();
    CHECK(window.roster()->rows()[0].title == "Orangery");
    CHECK(window.roster()->rows()[0].folder == bench.groupId);
    const ResolvedSetting r =
        window.desk().records().snapshot().resolve({OwnerKind::Machine, bench.machineIds[0]}, "screen.fit");
    CHECK(r.value == "actual");
    CHECK(r.origin == "from group Orangery");
    window.editMachine(bench.machineIds[0]);
    CHECK_FALSE(window.sheet()->editsFolder());
    CHECK(bench.child<QLineEdit>("machineName")->text() == "palm-house-01");
    window.showStage();
    window.action("undo")->trigger();
    CHECK(window.roster()->rows()[0].title == "Palm house");
  }
  SECTION("it cannot be put inside itself; elsewhere it can") {
    auto* in = bench.child<QComboBox>("machineGroup");
    in->setCurrentText("Alder Vale / Palm house");
    CHECK(bench.child<QPushButton>("keep")->toolTip().contains("inside itself"));
    in->setCurrentText("Seed house");
    bench.child<QPushButton>("keep")->click();
    const auto path = window.desk().records().snapshot().pathOf(bench.groupId);
    REQUIRE(path.size() == 2);
    CHECK(path[0]->name == "Seed house");
  }
  SECTION("a new group begins inside it") {
    emit window.roster()->newGroupWanted(bench.groupId);
    bench.child<QLineEdit>("machineName")->setText("Ferns");
    bench.child<QPushButton>("keep")->click();
    const Snapshot& s = window.desk().records().snapshot();
    const auto made = std::find_if(s.folders.begin(), s.folders.end(),
                                   [](const auto& f) { return f.second.name == "Ferns"; });
    REQUIRE(made != s.folders.end());
    CHECK(made->second.parent == bench.groupId);
  }
  SECTION("removed with its machines, and brought back") {
    window.removeGroup(bench.groupId);
    CHECK(window.roster()->rows().empty());
    window.action("undo")->trigger();
    CHECK(window.desk().records().snapshot().machines.size() == 2);
  }
  SECTION("a new machine begins in it") {
    emit window.roster()->newMachineWanted(bench.groupId);
    CHECK(bench.child<QComboBox>("machineGroup")->currentText() == "Alder Vale / Palm house");
  }
}

TEST_CASE("Grouped by state, a machine moves when it stands otherwise; every row can be read aloud",
          "[window]") {
  installRosterAccessibility();
  WindowBench bench(2);
  MainWindow& window = bench.open();
  std::map<Id, State> states{{bench.machineIds[0], State::Answering},
                             {bench.machineIds[1], State::NeverReached}};
  window.roster()->setNow([&](const Machine& m) { return MachineNow{states[m.id], "as the test says", {}}; });
  window.roster()->setGroupBy(GroupBy::State);
  const auto headings = [&] {
    QStringList out;
    for (const RosterRow& r : window.roster()->rows())
      if (r.heading) out << QString::fromStdString(r.title);
    return out;
  };
  CHECK(headings() == QStringList{wordsFor(State::Answering), wordsFor(State::NeverReached)});
  states[bench.machineIds[1]] = State::Trouble;
  window.roster()->statesChanged();
  CHECK(shown([&] {
    return headings() == QStringList{wordsFor(State::Trouble), wordsFor(State::Answering)};
  }));

  QAccessibleInterface* list = QAccessible::queryAccessibleInterface(window.roster());
  REQUIRE(list != nullptr);
  REQUIRE(list->childCount() == 4);
  CHECK(list->child(0)->role() == QAccessible::Heading);
  CHECK(list->child(0)->text(QAccessible::Name).startsWith(wordsFor(State::Trouble)));
  CHECK(list->child(1)->text(QAccessible::Name).startsWith("palm-house-02, " + wordsFor(State::Trouble)));
  CHECK(list->child(1)->text(QAccessible::Name).endsWith("vnc"));
  window.roster()->select(bench.machineIds[0]);
  CHECK(list->child(3)->state().selected);
  CHECK_FALSE(list->child(1)->state().selected);
  CHECK(list->childAt(list->child(3)->rect().center().x(), list->child(3)->rect().center().y()) ==
        list->child(3));
  CHECK(list->indexOfChild(list->child(3)) == 3);
}

TEST_CASE("The roster's mark follows the sheet that is edited, and the pane when that is put away",
          "[window]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  bench.openLive(0);
  window.editMachine(bench.machineIds[1]);
  CHECK(window.roster()->selected() == bench.machineIds[1]);
  // A session's news leave it there, and looking about in the roster is no change of the sheet.
  emit window.stage()->focusChanged();
  CHECK(window.roster()->selected() == bench.machineIds[1]);
  window.roster()->setFocus();
  window.roster()->select(bench.machineIds[0]);
  CHECK(window.roster()->selected() == bench.machineIds[0]);
  auto* name = bench.child<QLineEdit>("machineName");
  REQUIRE(name != nullptr);
  name->setFocus();
  CHECK(shown([&] { return window.roster()->selected() == bench.machineIds[1]; }));
  window.showStage();
  CHECK(window.roster()->selected() == bench.machineIds[0]);
}

TEST_CASE("The journal has one row a visit, with its troubles folded under it, and opens logs that are there",
          "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  const std::string log = (bench.folder.path / "mist-bench.log").string();
  const std::string gone = (bench.folder.path / "gone.log").string();
  std::ofstream(log) << "Alder Vale is quiet\n";
  Store& store = window.desk().records().store();
  store.journal({"mist-bench", "vnc://127.0.0.11:5907", Told::Opened, "one"});
  store.journal({"fernery", "ssh://127.0.0.11", Told::Opened, "two"});
  store.journal({"mist-bench", log, Told::Log, "one"});
  store.journal({"fernery", gone, Told::Log, "two"});
  store.journal({"fernery", "the line fell silent", Told::Trouble, "two"});
  store.journal({"fernery", "closed", Told::Ended, "two"});
  store.journal({"seed-bank", "start asked of fernery"});
  window.showJournal();
  auto* journal = window.findChild<JournalView*>();
  REQUIRE(journal != nullptr);
  QTreeWidget* list = journal->list();
  REQUIRE(list->topLevelItemCount() == 3);
  const auto cell = [&](int row, int column) { return list->topLevelItem(row)->text(column).toStdString(); };
  CHECK(cell(0, JournalView::Machine) == "seed-bank");
  CHECK(cell(0, JournalView::What) == "start asked of fernery");
  CHECK(cell(0, JournalView::Ended).empty());
  CHECK(cell(1, JournalView::Machine) == "fernery");
  CHECK(cell(1, JournalView::What) == "ssh://127.0.0.11");
  CHECK(cell(1, JournalView::Ended) == "closed · one trouble");
  CHECK(cell(1, JournalView::HowLong).ends_with(" s"));
  CHECK_FALSE(cell(1, JournalView::Who).empty());
  REQUIRE(list->topLevelItem(1)->childCount() == 1);
  CHECK(list->topLevelItem(1)->child(0)->text(0).endsWith("the line fell silent"));
  CHECK(cell(2, JournalView::Ended) == "no end was written");
  CHECK(cell(2, JournalView::HowLong).empty());
  CHECK(list->isVisible());
  // A log is shown by its name and opens when it is there.
  CHECK(cell(2, JournalView::Log) == "mist-bench.log");
  CHECK(list->topLevelItem(2)->font(JournalView::Log).underline());
  CHECK(list->topLevelItem(1)->toolTip(JournalView::Log).contains("no longer there"));
  QStringList wanted;
  QObject::connect(journal, &JournalView::logWanted, journal, [&](const QString& f) { wanted << f; });
  for (int row = 0; row < 3; ++row) emit list->itemActivated(list->topLevelItem(row), 0);
  CHECK(wanted == QStringList{QString::fromStdString(log)});
  std::filesystem::remove(log);  // meanwhile
  emit list->itemActivated(list->topLevelItem(2), 0);
  CHECK(wanted.size() == 1);
  // Narrowed, also by what is folded, and what happens while one looks is added.
  auto* narrow = bench.child<QLineEdit>("narrowJournal");
  narrow->setText("SILENT");
  CHECK(list->topLevelItem(0)->isHidden());
  CHECK_FALSE(list->topLevelItem(1)->isHidden());
  list->topLevelItem(1)->setExpanded(true);
  list->setCurrentItem(list->topLevelItem(1));
  OpenSession* opened = window.desk().openAddress("vnc://127.0.0.1:1");
  REQUIRE(opened != nullptr);
  CHECK(list->topLevelItemCount() == 4);
  CHECK(list->topLevelItem(0)->isHidden());
  CHECK(list->topLevelItem(2)->isExpanded());
  CHECK(list->currentItem() == list->topLevelItem(2));
  CHECK(cell(0, JournalView::Ended).starts_with("open now"));
  REQUIRE(shown([&] { return list->topLevelItem(0)->childCount() == 1; }));  // nobody listens there
  CHECK(cell(0, JournalView::Ended) == "open now · one trouble");
  narrow->setText("nobody");
  CHECK_FALSE(list->isVisible());
  narrow->clear();
  CHECK_FALSE(list->topLevelItem(0)->isHidden());
  window.endSession(opened);
  REQUIRE(shown([&] { return !cell(0, JournalView::HowLong).empty(); }));
  CHECK(list->topLevelItemCount() == 4);
  window.showJournal();  // again: the same page, filled anew
  CHECK(window.findChildren<JournalView*>().size() == 1);
}

namespace {

QLineEdit* field(ColoursView* page, const QString& part) {
  return page->findChild<QLineEdit*>("colour:" + part);
}

void typeColour(ColoursView* page, const QString& part, const QString& value) {
  QLineEdit* e = field(page, part);
  REQUIRE(e != nullptr);
  e->selectAll();
  QTest::keyClicks(e, value);
}

}  // namespace

TEST_CASE("Own text colours: made from a shipped scheme, kept on disk, chosen in records, put back",
          "[colours]") {
  WindowBench bench(1);
  OwnColours::all().load();
  MainWindow& window = bench.open();
  window.action("colours")->trigger();
  ColoursView* page = window.colours();
  page->choose("Fern", false);
  CHECK(field(page, "ground")->isReadOnly());
  page->findChild<QPushButton*>("copyScheme")->click();
  REQUIRE(OwnColours::all().text.size() == 1);
  CHECK(OwnColours::all().text[0].name == "My Fern");
  auto* name = page->findChild<QLineEdit*>("schemeName");
  name->setText("Night round");
  emit name->editingFinished();
  typeColour(page, "ground", "#101820");
  typeColour(page, "bright blue", "#80c0ff");
  typeColour(page, "text", "nonsense");  // not a colour: what was stays
  const TextScheme made = textScheme("own:Night round");
  CHECK(made.ground == QColor("#101820"));
  CHECK(made.named[12] == QColor("#80c0ff"));
  CHECK(made.text == textScheme("fern").text);

  OwnColours::all().load();  // as the next start finds it
  REQUIRE(OwnColours::all().text.size() == 1);
  CHECK(OwnColours::all().text[0].name == "Night round");
  CHECK(OwnColours::all().text[0].ground == QColor("#101820"));
  CHECK(problemWith(*findSetting("text.scheme"), "own:Night round").empty());
  CHECK_FALSE(problemWith(*findSetting("text.scheme"), "night").empty());

  page->findChild<QPushButton*>("removeScheme")->click();
  CHECK(OwnColours::all().text.empty());
  CHECK(textScheme("own:Night round").ground == textSchemes().front().ground);  // a record that outlives it
  for (QPushButton* b : page->findChildren<QPushButton*>())
    if (b->text().contains("Night round")) b->click();
  CHECK(OwnColours::all().text.size() == 1);
}

TEST_CASE("Own window colours are used at once and at the next start; weak contrast is told", "[colours]") {
  WindowBench bench(1);
  OwnColours::all().load();
  MainWindow& window = bench.open();
  window.showColours();
  ColoursView* page = window.colours();
  page->choose("Morning", true);
  page->findChild<QPushButton*>("copyScheme")->click();
  typeColour(page, "ground", "#ffffee");
  window.useOwnScheme("My Morning");
  CHECK(scheme().ground == QColor("#ffffee"));
  CHECK(schemeChoice() == SchemeChoice::Own);
  typeColour(page, "ground", "#ddddee");  // in use: the window follows
  CHECK(scheme().ground == QColor("#ddddee"));
  const auto remark = [&] {
    for (QLabel* l : page->findChildren<QLabel*>())
      if (l->text().contains("4.5:1")) return l->text();
    return QString();
  };
  typeColour(page, "text", "#bbbbcc");
  CHECK(remark().startsWith("Hard to read"));
  applyScheme(*qApp, SchemeChoice::Evening);
}

TEST_CASE("A broken file of colours is put aside, not written over", "[colours]") {
  WindowBench bench(1);
  const auto file = configFolder() / "colours.json";
  std::filesystem::create_directories(configFolder());
  std::ofstream(file) << "{ not json";
  OwnColours own;
  own.load();
  CHECK(own.text.empty());
  own.text.push_back(textSchemes()[2]);
  own.text.back().name = "Mine";
  own.save();
  CHECK(textOf(readFile(file.string() + ".broken")) == "{ not json");
  own.load();
  CHECK(own.text.size() == 1);
}

TEST_CASE("Hosts of an SSH configuration become machines, in one step that can be undone", "[window]") {
  WindowBench bench(1);
  std::ofstream(bench.folder.path / "ssh_config") << R"(
Host gatehouse
  HostName 10.8.0.4
  User duty
  IdentityFile /keys/duty
Host mist-bench
  HostName 10.8.0.31
  ProxyJump gatehouse
Host palm-house-01
  HostName 10.8.0.40
Host *.lan
  User somebody
)";
  MainWindow& window = bench.open();
  window.action("importSsh")->trigger();
  ImportView* page = window.importView();
  page->setFile(QString::fromStdString((bench.folder.path / "ssh_config").string()));
  QTableWidget* table = page->table();
  REQUIRE(table->rowCount() == 3);
  CHECK(table->item(0, 1)->text() == "ssh://duty@10.8.0.4:22");
  CHECK(table->item(1, 2)->text() == "gatehouse");
  CHECK(table->item(2, 1)->text().contains("there already"));
  CHECK_FALSE(table->item(2, 0)->flags() & Qt::ItemIsUserCheckable);
  auto* button = page->findChild<QPushButton*>("importHosts");
  table->item(0, 0)->setCheckState(Qt::Unchecked);
  table->item(1, 0)->setCheckState(Qt::Unchecked);
  CHECK_FALSE(button->isEnabled());
  table->item(0, 0)->setCheckState(Qt::Checked);
  table->item(1, 0)->setCheckState(Qt::Checked);
  button->click();
  const auto& snapshot = window.desk().records().snapshot();
  const Machine* mist = snapshot.machineNamed("mist-bench");
  REQUIRE(mist != nullptr);
  CHECK(snapshot.resolve({OwnerKind::Machine, mist->id}, "route.via").value == "gatehouse");
  CHECK(snapshot.pathOf(mist->folder).front()->name == "SSH hosts");
  CHECK_FALSE(button->isEnabled());  // all are there now
  window.action("undo")->trigger();
  CHECK(window.desk().records().snapshot().machineNamed("mist-bench") == nullptr);
  page->setFile("/nowhere/at/all");
  CHECK(table->rowCount() == 0);
}

TEST_CASE("Machines from files: previewed, chosen for each row, kept in one undo; one opened once",
          "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  const auto file = [&](const std::string& name, const std::string& text) {
    std::ofstream(bench.folder.path / name) << text;
    return QString::fromStdString((bench.folder.path / name).string());
  };
  const QString table = file("list.csv",
                             "name,group,address\npalm-house-01,Alder Vale/Palm "
                             "house,vnc://127.0.0.12:5999\nseed-bank,,rdp://curator@127.0.0.23\n");
  const QString broken = file("broken.rdp", "username:s:nobody\n");
  window.importFiles({table, broken});
  ExchangeView* page = window.exchangeView();
  REQUIRE(page->table()->rowCount() == 2);
  CHECK(window.desk().records().snapshot().machines.size() == 1);
  CHECK(bench.child<QPushButton>("importFiles")->text().contains("1"));  // the clash is left alone at first
  auto* choice = qobject_cast<QComboBox*>(page->table()->cellWidget(0, 0));
  REQUIRE(choice != nullptr);
  choice->setCurrentIndex(choice->findText("replace"));
  bench.child<QPushButton>("importFiles")->click();
  const Snapshot* s = &window.desk().records().snapshot();
  CHECK(s->machines.size() == 2);
  CHECK(s->endpointsOf(bench.machineIds[0])[0]->address == "vnc://127.0.0.12:5999");
  CHECK_FALSE(bench.child<QPushButton>("importFiles")->isEnabled());  // the same is there now
  window.action("undo")->trigger();
  s = &window.desk().records().snapshot();
  CHECK(s->machines.size() == 1);
  CHECK(s->endpointsOf(bench.machineIds[0])[0]->address != "vnc://127.0.0.12:5999");

  const QString once = file(
      "once.vv", "[console]\ntype=vnc\nhost=127.0.0.1\nport=" + std::to_string(bench.consoles[0]->port()) +
                     "\ntitle=palm house\ndelete-this-file=1\n");
  window.openMachine(once);
  OpenSession* session = window.stage()->focusedSession();
  REQUIRE(session != nullptr);
  CHECK(shown([&] { return session->isLive(); }));
  CHECK(session->endpoint() == 0);
  CHECK_FALSE(QFileInfo(once).exists());
  CHECK(window.desk().records().snapshot().machines.size() == 1);
}
