// The window itself: what it remembers, a second start, many rows, names to be spoken, colours.
#include <QAbstractButton>
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QProcess>
#include <QScrollArea>
#include <fstream>

#include "desktop/app/single_instance.hpp"
#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "picture/png.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("Window state and open panes are remembered and offered again", "[window]") {
  WindowBench bench(3);
  {
    MainWindow& window = bench.open();
    bench.openLive(0);
    window.action("panes2")->trigger();
    bench.openLive(1);
    bench.openLive(2);
    window.close();
    bench.window.reset();
    bench.desk.reset();
  }
  MainWindow& window = bench.open();
  window.offerLastTime();
  QPushButton* offer = nullptr;
  for (auto* b : window.findChildren<QPushButton*>())
    if (b->text().contains("from last time") && b->isVisible()) offer = b;
  REQUIRE(offer != nullptr);
  CHECK(offer->text().contains("3"));
  QTest::mouseClick(offer, Qt::LeftButton);
  CHECK(window.stage()->panes().size() == 2);
  CHECK(window.stage()->sessions().size() == 3);
  for (OpenSession* s : window.stage()->sessions()) CHECK(shown([&] { return s->isLive(); }));
}

TEST_CASE("A second start hands its address over and leaves", "[window]") {
  TemporaryFolder folder;
  std::filesystem::permissions(folder.path, std::filesystem::perms::owner_all);
  const QByteArray before = qgetenv("XDG_RUNTIME_DIR");
  qputenv("XDG_RUNTIME_DIR", folder.path.c_str());
  QString heard;
  {
    SingleInstance first;
    CHECK_FALSE(first.handOver("nobody is there"));
    REQUIRE(first.listen());
    QObject::connect(&first, &SingleInstance::arrived, [&](const QString& m) { heard = m; });
    QProcess second;
    // The hand-over needs this event loop, so it comes from another process: the real program.
    second.setProgram(QString(KW_BUILD) + "/desktop/kettle-window");
    second.setArguments({"vnc://fernery:5907"});
    second.start();
    CHECK(shown([&] { return second.state() == QProcess::NotRunning; }));
    CHECK(second.exitCode() == 0);
    CHECK(heard == "vnc://fernery:5907");
  }
  // What a killed instance leaves behind does not keep the next one from listening.
  std::ofstream(folder.path / "kettle-window.socket") << "stale";
  SingleInstance next;
  CHECK(next.listen());
  before.isNull() ? qunsetenv("XDG_RUNTIME_DIR") : qputenv("XDG_RUNTIME_DIR", before);
}

TEST_CASE("500 rows and long names: the roster narrows and paints what fits", "[window]") {
  WindowBench bench(1);
  bench.tools.store->commit("many", [&](StoreWriter& w) {
    for (int i = 0; i < 500; ++i) {
      Machine m;
      m.folder = bench.groupId;
      m.name = "a-propagation-bench-with-a-very-long-name-indeed-number-" + std::to_string(i);
      w.put(m);
    }
  });
  MainWindow& window = bench.open();
  CHECK(window.roster()->rows().size() == 502);
  QTest::keyClicks(window.narrowField(), "number-49");
  CHECK(window.roster()->rows().size() == 12);  // 49, 490 to 499, and their heading
  CHECK(window.roster()->visibleMachines().size() < 20);
  CHECK_FALSE(window.roster()->grab().isNull());
  window.narrowField()->clear();
  window.roster()->setFocus();
  QTest::keyClick(window.roster(), Qt::Key_End);
  CHECK(window.roster()->selected() == window.roster()->rows().back().machine);
  CHECK_FALSE(window.roster()->rowRect(window.roster()->selected()).isEmpty());
}

TEST_CASE("Every control that takes the focus has a name to be spoken", "[window]") {
  WindowBench bench(2);
  MainWindow& window = bench.open();
  bench.openLive(0);
  window.editMachine(bench.machineIds[0]);
  for (auto* w : window.findChildren<QWidget*>()) {
    if (w->focusPolicy() == Qt::NoFocus || !w->isVisible()) continue;
    QString name = w->accessibleName();
    if (auto* b = qobject_cast<QAbstractButton*>(w)) name += b->text();
    if (qobject_cast<QScrollArea*>(w) != nullptr || w->objectName().startsWith("qt_") ||
        w->inherits("QMenuBar"))
      continue;
    CAPTURE(w->metaObject()->className(), w->objectName().toStdString());
    CHECK_FALSE(name.isEmpty());
  }
}

TEST_CASE("The colour schemes keep their contrast", "[window]") {
  const auto luminance = [](const QColor& c) {
    const auto channel = [](double v) {
      return v <= 0.03928 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4);
    };
    return 0.2126 * channel(c.redF()) + 0.7152 * channel(c.greenF()) + 0.0722 * channel(c.blueF());
  };
  const auto contrast = [&](const QColor& a, const QColor& b) {
    const double x = luminance(a), y = luminance(b);
    return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
  };
  for (SchemeChoice choice : {SchemeChoice::Evening, SchemeChoice::Morning}) {
    applyScheme(*qApp, choice);
    const Scheme& s = scheme();
    CAPTURE(s.name.toStdString());
    CHECK_FALSE(qApp->styleSheet().contains('@'));  // every colour's name was replaced by the colour
    for (const QColor& ink : {s.text, s.quiet, s.copper, s.teal, s.amber, s.brick}) {
      CAPTURE(ink.name().toStdString());
      CHECK(contrast(ink, s.panel) >= 4.5);
      CHECK(contrast(ink, s.ground) >= 4.5);
    }
  }
  applyScheme(*qApp, SchemeChoice::Evening);
}
