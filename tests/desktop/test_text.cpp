// Text panes and files of the real window, driven by real key and mouse events.
#include <QClipboard>
#include <QDropEvent>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QScrollBar>
#include <QTableWidget>
#include <QTreeView>
#include <QTreeWidget>
#include <atomic>
#include <fstream>
#include <iostream>

#include "desktop/files/files_panel.hpp"
#include "desktop/pages/trust_view.hpp"
#include "desktop/text/text_view.hpp"
#include "lab/ssh_server.hpp"
#include "lab/text_service.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// Says back what comes, and a program of its own says what the test wants.
class Parrot : public lab::Appliance {
 public:
  struct Wire {
    std::mutex lock;
    std::string toSay, heard;
    int breaks = 0;
  };
  explicit Parrot(std::shared_ptr<Wire> wire) : wire_(std::move(wire)) {}
  std::string take(const std::string& bytes, Time) override {
    const std::lock_guard held(wire_->lock);
    wire_->heard += bytes;
    return bytes;
  }
  std::string advance(Time) override {
    const std::lock_guard held(wire_->lock);
    return std::exchange(wire_->toSay, {});
  }
  void breakSeen(Time) override {
    const std::lock_guard held(wire_->lock);
    ++wire_->breaks;
  }

 private:
  std::shared_ptr<Wire> wire_;
};

class TextBench : public WindowBench {
 public:
  using Kind = lab::TextServicePlan::Kind;
  explicit TextBench(Kind kind = Kind::Telnet, std::map<std::string, std::string> settings = {})
      : WindowBench(0) {
    lab::TextServicePlan plan;
    plan.kind = kind;
    plan.make = [w = wire] { return std::make_unique<Parrot>(w); };
    service = std::make_unique<lab::TextService>(runtime.strand(), systemClock(), plan);
    service->start();
    const std::string scheme = kind == Kind::Telnet ? "telnet" : "telnet+serial";
    tools.store->commit("line", [&](StoreWriter& w) {
      Machine m;
      m.folder = groupId, m.name = "weather-mast";
      w.put(m);
      machineIds.push_back(m.id);
      Endpoint e;
      e.machine = m.id, e.label = "line",
      e.address = scheme + "://127.0.0.1:" + std::to_string(service->port());
      w.put(e);
      endpoints.push_back(e.id);
      for (const auto& [key, value] : settings) w.set({OwnerKind::WayIn, e.id}, key, value);
    });
  }
  OpenSession* openLine() {
    open();
    window->openEndpoint(endpoints.back());
    OpenSession* s = window->stage()->sessionOf(endpoints.back());
    REQUIRE(s != nullptr);
    REQUIRE(shown([&] { return s->isLive(); }));
    REQUIRE(text()->isVisible());
    text()->canvas()->setFocus();
    return s;
  }
  TextView* text() { return window->stage()->focusedPane()->textView(); }
  TextCanvas* canvas() { return text()->canvas(); }
  void say(const std::string& s) {
    const std::lock_guard held(wire->lock);
    wire->toSay += s;
  }
  std::string heard() {
    const std::lock_guard held(wire->lock);
    return wire->heard;
  }
  bool screenShows(const std::string& wanted) {
    const bool yes = shown([&] { return terminal().screenText().find(wanted) != std::string::npos; });
    canvas()->takeText();
    return yes;
  }
  text::Terminal& terminal() { return window->stage()->focusedSession()->text()->terminal(); }
  /// The middle of a cell of the screen.
  QPoint at(int row, int column) {
    TextPainter painter;
    const QSize cell = painter.cell();
    return {4 + column * cell.width() + cell.width() / 2, 4 + row * cell.height() + cell.height() / 2};
  }
  std::shared_ptr<Parrot::Wire> wire = std::make_shared<Parrot::Wire>();
  std::unique_ptr<lab::TextService> service;
};

}  // namespace

TEST_CASE("Keys typed into a text pane go over the line, also those that are shortcuts here",
          "[text-window]") {
  TextBench bench;
  bench.openLine();
  QTest::keyClicks(bench.canvas(), "zones");
  QTest::keyClick(bench.canvas(), Qt::Key_Return);
  CHECK(bench.screenShows("zones"));
  QTest::keyClick(bench.canvas(), Qt::Key_W, Qt::ControlModifier);  // would end the session
  QTest::keyClick(bench.canvas(), Qt::Key_Up);
  QTest::keyClick(bench.canvas(), Qt::Key_Tab);
  CHECK(shown([&] { return bench.heard() == "zones\r\x17\x1b[A\t"; }));
  CHECK(bench.canvas()->hasFocus());
}

TEST_CASE("A line that comes into a larger pane, which showed something else, gets its columns",
          "[text-window]") {
  TextBench bench;
  OpenSession* s = bench.openLine();
  bench.window->resize(1280, 800);
  bench.window->stage()->arrange(4);
  for (const char* port : {"1", "2", "3"}) bench.window->openAddress(QString("vnc://127.0.0.1:") + port);
  const auto columns = [&] { return s->text()->terminal().screen().columns; };
  bench.window->stage()->show(s);
  REQUIRE(shown([&] { return columns() < 60; }));
  bench.window->openAddress("vnc://127.0.0.1:4");  // takes the pane in focus
  bench.window->stage()->arrange(1);
  bench.window->stage()->show(s);
  CHECK(shown([&] { return columns() > 60; }));
}

TEST_CASE("Only looking: nothing typed goes out", "[text-window]") {
  TextBench bench;
  OpenSession* s = bench.openLine();
  s->setViewOnly(true);
  QTest::keyClicks(bench.canvas(), "abc");
  bench.text()->paste("def");
  s->setViewOnly(false);
  QTest::keyClicks(bench.canvas(), "x");
  CHECK(shown([&] { return bench.heard() == "x"; }));
}

TEST_CASE("What is painted changes with the text, and with the colours chosen", "[text-window]") {
  TextBench bench;
  OpenSession* s = bench.openLine();
  bench.say("\x1b[41mred ground\x1b[0m");
  REQUIRE(bench.screenShows("red ground"));
  const QImage evening = bench.canvas()->image();
  const QPoint edge = bench.at(0, 9) + QPoint(0, 8);
  CHECK(QColor(evening.pixel(edge)) == textSchemes()[0].named[1]);
  s->textSchemeKey = "paper";
  bench.canvas()->applyLook();
  const QImage paper = bench.canvas()->image();
  CHECK(QColor(paper.pixel(edge)) == textScheme("paper").named[1]);
  CHECK(QColor(paper.pixel(bench.at(5, 5))) == textScheme("paper").ground);
  s->textGround = "#102030";
  bench.canvas()->applyLook();
  CHECK(QColor(bench.canvas()->image().pixel(bench.at(5, 5))) == QColor("#102030"));
}

TEST_CASE("Text is chosen by characters, words, lines and blocks, and copied", "[text-window]") {
  TextBench bench;
  bench.openLine();
  bench.say("valve one open\r\nvalve two shut\r\n");
  REQUIRE(bench.screenShows("two shut"));
  TextCanvas* c = bench.canvas();
  QTest::mousePress(c, Qt::LeftButton, {}, bench.at(0, 6));
  QTest::mouseMove(c, bench.at(1, 4));
  QTest::mouseRelease(c, Qt::LeftButton, {}, bench.at(1, 4));
  CHECK(c->selectedText() == "one open\nvalve");
  QTest::mouseDClick(c, Qt::LeftButton, {}, bench.at(1, 7));
  CHECK(c->selectedText() == "two");
  QTest::mouseDClick(c, Qt::LeftButton, {}, bench.at(1, 7));
  QTest::mouseClick(c, Qt::LeftButton, {}, bench.at(1, 7));
  CHECK(c->selectedText() == "valve two shut");
  QTest::mousePress(c, Qt::LeftButton, Qt::AltModifier, bench.at(0, 6));
  QTest::mouseMove(c, bench.at(1, 8));
  QTest::mouseRelease(c, Qt::LeftButton, Qt::AltModifier, bench.at(1, 8));
  CHECK(c->selectedText() == "one\ntwo");
  QTest::keyClick(c, Qt::Key_C, Qt::ControlModifier | Qt::ShiftModifier);
  CHECK(QApplication::clipboard()->text() == "one\ntwo");
}

TEST_CASE("Finding as one types: count, marks, going through them, also far above", "[text-window]") {
  TextBench bench;
  bench.openLine();
  std::string many = "the first zone\r\n";
  for (int i = 0; i < 300; ++i) many += "line " + std::to_string(i) + (i % 100 == 50 ? " zone" : "") + "\r\n";
  bench.say(many);
  REQUIRE(bench.screenShows("line 299"));
  QTest::keyClick(bench.canvas(), Qt::Key_F, Qt::ControlModifier | Qt::ShiftModifier);
  REQUIRE(bench.text()->findField()->hasFocus());
  QTest::keyClicks(bench.text()->findField(), "zone");
  REQUIRE(shown([&] { return bench.text()->findCount() == 4; }));
  CHECK_FALSE(bench.canvas()->follows());  // the newest find is out of sight, so it was shown
  for (int i = 0; i < 3; ++i) QTest::keyClick(bench.text()->findField(), Qt::Key_Return, Qt::ShiftModifier);
  CHECK(bench.canvas()->firstRow() == 0);
  QTest::keyClick(bench.text()->findField(), Qt::Key_Escape);
  CHECK(bench.canvas()->hasFocus());
  QTest::keyClick(bench.canvas(), Qt::Key_End, Qt::ShiftModifier);
  CHECK(bench.canvas()->follows());
}

TEST_CASE("The scroll bar goes back to old text; typing returns to the newest", "[text-window]") {
  TextBench bench;
  bench.openLine();
  std::string many;
  for (int i = 0; i < 200; ++i) many += "row " + std::to_string(i) + "\r\n";
  bench.say(many);
  REQUIRE(bench.screenShows("row 199"));
  auto* bar = bench.text()->findChild<QScrollBar*>();
  REQUIRE(bar->isVisible());
  bar->setValue(0);
  CHECK(bench.canvas()->firstRow() == 0);
  bench.say("new text\r\n");
  REQUIRE(bench.screenShows("new text"));
  CHECK(bench.canvas()->firstRow() == 0);  // reading is not disturbed
  QTest::keyClicks(bench.canvas(), "x");
  CHECK(bench.canvas()->follows());
}

TEST_CASE("Pasting several lines asks first; one line does not", "[text-window]") {
  TextBench bench;
  bench.openLine();
  bench.text()->paste("one");
  CHECK(shown([&] { return bench.heard() == "one"; }));
  QApplication::clipboard()->setText("two\nthree\n");
  QTest::keyClick(bench.canvas(), Qt::Key_V, Qt::ControlModifier | Qt::ShiftModifier);
  REQUIRE(bench.text()->pasteBar()->isVisible());
  CHECK(bench.heard() == "one");
  QTest::mouseClick(bench.text()->pasteBar()->findChild<QPushButton*>("pasteAll"), Qt::LeftButton);
  CHECK(shown([&] { return bench.heard() == "onetwo\rthree\r"; }));
  CHECK_FALSE(bench.text()->pasteBar()->isVisible());
}

TEST_CASE("A paced paste shows its progress and can be cancelled", "[text-window]") {
  TextBench bench(TextBench::Kind::Telnet, {{"text.pace", "20"}, {"text.warn", "off"}});
  OpenSession* s = bench.openLine();
  bench.text()->paste(QString(500, 'p'));
  REQUIRE(shown([&] { return s->transfer().done > 2; }));
  QPushButton* cancel = nullptr;
  for (QPushButton* b : bench.text()->findChildren<QPushButton*>())
    if (b->isVisible() && b->text() == "Cancel") cancel = b;
  REQUIRE(cancel != nullptr);
  QTest::mouseClick(cancel, Qt::LeftButton);
  REQUIRE(shown([&] { return s->transfer().finished; }));
  CHECK(s->transfer().failed);
  CHECK(bench.heard().size() < 100);
}

TEST_CASE("A serial line shows its settings and lamps; a break and other settings go over it",
          "[text-window]") {
  TextBench bench(TextBench::Kind::TerminalServer);
  OpenSession* s = bench.openLine();
  REQUIRE(shown([&] { return s->line().settings == "9600 8N1" && s->line().dcd; }));
  const auto header = [&] {
    QStringList all;
    for (QLabel* l : bench.window->stage()->focusedPane()->findChildren<QLabel*>()) all << l->text();
    return all.join("|");
  };
  CHECK(header().contains("line · 9600 8N1"));
  bench.window->stage()->focusedPane()->setFocus();
  emit s->changed();
  REQUIRE(shown([&] { return bench.window->action("break") != nullptr; }));
  s->text()->sendBreak(std::chrono::milliseconds(5));
  CHECK(shown([&] {
    const std::lock_guard held(bench.wire->lock);
    return bench.wire->breaks == 1;
  }));
  LineSettings other;
  other.speed = 4800;
  s->text()->changeLine(other);
  REQUIRE(shown([&] { return s->line().settings == "4800 8N1"; }));
  bench.say("telemetry");
  QTest::qWait(300);
  CHECK(bench.terminal().screenText().find("telemetry") == std::string::npos);  // the wire says 9600
}

TEST_CASE("A log is begun, marked, ended, and found again from the Go field", "[text-window]") {
  TextBench bench(TextBench::Kind::Telnet, {{"text.log", "plain"}});
  OpenSession* s = bench.openLine();
  bench.say("FROST warning at the mast\r\n");
  REQUIRE(bench.screenShows("FROST"));
  const std::filesystem::path file = s->text()->logFile();
  REQUIRE_FALSE(file.empty());
  REQUIRE(shown([&] { return std::filesystem::file_size(file) > 20; }));
  s->text()->logTo({});
  REQUIRE(shown([&] { return s->text()->logFile().empty(); }));
  GoField* go = bench.window->goField();
  const auto hasLog = [&] { return !go->shown().empty() && go->shown().back().kind == GoAnswer::Kind::Log; };
  go->setFocus();
  QTest::keyClicks(go, "frost");
  QTest::keyClicks(go, " warning");
  REQUIRE(shown(hasLog));
  CHECK(go->shown().back().title.contains("FROST warning at the mast"));
  // A slow search holds nothing up, and what it finds for older words is not shown.
  std::atomic<int> searches = 0;
  std::atomic<bool> free = false;
  go->searchLogs = [&](const QString& words, int) {
    ++searches;
    while (!free) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    GoAnswer a;
    a.kind = GoAnswer::Kind::Log;
    a.title = words;
    return std::vector<GoAnswer>{a};
  };
  go->clear();
  QTest::keyClicks(go, "hail");
  REQUIRE(shown([&] { return searches == 1; }));
  QTest::keyClicks(go, "stones");
  CHECK_FALSE(hasLog());
  free = true;
  REQUIRE(shown([&] { return searches == 2 && hasLog(); }));
  CHECK(go->shown().back().title == "hailstones");
  CHECK(std::count_if(go->shown().begin(), go->shown().end(),
                      [](const GoAnswer& a) { return a.kind == GoAnswer::Kind::Log; }) == 1);
  go->searchLogs = {};
}

TEST_CASE("Watch words mark a session nobody looks at", "[text-window]") {
  TextBench bench(TextBench::Kind::Telnet, {{"text.words", "FROST ;; login: => duty\\r"}});
  OpenSession* s = bench.openLine();
  int seen = 0;
  QObject::connect(s, &OpenSession::wordSeen, [&] { ++seen; });
  bench.say("login: ");
  CHECK(shown([&] { return bench.heard() == "duty\r"; }));
  bench.say("\r\nFROST\r\n");
  CHECK(shown([&] { return seen >= 2; }));
}

TEST_CASE("Resizing the window resizes the terminal and breaks lines anew", "[text-window]") {
  TextBench bench;
  bench.openLine();
  bench.say(std::string(60, 'w') + "\r\n");
  REQUIRE(bench.screenShows("www"));
  const int before = bench.terminal().screen().columns;
  bench.window->resize(900, 700);
  REQUIRE(shown([&] { return bench.terminal().screen().columns < before; }));
  bench.window->stage()->arrange(2);
  CHECK(shown([&] { return bench.terminal().screen().columns < 60; }));
  const text::TextView v = bench.terminal().screen();
  CHECK(bench.terminal()
            .textIn({0, v.screenTop + v.screenRows, 0, v.columns, false})
            .find(std::string(60, 'w')) != std::string::npos);
}

TEST_CASE("The small picture of a text session has its text", "[text-window]") {
  text::Terminal terminal(24, 80);
  const QImage empty = smallTextPicture(terminal, textSchemes()[0], {122, 62}, 1);
  terminal.feed(viewOf("WIND 4.2 FROM 221\r\nAIR 11.8"));
  const QImage full = smallTextPicture(terminal, textSchemes()[0], {122, 62}, 1);
  CHECK(empty != full);
  int ink = 0;
  for (int y = 48; y < 62; ++y)
    for (int x = 0; x < 122; ++x) ink += QColor(full.pixel(x, y)).lightness() > 120;
  CHECK(ink > 20);  // the last line, readable
}

namespace {

/// As the desktop's drag and drop hands it over; true when it was taken.
bool dropOn(QWidget* on, const QMimeData& data, QPoint at) {
  QDragEnterEvent enter(at, Qt::CopyAction, &data, Qt::LeftButton, {});
  QApplication::sendEvent(on, &enter);
  if (!enter.isAccepted()) return false;
  QDropEvent drop(at, Qt::CopyAction, &data, Qt::LeftButton, {});
  QApplication::sendEvent(on, &drop);
  return drop.isAccepted();
}

}  // namespace

TEST_CASE("Files: a folder is shown, files go both ways, a clash is asked about", "[text-window]") {
  if (!lab::SshServer::available()) {
    std::cout << "SKIPPED: Files: OpenSSH's server is not installed" << std::endl;
    return;
  }
  WindowBench bench(0);
  const int port = listenTcp(bench.runtime.strand(), "127.0.0.1", 0)->port();
  lab::SshServer server({bench.folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port), ""});
  namespace fs = std::filesystem;
  const fs::path here = bench.folder.path / "here", there = bench.folder.path / "there";
  fs::create_directories(here);
  fs::create_directories(there / "zones");
  std::ofstream(here / "valve.bin") << std::string(5000, 'v');
  std::ofstream(there / "mist.log") << "log";
  std::ofstream(there / ".hidden") << "x";
  Id gatehouse = 0;
  bench.tools.store->commit("gatehouse", [&](StoreWriter& w) {
    Machine m;
    m.folder = bench.groupId, m.name = "gatehouse";
    w.put(m);
    gatehouse = m.id;
    Endpoint e;
    e.machine = m.id, e.label = "shell",
    e.address = "ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(port);
    w.put(e);
    const Owner owner{OwnerKind::Machine, m.id};
    w.set(owner, "ssh.keys", server.clientKey().string());
    w.set(owner, "ssh.agent", "off");
    w.set(owner, "ssh.knownhosts", (bench.folder.path / "known").string());
  });
  MainWindow& window = bench.open();
  window.openFiles(gatehouse);
  FilesPanel* panel = window.files();
  REQUIRE(panel != nullptr);
  const auto press = [&](const QString& text) {
    QPushButton* found = nullptr;
    REQUIRE(shown([&] {
      for (QPushButton* b : panel->findChildren<QPushButton*>())
        if (b->isVisible() && b->text() == text) found = b;
      return found != nullptr;
    }));
    QTest::mouseClick(found, Qt::LeftButton);
  };
  press("From now on");  // the host key is new
  REQUIRE(shown([&] { return !panel->remoteFolder().isEmpty(); }));
  panel->work().list(QString::fromStdString(there.string()));
  REQUIRE(
      shown([&] { return panel->remoteList()->topLevelItemCount() == 2; }));  // the hidden one is not shown
  panel->setLocalFolder(QString::fromStdString(here.string()));
  REQUIRE(shown([&] { return panel->localList()->model()->rowCount(panel->localList()->rootIndex()) == 1; }));
  panel->localList()->selectAll();
  panel->sendSelected();
  REQUIRE(shown([&] { return panel->remoteList()->topLevelItemCount() == 3 && !panel->work().busy(); }));
  CHECK(sha256OfFile(there / "valve.bin") == sha256OfFile(here / "valve.bin"));
  std::ofstream(here / "valve.bin") << std::string(7000, 'w');
  panel->sendSelected();
  press("Replace");
  REQUIRE(shown([&] { return !panel->work().busy(); }));
  CHECK(fs::file_size(there / "valve.bin") == 7000);
  panel->sendSelected();
  press("Leave it");
  REQUIRE(shown([&] { return !panel->work().busy(); }));
  for (int i = 0; i < panel->remoteList()->topLevelItemCount(); ++i)
    if (panel->remoteList()->topLevelItem(i)->text(0) == "mist.log")
      panel->remoteList()->topLevelItem(i)->setSelected(true);
  panel->getSelected();
  REQUIRE(shown([&] { return fs::exists(here / "mist.log") && !panel->work().busy(); }));
  panel->work().compare(QString::fromStdString((here / "mist.log").string()),
                        QString::fromStdString((there / "mist.log").string()));
  CHECK(shown([&] { return panel->statusLabel()->text().startsWith("Same content"); }));

  // Dragged from the machine onto this desk's side, and from this desk onto a folder of the machine.
  fs::remove(here / "mist.log");
  QTreeWidgetItem* log = panel->remoteList()->findItems("mist.log", Qt::MatchExactly).value(0);
  REQUIRE(log != nullptr);
  const std::unique_ptr<QMimeData> dragged(
      panel->remoteList()->model()->mimeData({panel->remoteList()->indexFromItem(log)}));
  REQUIRE(dragged != nullptr);
  INFO(panel->statusLabel()->text().toStdString() << " " << panel->work().busy());
  CHECK(dropOn(panel->localList()->viewport(), *dragged,
               QPoint(5, panel->localList()->viewport()->height() - 5)));
  REQUIRE(shown([&] { return fs::exists(here / "mist.log") && !panel->work().busy(); }));
  QMimeData urls;
  urls.setUrls({QUrl::fromLocalFile(QString::fromStdString((here / "valve.bin").string()))});
  QTreeWidgetItem* zones = panel->remoteList()->findItems("zones", Qt::MatchExactly).value(0);
  REQUIRE(zones != nullptr);
  CHECK(dropOn(panel->remoteList()->viewport(), urls, panel->remoteList()->visualItemRect(zones).center()));
  CHECK(shown([&] { return fs::exists(there / "zones" / "valve.bin") && !panel->work().busy(); }));
  QMimeData text;
  text.setText("no file");
  CHECK_FALSE(dropOn(panel->remoteList()->viewport(), text, QPoint(5, 5)));
}

TEST_CASE("What was trusted can be looked at, forgotten and put back", "[text-window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.action("trusted")->trigger();
  CHECK(window.trusted()->table()->rowCount() == 0);
  bench.tools.store->pin("ssh gatehouse:22", "SHA256:abc");
  bench.tools.store->pin("fernery:5907", "ab:cd");
  window.showTrusted();
  QTableWidget* table = window.trusted()->table();
  REQUIRE(table->rowCount() == 2);
  CHECK(table->item(0, 0)->text() == "fernery:5907");
  auto* forget = window.trusted()->findChild<QPushButton*>("forgetPins");
  CHECK_FALSE(forget->isEnabled());
  table->selectRow(1);
  REQUIRE(forget->isEnabled());
  QTest::mouseClick(forget, Qt::LeftButton);
  CHECK_FALSE(bench.tools.store->pinned("ssh gatehouse:22"));
  CHECK(bench.tools.store->pinned("fernery:5907"));
  for (QPushButton* b : window.trusted()->findChildren<QPushButton*>())
    if (b->isVisible() && b->text() == "Put back") QTest::mouseClick(b, Qt::LeftButton);
  CHECK(bench.tools.store->pinned("ssh gatehouse:22") == "SHA256:abc");
}

TEST_CASE("A picture of text is saved from the stage; off it, that is said and nothing is written",
          "[text-window]") {
  TextBench b;
  OpenSession* s = b.openLine();
  const QString file = QString::fromStdString((b.folder.path / "line.png").string());
  b.window->savePicture(s, file);
  CHECK(QFile::exists(file));
  QFile::remove(file);
  b.window->stage()->remove(s);
  b.window->savePicture(s, file);
  CHECK_FALSE(QFile::exists(file));
  bool told = false;
  for (auto* label : b.window->findChildren<QLabel*>())
    told = told || label->text().contains("is not on the stage");
  CHECK(told);
}

TEST_CASE("What a machine says is shown letter by letter, not as a page", "[text-window]") {
  QWidget window;
  QLabel foreign("<b>orchid</b>", &window), own("<b>orchid</b>", &window);
  own.setTextFormat(Qt::RichText);
  window.show();
  CHECK(foreign.textFormat() == Qt::PlainText);
  CHECK(own.textFormat() == Qt::RichText);
}
