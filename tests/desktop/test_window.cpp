// The real window, driven by real key and mouse events.
#include <QAbstractButton>
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPointer>
#include <QProcess>
#include <QScrollArea>
#include <fstream>

#include "desktop/app/single_instance.hpp"
#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "picture/png.hpp"
#include "tests/desktop/record_pages.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A machine opens from the roster and shows its picture, pixel for pixel", "[window][scale]") {
  WindowBench bench;
  MainWindow& window = bench.open();
  const QRectF row = window.roster()->rowRect(bench.machineIds[0]);
  REQUIRE_FALSE(row.isEmpty());
  QTest::mouseDClick(window.roster()->viewport(), Qt::LeftButton, {}, row.center().toPoint());
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  REQUIRE(s != nullptr);
  REQUIRE(shown([&] { return s->isLive() && s->hasPicture() && s->figures().frames > 0; }));
  // What the widget paints one to one is the framebuffer itself.
  bench.view()->setFitMode(FitMode::Actual);
  bool same = false;
  CHECK(shown([&] {
    const QImage grabbed = bench.view()->grab().toImage().convertToFormat(QImage::Format_RGB32);
    const auto picture = s->picture();
    auto lock = picture->lock();
    // In pixels of the display, of which a unit of the window may have several.
    const double ratio = bench.view()->devicePixelRatioF();
    const QPointF corner = bench.view()->pictureArea().topLeft() * ratio;
    const QPoint first(std::max(0, qRound(corner.x())), std::max(0, qRound(corner.y())));
    same = true;
    for (int y = 0; y < 200 && same; y += 7)
      for (int x = 0; x < 300 && same; x += 7) {
        const QPoint at = first + QPoint(x, y), p = at - corner.toPoint();
        same = (grabbed.pixel(at) & 0xffffff) == (picture->pixel(p.x(), p.y()) & 0xffffff);
      }
    return same;
  }));
}

TEST_CASE("A chip opens its way in; Enter opens the best one", "[window]") {
  WindowBench bench;
  MainWindow& window = bench.open();
  const QRectF chip = window.roster()->chipRect(bench.endpoints[1]);
  REQUIRE_FALSE(chip.isEmpty());
  QTest::mouseClick(window.roster()->viewport(), Qt::LeftButton, {}, chip.center().toPoint());
  CHECK(window.stage()->sessionOf(bench.endpoints[1]) != nullptr);
  window.roster()->setFocus();
  window.roster()->select(bench.machineIds[0]);
  QTest::keyClick(window.roster(), Qt::Key_Return);
  CHECK(window.stage()->sessionOf(bench.endpoints[0]) != nullptr);
}

TEST_CASE("Keys typed into the picture reach the machine, also those that are shortcuts here", "[window]") {
  WindowBench bench(1);
  bench.open();
  bench.openLive(0);
  bench.view()->setFocus();
  QTest::keyClicks(bench.view(), "Fern 7!");
  CHECK(shown([&] { return bench.noteOf(0) == "Fern 7!"; }));
  // Ctrl+G would go to the Go field; here it belongs to the machine.
  QTest::keyClick(bench.view(), Qt::Key_G, Qt::ControlModifier);
  CHECK_FALSE(bench.window->goField()->hasFocus());
  QTest::keyClick(bench.view(), Qt::Key_Tab);
  CHECK(bench.view()->hasFocus());
}

TEST_CASE("Both Shift keys together free the keyboard and let go of every key", "[window]") {
  WindowBench bench(1);
  bench.open();
  OpenSession* s = bench.openLive(0);
  bench.view()->setFocus();
  int released = 0;
  QObject::connect(bench.view(), &PictureView::releaseChordPressed, [&] { ++released; });
  // The palette that follows is a menu; it is closed as soon as it is up.
  QTimer::singleShot(200, [] {
    if (QWidget* popup = QApplication::activePopupWidget()) popup->close();
  });
  hardwareKey(bench.view(), QEvent::KeyPress, Qt::Key_Shift, 50);
  CHECK(released == 0);
  hardwareKey(bench.view(), QEvent::KeyPress, Qt::Key_Shift, 62);
  CHECK(released == 1);
  CHECK(s->isLive());
}

TEST_CASE("The pointer arrives where it points, whatever the scale", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  bench.openLive(0);
  for (FitMode mode : {FitMode::Shrink, FitMode::Fill, FitMode::Actual, FitMode::Whole}) {
    bench.view()->setFitMode(mode);
    const QRectF area = bench.view()->pictureArea().intersected(bench.view()->rect());
    const Point p = bench.view()->toPicture(area.center());
    CHECK(p.x > 0);
    CHECK(p.x < 1024);
    const Point corner = bench.view()->toPicture(QPointF(-50, -50));
    CHECK(corner.x >= 0);
    CHECK(corner.y >= 0);
  }
  bench.view()->setFitMode(FitMode::Fill);
  const QRectF area = bench.view()->pictureArea();
  const Point top = bench.view()->toPicture(area.topLeft() + QPointF(0.5, 0.5));
  CHECK(top == Point{0, 0});
  const Point bottom = bench.view()->toPicture(area.bottomRight() - QPointF(0.5, 0.5));
  CHECK(bottom == Point{1023, 639});
  (void)window;
}

TEST_CASE("A wrong password is told in the pane, the right one opens, and is kept sealed when wanted",
          "[window]") {
  WindowBench bench(1, "orchid");
  MainWindow& window = bench.open();
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  REQUIRE(shown([&] { return s->question().has_value(); }));
  CHECK(QApplication::activeModalWidget() == nullptr);
  auto* field = bench.child<QLineEdit>("password");
  REQUIRE(field != nullptr);
  CHECK(field->echoMode() == QLineEdit::Password);
  QTest::keyClicks(field, "wrong");
  QTest::keyClick(field, Qt::Key_Return);
  REQUIRE(shown([&] { return s->question() && s->question()->again; }));
  field = bench.child<QLineEdit>("password");
  REQUIRE(field != nullptr);
  QTest::keyClicks(field, "orchid");
  for (auto* box : window.stage()->focusedPane()->story()->findChildren<QCheckBox*>()) box->setChecked(true);
  QTest::keyClick(field, Qt::Key_Return);
  REQUIRE(shown([&] { return s->isLive(); }));
  CHECK(bench.child<QLineEdit>("password") == nullptr);
  CHECK(keptSignIn(bench.tools, {OwnerKind::WayIn, bench.endpoints[0]})->password == "orchid");
}

TEST_CASE("A certificate is asked about in the pane, with its fingerprint, and then remembered", "[window]") {
  WindowBench bench(1, "", true);
  MainWindow& window = bench.open();
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  REQUIRE(shown([&] { return s->question().has_value(); }));
  CHECK(s->question()->kind == Question::Kind::Trust);
  bool fingerprint = false;
  for (auto* label : window.stage()->focusedPane()->story()->findChildren<QLabel*>())
    fingerprint = fingerprint || QString(label->text()).remove('\n') ==
                                     QString::fromStdString(s->question()->certificate.sha256);
  CHECK(fingerprint);
  QTest::mouseClick(bench.child<QPushButton>("trustKeep"), Qt::LeftButton);
  REQUIRE(shown([&] { return s->isLive(); }));
  CHECK(s->route().sealed);
  window.endSession(s);
  REQUIRE(shown([&] { return bench.desk->sessions().isEmpty(); }));
  window.openEndpoint(bench.endpoints[0]);
  CHECK(shown([&] { return window.stage()->sessionOf(bench.endpoints[0])->isLive(); }));
}

TEST_CASE("A killed peer leaves the last picture and comes back by itself", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  OpenSession* s = bench.openLive(0);
  bench.consoles[0]->stop();
  REQUIRE(shown([&] { return s->status().stage == SessionStage::Waiting; }));
  CHECK(s->hasPicture());
  CHECK(window.stage()->focusedPane()->story()->isVisible());
  bench.consoles[0]->start(true);
  CHECK(shown([&] { return s->isLive(); }, 15000));
  CHECK(shown([&] { return !window.stage()->focusedPane()->story()->isVisible(); }));
}

TEST_CASE("Nothing listens: the pane and the route say so, with a cure", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.openAddress("vnc://127.0.0.1:1");
  OpenSession* s = window.stage()->focusedSession();
  REQUIRE(shown([&] { return s->status().problem.has_value(); }));
  CHECK(*s->status().problem == ErrorKind::Refused);
  REQUIRE(window.side()->hops().size() == 3);
  CHECK(window.side()->hops()[0].found.contains("refused"));
  CHECK(window.side()->hops()[0].cureAction == "retry");
  CHECK(window.side()->hops()[1].state == State::Trouble);
}

TEST_CASE("The machine follows the pane's size when its record says so", "[window][scale]") {
  WindowBench bench(1);
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.endpoints[0]}, "screen.size", "follow");
  });
  MainWindow& window = bench.open();
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  const auto fits = [&] {
    const double ratio = bench.view()->devicePixelRatioF();
    return s->pictureSize() == Size{static_cast<int>(bench.view()->width() * ratio),
                                    static_cast<int>(bench.view()->height() * ratio)};
  };
  CHECK(shown([&] { return s->isLive() && fits(); }));
  window.resize(1000, 700);
  CHECK(shown(fits));
}

TEST_CASE("The machine is asked for a size of its own, or that of the monitor, when its record says so",
          "[window][scale]") {
  WindowBench bench(1);
  const Owner way{OwnerKind::WayIn, bench.endpoints[0]};
  Size wanted{1024, 600};
  bool fixed = GENERATE(true, false);
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set(way, "screen.size", fixed ? "fixed" : "monitor");
    w.set(way, "screen.fixed", "1024x600");
    CHECK_THROWS_AS(w.set(way, "screen.fixed", "1024 by 600"), Error);
    CHECK_THROWS_AS(w.set(way, "screen.fixed", "10x600"), Error);
  });
  MainWindow& window = bench.open();
  if (!fixed) {
    wanted = {window.screen()->size().width(), window.screen()->size().height()};
    if (qEnvironmentVariableIsSet("QT_SCALE_FACTOR"))
      wanted = {1600, 1000};  // the one that the test below has
  }
  window.openEndpoint(bench.endpoints[0]);
  OpenSession* s = window.stage()->sessionOf(bench.endpoints[0]);
  CHECK(shown([&] { return s->isLive() && s->pictureSize() == wanted; }));
  window.resize(1000, 700);
  shown([] { return false; }, 500);
  CHECK(s->pictureSize() == wanted);
  // Whoever sits at it may change it: asked once, it is left alone.
  bench.consoles[0]->withGuest([](lab::Guest& g) { g.resize({800, 600}); });
  CHECK(shown([&] { return s->pictureSize() == Size{800, 600}; }));
  CHECK_FALSE(shown([&] { return s->pictureSize() == wanted; }, 1000));
}

TEST_CASE("A session that ends while a dialog or a menu about it is open is left alone", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.openEndpoint(bench.endpoints[0]);
  const QPointer<OpenSession> session = window.stage()->sessionOf(bench.endpoints[0]);
  REQUIRE(shown([&] { return session->isLive() && session->hasPicture(); }));
  bool ended = false, chosen = false;
  const auto endIt = [&] {
    session->end();
    ended = shown([&] { return session.isNull(); });
  };
  SECTION("the dialog for a file") {
    const QString file = QString::fromStdString((bench.folder.path / "late.png").string());
    QTimer::singleShot(0, &window, [&] {
      REQUIRE(shown([] { return QApplication::activeModalWidget() != nullptr; }));
      endIt();
      auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
      REQUIRE(dialog != nullptr);
      dialog->selectFile(file);
      dialog->findChild<QLineEdit*>()->setText(file);
      QMetaObject::invokeMethod(dialog, "accept");
      chosen = true;
    });
    window.action("savePicture")->trigger();
    CHECK(chosen);
    CHECK(ended);
    CHECK_FALSE(QFile::exists(file));
  }
  SECTION("the menu of the release chord") {
    QTimer::singleShot(0, &window, [&] {
      REQUIRE(shown([] { return QApplication::activePopupWidget() != nullptr; }));
      endIt();
      auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
      REQUIRE(menu != nullptr);
      for (QAction* a : menu->actions()) {
        chosen = chosen || a->text().startsWith("Save the picture");
        if (!a->text().startsWith("Go to")) a->trigger();
      }
      menu->close();
    });
    emit window.stage()->releaseChordPressed(session);
    CHECK(chosen);
    CHECK(ended);
    CHECK(QApplication::activeModalWidget() == nullptr);
  }
  CHECK(session.isNull());
}

TEST_CASE("What a way in cannot do is said on its page", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.editMachine(bench.machineIds[0]);
  toPage(window.sheet(), "Screen");
  const auto said = [&](const QString& words) {
    const auto labels = window.sheet()->findChildren<QLabel*>();
    return std::any_of(labels.begin(), labels.end(),
                       [&](QLabel* l) { return l->isVisible() && l->text().contains(words); });
  };
  CHECK(said("what decodes H.264"));
  CHECK(said("Not for this way in: Screens, Place of further screens, Which monitors"));
  Machine scan;
  scan.name = "herbarium-scan";
  bench.tools.store->commit("add", [&](StoreWriter& w) {
    w.put(scan);
    Endpoint e;
    e.machine = scan.id, e.label = "screen", e.address = "spice://127.0.0.11:5930";
    w.put(e);
  });
  window.desk().records().reload();
  window.editMachine(scan.id);
  toPage(window.sheet(), "Screen");
  CHECK_FALSE(said("Screens, Place of further screens"));
  CHECK(said("Not for this way in: Colours, Picture quality, Preferred encoding"));
  toPage(window.sheet(), "Sound and devices");
  CHECK(said("smart cards"));
}

TEST_CASE("Panes: two, four, the strip, and splitting by drop", "[window]") {
  WindowBench bench(5);
  MainWindow& window = bench.open();
  for (std::size_t i = 0; i < 5; ++i) window.openEndpoint(bench.endpoints[i]);
  CHECK(window.stage()->panes().size() == 1);
  CHECK(window.stage()->strip()->count() == 4);
  window.action("panes2")->trigger();
  CHECK(window.stage()->panes().size() == 2);
  CHECK(window.stage()->strip()->count() == 3);
  window.action("panes4")->trigger();
  CHECK(window.stage()->panes().size() == 4);
  CHECK(window.stage()->strip()->count() == 1);
  OpenSession* waiting = window.stage()->strip()->sessionAt(0);
  window.stage()->drop(window.stage()->panes()[0], waiting, Qt::LeftEdge);
  CHECK(window.stage()->panes().size() == 5);
  CHECK(window.stage()->focusedSession() == waiting);
  CHECK(window.stage()->strip()->count() == 0);
  window.stage()->closePane(window.stage()->focusedPane());
  CHECK(window.stage()->panes().size() == 4);
  CHECK(window.stage()->strip()->count() == 1);
  // A pointer that is none of our sessions is not touched.
  window.stage()->drop(window.stage()->panes()[0], reinterpret_cast<OpenSession*>(0x1234), Qt::LeftEdge);
  CHECK(window.stage()->panes().size() == 4);
  Pane* before = window.stage()->focusedPane();
  QTest::keyClick(&window, Qt::Key_F6);
  CHECK(window.stage()->focusedPane() != before);
}

TEST_CASE("Full screen has a spout that keeps away from corners and opens on the release chord", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  OpenSession* s = bench.openLive(0);
  ScreenWindow* full = window.openFullScreen(s);
  full->resize(1000, 700);
  CHECK(full->fullScreen());
  for (int edge = 0; edge < 4; ++edge)
    for (double share : {0.0, 0.5, 1.0}) {
      full->spout()->setPlace(edge, share);
      const QRect r = full->spout()->geometry();
      CHECK(full->rect().contains(r));
      for (QPoint corner : {full->rect().topLeft(), full->rect().topRight(), full->rect().bottomLeft(),
                            full->rect().bottomRight()})
        CHECK((r.center() - corner).manhattanLength() > 70);
    }
  CHECK_FALSE(full->spout()->isOpen());
  hardwareKey(full->view(), QEvent::KeyPress, Qt::Key_Shift, 50);
  hardwareKey(full->view(), QEvent::KeyPress, Qt::Key_Shift, 62);
  REQUIRE(full->spout()->isOpen());
  QPushButton* back = nullptr;
  for (auto* b : full->spout()->panel()->findChildren<QPushButton*>())
    if (b->text().startsWith("Back")) back = b;
  REQUIRE(back != nullptr);
  QPointer<ScreenWindow> gone = full;
  QTest::mouseClick(back, Qt::LeftButton);
  CHECK(shown([&] { return gone.isNull(); }));
  CHECK(s->isLive());
}

TEST_CASE("Each screen of a machine opens in a window of its own", "[window]") {
  WindowBench bench(1, "", false, true);
  MainWindow& window = bench.open();
  OpenSession* s = bench.openLive(0);
  REQUIRE(shown([&] { return s->screens().size() == 2; }));
  CHECK(s->capabilities().screens.can);
  ScreenWindow* second = window.openScreenWindow(s, 2);
  CHECK(second->view()->toPicture(second->view()->pictureArea().topLeft() + QPointF(1, 1)).x >= 1024);
  CHECK(second->windowTitle().contains("screen 2"));
  second->close();
}

TEST_CASE("The Go field finds machines, addresses and actions, and says what Enter does", "[window]") {
  WindowBench bench(3);
  MainWindow& window = bench.open();
  const auto first = [&](const QString& text) { return window.goField()->answers(text).at(0); };
  CHECK(first("palm").title == "palm-house-01");
  CHECK(first("house-03").title == "palm-house-03");
  CHECK(first("house-03").does == "open screen · vnc");
  CHECK(first("127.0.0.1:1").title.contains("display 1"));
  CHECK(first("vnc://fernery:5907").kind == GoAnswer::Kind::OpenAddress);
  CHECK(first("rdp://fernery").possible);
  CHECK_FALSE(first("vnc://fernery:99999").possible);
  CHECK(first("full scr").kind == GoAnswer::Kind::Action);
  CHECK_FALSE(first("full scr").possible);
  CHECK(first("full scr").does.contains("No session"));
  QTest::keyClick(&window, Qt::Key_G, Qt::ControlModifier);
  CHECK(window.goField()->hasFocus());
  QTest::keyClicks(window.goField(), "house-02");
  CHECK(window.goField()->popup()->isVisible());
  QTest::keyClick(window.goField(), Qt::Key_Return);
  CHECK(window.stage()->sessionOf(bench.endpoints[1]) != nullptr);
}

TEST_CASE("A sheet makes a machine, shows origins, refuses nonsense, and undo takes it back", "[window]") {
  WindowBench bench(1);
  bench.tools.store->commit("group", [&](StoreWriter& w) {
    w.set({OwnerKind::Folder, bench.groupId}, "screen.fit", "fill");
  });
  MainWindow& window = bench.open();
  window.editMachine(bench.machineIds[0]);
  auto* origin = bench.child<QPushButton>("origin:screen.fit");
  auto* box = bench.child<QComboBox>("setting:screen.fit");
  REQUIRE((origin != nullptr && box != nullptr));
  CHECK(origin->text() == "from group Palm house");
  CHECK(box->currentText() == "Fit, growing too");
  QTest::mouseClick(origin, Qt::LeftButton);
  CHECK(origin->text() == "set here");
  QTest::mouseClick(origin, Qt::LeftButton);
  CHECK(origin->text() == "from group Palm house");
  window.editMachine(0);
  auto* name = bench.child<QLineEdit>("machineName");
  auto* address = bench.child<QLineEdit>("address0");
  REQUIRE((name != nullptr && address != nullptr));
  auto* keep = bench.child<QPushButton>("keep");
  CHECK_FALSE(keep->isEnabled());
  QTest::keyClicks(name, "seed-bank");
  address->setText("vnc://fernery:99999");
  CHECK_FALSE(keep->isEnabled());
  CHECK(keep->toolTip().contains("65535"));
  address->setText("fernery:1");
  CHECK(keep->isEnabled());
  name->setText("palm-house-01");
  CHECK_FALSE(keep->isEnabled());
  name->setText("seed-bank");
  QTest::mouseClick(keep, Qt::LeftButton);
  const Machine* made = bench.desk->records().snapshot().machineNamed("seed-bank");
  REQUIRE(made != nullptr);
  CHECK(bench.desk->records().snapshot().endpointsOf(made->id)[0]->address == "vnc://fernery:5901");
  window.showStage();
  window.action("undo")->trigger();
  CHECK(bench.desk->records().snapshot().machineNamed("seed-bank") == nullptr);
}

TEST_CASE("Two machines on one port: the newer is marked, the side offers the next free port", "[window]") {
  WindowBench bench(1);
  Id twin = 0;
  const std::string address = bench.tools.store->load().endpoints.at(bench.endpoints[0]).address;
  bench.tools.store->commit("twin", [&](StoreWriter& w) {
    Machine m;
    m.name = "audio-guide", m.folder = bench.groupId;
    w.put(m);
    twin = m.id;
    Endpoint e;
    e.machine = m.id, e.label = "screen", e.address = address;
    w.put(e);
  });
  MainWindow& window = bench.open();
  window.roster()->setFocus();
  window.roster()->select(twin);
  REQUIRE(window.side()->hops().size() == 3);
  CHECK(window.side()->hops()[1].remark.contains("palm-house-01"));
  const int next = parseAddress(address).port + 1;
  CHECK(window.side()->hops()[1].cureAction == "port:" + QString::number(next));
  emit window.side()->cureClicked("port:" + QString::number(next));
  REQUIRE(window.sheet()->draftEndpoint());
  CHECK(parseAddress(window.sheet()->draftEndpoint()->address).port == next);
}

TEST_CASE("Copied text goes to the focused machine, and comes from it", "[window]") {
  WindowBench bench(1);
  bench.open();
  OpenSession* s = bench.openLive(0);
  QApplication::clipboard()->setText(QString::fromUtf8("Palme \xc3\xa4"));
  CHECK(shown([&] {
    bench.consoles[0]->withGuest([&](lab::Guest& g) {
      g.key(0xffe3, true);
      g.key('v', true);
      g.key(0xffe3, false);
    });
    return bench.noteOf(0) == "Palme \xc3\xa4";
  }));
  bench.consoles[0]->setClipboard("from the guest");
  CHECK(shown([&] { return QApplication::clipboard()->text() == "from the guest"; }));
  CHECK(s->isLive());
}

TEST_CASE("Only looking sends no keys and says so; the menu tells why keys cannot be sent", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  bench.openLive(0);
  window.action("look")->trigger();
  QTest::keyClicks(bench.view(), "abc");
  CHECK_FALSE(window.action("secure")->isEnabled());
  CHECK(window.action("secure")->property("why").toString().contains("Only looking"));
  window.action("look")->trigger();
  QTest::keyClicks(bench.view(), "d");
  CHECK(shown([&] { return bench.noteOf(0) == "d"; }));
}

TEST_CASE("Send keys and power reach the machine; the picture can be saved", "[window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  OpenSession* s = bench.openLive(0);
  const QString file = QString::fromStdString((bench.folder.path / "picture.png").string());
  window.savePicture(s, file);
  CHECK(loadPng(file.toStdString()).size() == Size{1024, 640});
  window.savePicture(s, "/nowhere/at/all.png");  // told, not thrown
  window.action("secure")->trigger();
  CHECK(shown([&] { return s->pictureSize() == Size{640, 400}; }));
  CHECK(shown([&] { return s->pictureSize() == Size{1024, 640}; }, 15000));
  CHECK(window.action("powerReboot")->isEnabled());
  window.action("powerReboot")->trigger();
  CHECK(shown([&] { return s->pictureSize() == Size{640, 400}; }));
  CHECK(s->status().attempt <= 1);
}
