// The window: its start with 50,000 machines, the roster per keystroke, picture to paint, memory of a
// session.
#include <unistd.h>
#include <QApplication>
#include <QElapsedTimer>
#include <QMainWindow>
#include <QPainter>
#include <QProcess>
#include <QTest>
#include <fstream>

#include "bench/bench.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/model/desk.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "lab/host.hpp"

namespace kw::bench {

namespace {

using namespace desktop;

std::filesystem::path makeStore(int machines) {
  const auto folder = std::filesystem::temp_directory_path() / ("kettle-bench-" + std::to_string(getpid()));
  std::filesystem::create_directories(folder / "kettle-window");
  auto store = openSqliteStore(folder / "kettle-window" / "records.sqlite");
  store->commit("fill", [&](StoreWriter& w) {
    Folder place;
    place.name = "Alder Vale";
    w.put(place);
    for (int g = 0; g < 100; ++g) {
      Folder group;
      group.parent = place.id, group.name = "Palm house " + std::to_string(g), group.host = "orchard";
      w.put(group);
      for (int i = 0; i < machines / 100; ++i) {
        Machine m;
        m.folder = group.id, m.name = "palm-house-" + std::to_string(g) + "-" + std::to_string(i),
        m.host = "orchard";
        w.put(m);
        Endpoint e;
        e.machine = m.id, e.label = "screen",
        e.address = "vnc://10.8." + std::to_string(g) + "." + std::to_string(i % 250) + ":" +
                    std::to_string(5900 + i / 250);
        w.put(e);
      }
    }
  });
  return folder;
}

/// Whole processes, from start to the first painted window.
double processStart(const QString& program, const QStringList& arguments,
                    const QProcessEnvironment& environment) {
  QProcess process;
  process.setProcessEnvironment(environment);
  QElapsedTimer timer;
  timer.start();
  process.start(program, arguments);
  process.waitForFinished(60000);
  return process.exitCode() == 0 ? static_cast<double>(timer.nsecsElapsed()) / 1e9 : 1e9;
}

double residentMegabytes() {
  long pages = 0, resident = 0;
  std::ifstream("/proc/self/statm") >> pages >> resident;
  return static_cast<double>(resident) * static_cast<double>(sysconf(_SC_PAGESIZE)) / 1e6;
}

/// The floor of a start: an application, one empty main window, painted once.
class BareWindow : public QMainWindow {
 protected:
  void paintEvent(QPaintEvent* e) override {
    QMainWindow::paintEvent(e);
    QTimer::singleShot(0, qApp, &QApplication::quit);
  }
};

void benchStart(Table& table, const char* self, const std::filesystem::path& folder) {
  QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
  environment.insert("XDG_DATA_HOME", folder.c_str());
  environment.insert("XDG_STATE_HOME", folder.c_str());
  environment.insert("XDG_CONFIG_HOME", folder.c_str());
  environment.insert("QT_QPA_PLATFORM", "offscreen");
  const QString window = QFileInfo(self).absolutePath() + "/../desktop/kettle-window";
  double ours = 1e9, filled = 1e9, floor = 1e9;
  for (int i = 0; i < 7; ++i) {
    ours = std::min(ours, processStart(window, {"--measure-start", "painted"}, environment));
    filled = std::min(filled, processStart(window, {"--measure-start", "filled"}, environment));
    floor = std::min(floor, processStart(self, {"--bare-window"}, environment));
  }
  table.row("start with 50,000 machines, first paint", ours, floor, "a bare Qt window, process to process",
            1.5);
  table.row("start with 50,000 machines, roster filled", filled, floor,
            "a bare Qt window, process to process");
}

void benchRoster(Table& table, const std::filesystem::path& folder) {
  OpeningTools tools;
  tools.store = openSqliteStore(folder / "kettle-window" / "records.sqlite");
  Desk desk(tools);
  desk.reach().setEnabled(false);
  MainWindow window(desk);
  window.show();
  QApplication::processEvents();
  double worst = 0;
  const QString text = "palm-house-42-17";
  for (int i = 1; i <= text.size(); ++i) {
    QElapsedTimer timer;
    timer.start();
    window.narrowField()->setText(text.left(i));
    window.roster()->viewport()->repaint();
    worst = std::max(worst, static_cast<double>(timer.nsecsElapsed()) / 1e6);
  }
  for (int i = static_cast<int>(text.size()) - 1; i >= 0; --i) {
    QElapsedTimer timer;
    timer.start();
    window.narrowField()->setText(text.left(i));
    window.roster()->viewport()->repaint();
    worst = std::max(worst, static_cast<double>(timer.nsecsElapsed()) / 1e6);
  }
  table.figure("roster at 50,000: slowest keystroke to paint", worst, "ms", 16);
}

void benchPaint(Table& table) {
  Runtime runtime(1);
  lab::ConsolePlan plan;
  plan.guest.name = "mist-bench";
  plan.guest.scene = lab::SceneKind::MistBench;
  lab::Console console(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), plan);
  console.start(true);
  // The simulated machine lives in this process, too: it gets its memory before anything is measured.
  console.withGuest([](lab::Guest& g) {
    g.resize({1920, 1080});
    g.advance(lab::Guest::Time(0));
  });
  const auto folder =
      std::filesystem::temp_directory_path() / ("kettle-bench-one-" + std::to_string(getpid()));
  OpeningTools tools;
  tools.store = openSqliteStore(folder / "records.sqlite");
  {
    Desk desk(tools);
    MainWindow window(desk);
    window.resize(1600, 1000);
    window.show();
    QApplication::processEvents();
    const double before = residentMegabytes();
    window.openAddress("vnc://127.0.0.1:" + QString::number(console.port()));
    OpenSession* s = window.stage()->focusedSession();
    if (!QTest::qWaitFor([&] { return s->isLive() && s->figures().frames > 10; }, 20000)) std::abort();
    const double framebuffer = 1920 * 1080 * 4 / 1e6;
    table.figure("memory of a 1080p session, in framebuffers", (residentMegabytes() - before) / framebuffer,
                 "", 3);
    PictureView* view = window.stage()->focusedPane()->view();
    for (FitMode mode : {FitMode::Shrink, FitMode::Actual}) {
      view->setFitMode(mode);
      QApplication::processEvents();
      QImage target(view->size(), QImage::Format_RGB32);
      const auto whole = [&] {
        emit s->damaged(QRegion(0, 0, 1920, 1080));
        while (!view->upToDate()) QApplication::processEvents(QEventLoop::WaitForMoreEvents);
        view->repaint();
      };
      const auto [ours, floor] = bestOfBoth(whole, [&] {
        QPainter p(&target);
        p.drawImage(0, 0, target.copy());
      });
      table.row(mode == FitMode::Shrink ? "picture to paint, all of 1080p, shrunk"
                                        : "picture to paint, all of 1080p, one to one",
                ours, floor, "Qt draws an image as large as the pane");
    }
    const auto [small, floor] = bestOfBoth(
        [&] {
          emit s->damaged(QRegion(300, 300, 64, 64));
          while (!view->upToDate()) QApplication::processEvents(QEventLoop::WaitForMoreEvents);
          view->repaint(QRect(100, 100, 64, 64));
        },
        [&] { view->repaint(QRect(100, 100, 64, 64)); });
    table.row("picture to paint, 64x64", small, floor, "repainting the same part");
  }
  console.stop();
  runtime.stop();
  std::filesystem::remove_all(folder);
}

}  // namespace

void benchWindow(Table& table, int argc, char** argv) {
  if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  QApplication app(argc, argv);
  if (argc > 1 && QString(argv[1]) == "--bare-window") {
    BareWindow bare;
    bare.resize(1280, 800);
    bare.show();
    std::_Exit(QApplication::exec());
  }
  applyScheme(app, SchemeChoice::Evening);
  const auto folder = makeStore(50'000);
  benchStart(table, argv[0], folder);
  benchRoster(table, folder);
  std::filesystem::remove_all(folder);
  benchPaint(table);
}

}  // namespace kw::bench
