// Text panes and files of the real window, driven by real key and mouse events.
#include "tests/desktop/text_bench.hpp"

using namespace kw;
using namespace kw::test;

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
  s->shown.textScheme = "paper";
  bench.canvas()->applyLook();
  const QImage paper = bench.canvas()->image();
  CHECK(QColor(paper.pixel(edge)) == textScheme("paper").named[1]);
  CHECK(QColor(paper.pixel(bench.at(5, 5))) == textScheme("paper").ground);
  s->shown.textGround = "#102030";
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
