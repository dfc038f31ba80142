// A window that nobody has used yet.
#include <QScreen>
#include <fstream>

#include "base/file.hpp"

#include "desktop/window/first_start.hpp"
#include "desktop/window/go_field.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("First start: three ways to begin and a look at hosts; gone once a machine is kept",
          "[window][first]") {
  WindowBench bench(0);
  MainWindow& window = bench.open();
  auto* first = window.findChild<FirstStart*>();
  REQUIRE(shown([&] { return (first = window.findChild<FirstStart*>()) != nullptr && first->isVisible(); }));
  CHECK(first->size() == window.stage()->size());
  for (const char* name : {"first:go", "first:new", "first:importFiles", "first:stock"})
    CHECK(window.findChild<QPushButton*>(name) != nullptr);
  window.findChild<QPushButton*>("first:go")->click();
  CHECK(shown([&] { return window.goField()->hasFocus(); }));
  window.findChild<QPushButton*>("first:new")->click();
  CHECK(bench.child<QLineEdit>("machineName") != nullptr);
  window.showStage();
  bench.tools.store->commit("add", [&](StoreWriter& w) {
    Machine m;
    m.folder = bench.groupId, m.name = "seed-bank";
    w.put(m);
  });
  CHECK(shown([&] { return !first->isVisible(); }));
}

TEST_CASE("The window fits the free area of its display, also with a remembered size",
          "[window][first][scale]") {
  WindowBench bench(1);
  bench.wantedSize = {};
  MainWindow& window = bench.open();
  const QRect free = window.screen()->availableGeometry();
  CHECK(free.width() >= window.width());
  CHECK(free.height() > window.height());
  // Larger than the display when it was left, it comes back inside of it.
  window.resize(2 * free.width(), 2 * free.height());
  window.close();
  bench.window = std::make_unique<MainWindow>(*bench.desk);
  CHECK(free.contains(QRect(bench.window->pos(), bench.window->size())));
}

TEST_CASE("At 125, 150 and 200 % the window fits, pictures are sharp, sizes are the display's own",
          "[window][scales]") {
  TemporaryFolder folder;
  const std::string display = (folder.path / "display.json").string();
  std::ofstream(display) << R"({"synchronousWindowSystemEvents": false, "windowFrameMargins": true,
    "screens": [{"name": "one", "x": 0, "y": 0, "width": 1600, "height": 1000, "logicalDpi": 96,
                 "logicalBaseDpi": 96, "dpr": 1}]})";
  for (const char* factor : {"1.25", "1.5", "2"}) {
    CAPTURE(factor);
    const std::string log = (folder.path / factor).string();
    const std::string self = QCoreApplication::applicationFilePath().toStdString();
    const bool passed = std::system(("QT_SCALE_FACTOR=" + std::string(factor) +
                                     " QT_QPA_PLATFORM=offscreen:configfile=" + display + " " + self +
                                     " -w NoTests [scale] > " + log + " 2>&1")
                                        .c_str()) == 0;
    if (!passed) UNSCOPED_INFO(textOf(readFile(log)));
    CHECK(passed);
  }
}
