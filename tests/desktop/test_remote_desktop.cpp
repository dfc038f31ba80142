// A remote desktop of our own service in the real window: keys as they travel, several monitors, the
// clipboard as an offer, sound, and a service that is not reached.
#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QMimeData>

#include "base/file.hpp"
#include "desktop/files/clip_fetch.hpp"
#include "desktop/model/clip_mime.hpp"
#include "desktop/picture/screens_plan.hpp"
#include "picture/png.hpp"
#include "rdp/server.hpp"
#include "session/clip_files.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// Whoever sits at the machine: keeps what came, and takes every layout.
struct Sitter : rdp::ServerEvents {
  std::mutex mutex;
  std::vector<std::pair<std::uint32_t, bool>> keys;
  std::u32string characters;
  std::shared_ptr<Clip> clip;
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{800, 600});
  rdp::Server* server = nullptr;
  bool in = false;

  void signedIn(const rdp::NtlmAccount&) override {
    const std::lock_guard held(mutex);
    in = true;
  }
  void scanCode(std::uint32_t code, bool down) override {
    const std::lock_guard held(mutex);
    keys.emplace_back(code, down);
  }
  void character(char32_t c, bool down) override {
    const std::lock_guard held(mutex);
    if (down) characters += c;
  }
  void clipCame(std::shared_ptr<Clip> c) override {
    const std::lock_guard held(mutex);
    clip = std::move(c);
  }
  bool layoutWanted(const std::vector<Rect>& monitors) override {
    Rect all;
    for (const Rect& m : monitors) all = all.united(m);
    {
      const auto lock = picture->lock();
      picture->resize(all.size());
      for (std::size_t i = 0; i < monitors.size(); ++i)
        picture->fill(monitors[i], i == 0 ? rgb(40, 90, 60) : rgb(150, 80, 40));
    }
    server->resized(monitors);
    return true;
  }
};

/// Counts what is fetched of it.
struct Counted : Clip {
  std::atomic<int> fetches{0};
  [[nodiscard]] std::set<ClipForm> forms() const override { return {ClipForm::Text, ClipForm::Html}; }
  void fetch(ClipForm form, Got got) override {
    ++fetches;
    const std::string content = form == ClipForm::Html ? "<b>Lot 12</b>" : "Lot 12";
    got(Bytes(content.begin(), content.end()));
  }
};

class DesktopBench : public WindowBench {
 public:
  DesktopBench() : WindowBench(1), strand(runtime.strand()), listener(listenTcp(strand, "127.0.0.1", 0)) {
    options.certificate = makeSelfSigned("seed-bank");
    options.account = [](const rdp::NtlmAccount&) { return rdp::KnownAccount{"guest-7", 0}; };
    options.pipeline = rdp::PipelineForm::Planar;
    options.mostMonitors = 2;
    spawn(strand, [this]() -> Task<void> {
      StreamPtr stream = co_await listener->accept();
      server = std::make_shared<rdp::Server>(strand, machine.picture, options, machine);
      machine.server = server.get();
      co_await server->run(std::move(stream));
    });
    tools.store->pin("127.0.0.1:" + std::to_string(listener->port()),
                     sha256OfPem(options.certificate.certificatePem));
    way = wayTo("rdp://duty@127.0.0.1:" + std::to_string(listener->port()));
    keepSignIn(tools, {OwnerKind::WayIn, way}, {"duty", "guest-7", SecretUse::Proved});
  }
  ~DesktopBench() {
    window.reset();
    desk.reset();
    std::promise<void> closed;
    post(strand, [&] {
      if (server) server->close();
      listener->close();
      closed.set_value();
    });
    closed.get_future().wait();
    runtime.stop();
  }
  Id wayTo(const std::string& address) {
    Id made = 0;
    tools.store->commit("add", [&](StoreWriter& w) {
      Machine m;
      m.folder = groupId, m.name = "seed-bank", m.host = "fernery";
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "desktop", e.address = address;
      w.put(e);
      made = e.id;
    });
    return made;
  }
  OpenSession* begin(Id which) {
    open().openEndpoint(which);
    OpenSession* s = window->stage()->sessionOf(which);
    REQUIRE(s != nullptr);
    return s;
  }
  OpenSession* live() {
    OpenSession* s = begin(way);
    REQUIRE(shown([&] { return s->isLive() && s->hasPicture(); }));
    return s;
  }
  template <typename F>
  auto at(F what) {
    const std::lock_guard held(machine.mutex);
    return what(machine);
  }
  void onStrand(const std::function<void()>& what) {
    std::promise<void> done;
    post(strand, [&] { what(), done.set_value(); });
    done.get_future().wait();
  }

  rdp::ServerOptions options;
  Sitter machine;
  std::shared_ptr<rdp::Server> server;
  Executor strand;
  std::unique_ptr<Listener> listener;
  Id way = 0;
};

void sendKey(QWidget* to, int key, quint32 native, const QString& text = {},
             Qt::KeyboardModifiers modifiers = {}) {
  for (const auto type : {QEvent::KeyPress, QEvent::KeyRelease}) {
    QKeyEvent event(type, key, modifiers, native, 0, 0, text);
    QApplication::sendEvent(to, &event);
  }
}

}  // namespace

TEST_CASE("A remote desktop: AltGr, arrows, function keys and letters travel as positions", "[window][rdp]") {
  DesktopBench bench;
  OpenSession* s = bench.live();
  PictureView* view = bench.view();
  REQUIRE(view != nullptr);
  view->setFocus();
  // AltGr with the key that gives @ on a German keyboard: codes of the hardware, eight above the kernel's.
  QKeyEvent down(QEvent::KeyPress, Qt::Key_AltGr, {}, 100 + 8, 0, 0),
      up(QEvent::KeyRelease, Qt::Key_AltGr, {}, 100 + 8, 0, 0);
  QApplication::sendEvent(view, &down);
  sendKey(view, Qt::Key_At, 16 + 8, "@", Qt::GroupSwitchModifier);
  QApplication::sendEvent(view, &up);
  sendKey(view, Qt::Key_Up, 103 + 8);
  sendKey(view, Qt::Key_F5, 63 + 8);
  sendKey(view, Qt::Key_Y, 21 + 8, "z");
  using Keys = std::vector<std::pair<std::uint32_t, bool>>;
  const Keys wanted{{0xe038, true},  {0x10, true}, {0x10, false}, {0xe038, false}, {0xe048, true},
                    {0xe048, false}, {0x3f, true}, {0x3f, false}, {0x15, true},    {0x15, false}};
  CHECK(shown([&] { return bench.at([](Sitter& m) { return m.keys; }) == wanted; }));
  // A letter that no key of a US keyboard has goes as itself.
  s->typeText(QString::fromUtf8("ö"));
  CHECK(shown([&] { return bench.at([](Sitter& m) { return m.characters; }) == U"ö"; }));
  bench.at([](Sitter& m) { return m.keys.clear(), 0; });
  s->sendChord("ctrl+alt+delete");
  const Keys secure{{0x1d, true},    {0x38, true},  {0xe053, true},
                    {0xe053, false}, {0x38, false}, {0x1d, false}};
  CHECK(shown([&] { return bench.at([](Sitter& m) { return m.keys; }) == secure; }));
}

TEST_CASE("A remote desktop: a second monitor is added, shown in a window of its own, and taken away",
          "[window][rdp]") {
  DesktopBench bench;
  OpenSession* s = bench.live();
  REQUIRE(shown([&] { return s->offers().size() == 2 && s->capabilities().screens.can; }));
  bench.window->openScreensPlan(s);
  auto* plan = bench.window->findChild<ScreensPlan*>();
  REQUIRE(plan != nullptr);
  QTest::mouseClick(plan, Qt::LeftButton, {}, plan->switchOf(1).center());
  REQUIRE(shown([&] { return s->screens().size() == 2 && s->offers()[1].on; }));
  CHECK(s->screens()[1].area.x == s->screens()[0].area.width);
  QTest::mouseDClick(plan, Qt::LeftButton, {}, plan->tile(1).center());
  REQUIRE(shown([&] { return !bench.window->screenWindows().isEmpty(); }));
  s->session().switchScreen(1, {});
  CHECK(shown([&] { return s->screens().size() == 1 && !s->offers()[1].on; }));
  s->session().switchScreen(0, {});
  CHECK(shown([&] { return s->remarkText().contains("last screen"); }));
}

TEST_CASE("A remote desktop: three monitors side by side, each in a window of its own", "[window][rdp]") {
  DesktopBench bench;
  bench.options.mostMonitors = 3;
  OpenSession* s = bench.live();
  REQUIRE(shown([&] { return s->offers().size() == 3 && s->capabilities().screens.can; }));
  for (std::uint32_t more : {1U, 2U}) {
    s->session().switchScreen(more, {1024, 768});
    REQUIRE(shown([&] { return s->screens().size() == more + 1; }));
  }
  // Side by side: none lies on another.
  const auto screens = s->screens();
  for (std::size_t i = 0; i < screens.size(); ++i)
    for (std::size_t j = 0; j < i; ++j) CHECK(screens[i].area.intersected(screens[j].area).empty());
  CHECK(screens[1].area.size() == Size{1024, 768});
  for (int number : {2, 3}) bench.window->openScreenWindow(s, number);
  REQUIRE(bench.window->screenWindows().size() == 2);
  const auto pictureOf = [&](int at) {
    return bench.window->screenWindows().at(at)->findChild<PictureView*>()->screen();
  };
  CHECK(std::set<int>{pictureOf(0), pictureOf(1)} == std::set<int>{2, 3});
  // Any of them goes; the others keep their windows' pictures.
  s->session().switchScreen(2, {});
  CHECK(shown([&] { return s->screens().size() == 2; }));
}

TEST_CASE("A remote desktop: the screens that its record wishes are there, each in a window, and once",
          "[window][rdp]") {
  DesktopBench bench;
  bench.options.mostMonitors = 3;
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.way}, "screen.screens", "2");
    w.set({OwnerKind::WayIn, bench.way}, "screen.lie", "below");
  });
  OpenSession* s = bench.live();
  REQUIRE(shown([&] { return s->screens().size() == 2 && bench.window->screenWindows().size() == 1; }));
  CHECK(s->screens()[1].area == Rect{0, 600, 800, 600});
  CHECK(bench.window->screenWindows().at(0)->screen() == 2);
  CHECK(bench.window->stage()->panes().at(0)->view()->screen() == 1);
  // Whoever closes the window or switches the screen off is not told otherwise.
  bench.window->screenWindows().at(0)->close();
  const auto windows = [&] {
    const auto& all = bench.window->screenWindows();
    return std::count_if(all.begin(), all.end(), [](const auto& w) { return w && w->isVisible(); });
  };
  REQUIRE(shown([&] { return windows() == 0; }));
  s->session().switchScreen(1, {});
  REQUIRE(shown([&] { return s->screens().size() == 1; }));
  s->session().switchScreen(1, {640, 480});
  REQUIRE(shown([&] { return s->screens().size() == 2; }));
  CHECK_FALSE(shown([&] { return windows() > 0; }, 200));
}

// Run by the test after it, on a display with two monitors.
TEST_CASE("Two monitors", "[.two-monitors]") {
  REQUIRE(QGuiApplication::screens().size() == 2);
  DesktopBench bench;
  bench.options.mostMonitors = 3;
  const bool turned = GENERATE(false, true);
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.way}, "screen.screens", "monitors");
    w.set({OwnerKind::WayIn, bench.way}, "screen.monitors", turned ? "2, 1" : "");
  });
  OpenSession* s = bench.live();
  REQUIRE(shown([&] { return s->screens().size() == 2 && bench.window->screenWindows().size() == 2; }));
  // As they lie on the display, whichever is the machine's first.
  const Rect main{0, 0, 1600, 1000}, side{1600, 0, 1280, 1024};
  CHECK(s->screens()[0].area == (turned ? side : main));
  CHECK(s->screens()[1].area == (turned ? main : side));
  for (const auto& window : bench.window->screenWindows()) {
    CHECK(window->fullScreen());
    CHECK((window->geometry().x() >= 1600) == (window->screen() == (turned ? 1 : 2)));
  }
}

TEST_CASE("A remote desktop like this desk's two monitors: each is filled", "[window][rdp]") {
  TemporaryFolder folder;
  const std::string display = (folder.path / "display.json").string();
  const std::string log = (folder.path / "log").string();
  std::ofstream(display)
      << R"({"synchronousWindowSystemEvents": false, "windowFrameMargins": true, "screens": [
    {"name": "main", "x": 0, "y": 0, "width": 1600, "height": 1000, "logicalDpi": 96, "logicalBaseDpi": 96, "dpr": 1},
    {"name": "side", "x": 1600, "y": 0, "width": 1280, "height": 1024, "logicalDpi": 96, "logicalBaseDpi": 96,
     "dpr": 1}]})";
  const std::string self = QCoreApplication::applicationFilePath().toStdString();
  const bool passed = std::system(("QT_QPA_PLATFORM=offscreen:configfile=" + display + " " + self +
                                   " -w NoTests [.two-monitors] > " + log + " 2>&1")
                                      .c_str()) == 0;
  if (!passed) UNSCOPED_INFO(textOf(readFile(log)));
  CHECK(passed);
}

TEST_CASE("A remote desktop: files copied there are fetched here, and the other way",
          "[window][rdp][clipboard]") {
  DesktopBench bench;
  OpenSession* s = bench.live();
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.in; }); }));
  const auto there = bench.folder.path / "there", here = bench.folder.path / "here";
  for (const auto& folder : {there, here}) std::filesystem::create_directories(folder);
  std::ofstream(there / "lots.csv") << "fern;7";
  auto* fetch = bench.window->findChild<QAction*>("fetchFiles");
  REQUIRE(fetch != nullptr);
  CHECK_FALSE(fetch->isEnabled());
  bench.onStrand([&] {
    bench.server->offerClip(
        std::make_shared<LocalFiles>(std::vector<std::filesystem::path>{there / "lots.csv"}));
  });
  REQUIRE(shown([&] { return fetch->isEnabled(); }));
  bench.window->fetchCopiedFiles(s, QString::fromStdString(here.string()));
  REQUIRE(shown([&] {
    const QMimeData* now = QApplication::clipboard()->mimeData();
    return now != nullptr && now->hasUrls();
  }));
  CHECK(textOf(readFile(here / "lots.csv")) == "fern;7");
  CHECK(QApplication::clipboard()->mimeData()->urls().at(0).toLocalFile().toStdString() ==
        (here / "lots.csv").string());
  CHECK(shown([&] { return bench.window->findChildren<ClipFetch*>().isEmpty(); }));
  // What was just fetched is not offered to the machine it came from; what is copied here is.
  CHECK(bench.at([](Sitter& m) { return m.clip == nullptr; }));
  auto* copied = new QMimeData;
  copied->setUrls({QUrl::fromLocalFile(QString::fromStdString((here / "lots.csv").string()))});
  QApplication::clipboard()->setMimeData(copied);
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.clip != nullptr; }); }));
  const auto clip = bench.at([](Sitter& m) { return m.clip; });
  CHECK(clip->forms() == std::set<ClipForm>{ClipForm::Files});
  std::promise<std::string> came;
  clip->list([&](const auto& files) {
    if (!files || files->size() != 1) return came.set_value("no list");
    clip->read(0, 2, 100, [&](const auto& content) {
      came.set_value(content ? std::string(content->begin(), content->end()) : "nothing");
    });
  });
  auto coming = came.get_future();
  REQUIRE(shown([&] { return coming.wait_for(std::chrono::seconds(0)) == std::future_status::ready; }));
  CHECK(coming.get() == "rn;7");
}

TEST_CASE("A remote desktop: a record that lets only plain text pass", "[window][rdp][clipboard]") {
  DesktopBench bench;
  bench.tools.store->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, bench.way}, "clipboard.kinds", "plain");
  });
  bench.live();
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.in; }); }));
  auto* rich = new QMimeData;
  rich->setText("Karte 7");
  rich->setHtml("<i>Karte 7</i>");
  QApplication::clipboard()->setMimeData(rich);
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.clip != nullptr; }); }));
  CHECK(bench.at([](Sitter& m) { return m.clip->forms(); }) == std::set<ClipForm>{ClipForm::Text});
  bench.onStrand([&] { bench.server->offerClip(std::make_shared<Counted>()); });
  REQUIRE(shown([] { return QApplication::clipboard()->text() == "Lot 12"; }));
  CHECK_FALSE(QApplication::clipboard()->mimeData()->hasHtml());
}

TEST_CASE("A remote desktop: what is copied there is fetched when it is pasted here, and the other way",
          "[window][rdp][clipboard]") {
  DesktopBench bench;
  bench.live();
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.in; }); }));
  auto there = std::make_shared<Counted>();
  bench.onStrand([&] { bench.server->offerClip(there); });
  const auto mime = [] { return qobject_cast<const ClipMime*>(QApplication::clipboard()->mimeData()); };
  REQUIRE(shown([&] { return mime() != nullptr && mime()->hasFormat("text/html"); }));
  CHECK(there->fetches == 0);
  CHECK(QApplication::clipboard()->text() == "Lot 12");
  CHECK(QApplication::clipboard()->mimeData()->html() == "<b>Lot 12</b>");
  CHECK(there->fetches == 2);
  // From here: announced at once, read when somebody over there asks.
  auto* rich = new QMimeData;
  rich->setText("Karte 7");
  rich->setHtml("<i>Karte 7</i>");
  QImage picture(20, 10, QImage::Format_RGB32);
  picture.fill(QColor(10, 200, 30));
  rich->setImageData(picture);
  QApplication::clipboard()->setMimeData(rich);
  REQUIRE(shown([&] { return bench.at([](Sitter& m) { return m.clip && m.clip->forms().size() == 3; }); }));
  const auto clip = bench.at([](Sitter& m) { return m.clip; });
  std::map<ClipForm, std::optional<Bytes>> got;
  std::mutex mutex;
  for (const ClipForm form : {ClipForm::Text, ClipForm::Html, ClipForm::Picture})
    clip->fetch(form, [&, form](std::optional<Bytes> content) {
      const std::lock_guard held(mutex);
      got[form] = std::move(content);
    });
  REQUIRE(shown([&] {
    const std::lock_guard held(mutex);
    return got.size() == 3;
  }));
  const auto text = [&](ClipForm form) {
    return got[form] ? std::string(got[form]->begin(), got[form]->end()) : "nothing";
  };
  CHECK(text(ClipForm::Text) == "Karte 7");
  CHECK_THAT(text(ClipForm::Html), Catch::Contains("<i>Karte 7</i>"));
  REQUIRE(got[ClipForm::Picture]);
  CHECK(decodePng(*got[ClipForm::Picture]).pixel(5, 5) == rgb(10, 200, 30));
}

TEST_CASE("A remote desktop: a service that listens on the machine's own loopback only is told as such",
          "[window][rdp]") {
  DesktopBench bench;
  // The service listens on 127.0.0.1; the record has the machine's other address.
  const Id other = bench.wayTo("rdp://duty@127.0.0.29:" + std::to_string(bench.listener->port()));
  OpenSession* s = bench.begin(other);
  REQUIRE(shown([&] { return s->status().problem == ErrorKind::Refused; }));
  CHECK_THAT(s->status().cure, Catch::Contains("loopback address only"));
  CHECK_THAT(s->status().cure, Catch::Contains("let it listen on all addresses"));
}

TEST_CASE("The sheet tells a machine's own service from its console by ID, and whose account signs in",
          "[window][rdp][sheet]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.editMachine(bench.machineIds[0]);
  auto* address = bench.child<QLineEdit>("address0");
  REQUIRE(address != nullptr);
  auto* choice = window.findChild<QComboBox*>("wayTarget");
  for (auto* pages : window.findChildren<QListWidget*>())
    for (QListWidgetItem* page : pages->findItems("Ways to reach it", Qt::MatchExactly))
      pages->setCurrentItem(page);
  REQUIRE(address->isVisible());
  auto* id = window.findChild<QLineEdit*>("wayTargetId");
  REQUIRE((choice != nullptr && id != nullptr));
  CHECK_FALSE(choice->isVisible());  // a screen of another kind
  address->setText("rdp://duty@127.0.0.23");
  REQUIRE(choice->isVisible());
  CHECK_FALSE(id->isVisible());
  const auto hint = [&] { return choice->parentWidget()->findChild<QLabel*>("quiet")->text(); };
  CHECK(hint().startsWith("An account of the machine itself"));
  choice->setFocus();
  QTest::keyClick(choice, Qt::Key_Down);
  REQUIRE(id->isVisible());
  CHECK(hint().startsWith("An account of the host"));
  QTest::keyClicks(id, "5c2e8a10");
  CHECK(address->text() == "rdp://duty@127.0.0.23:2179?machine=5c2e8a10");
  auto* words = choice->parentWidget()->findChild<QLabel*>("quiet");
  CHECK(shown([&] { return words->height() >= words->heightForWidth(words->width()); }));  // nothing is cut
  QTest::keyClick(choice, Qt::Key_Up);
  CHECK(address->text().toStdString() == "rdp://duty@127.0.0.23:3389");
  address->setText("rdp://duty@127.0.0.11:2180?machine=seeds");
  CHECK(choice->currentIndex() == 1);
  CHECK(id->text() == "seeds");
  // The kind has settings of its own, which have a page once one turns to another.
  auto* pages = window.findChild<Sheet*>()->findChild<QListWidget*>();
  CHECK(pages->findItems("Remote desktop", Qt::MatchExactly).isEmpty());
  pages->setCurrentRow(0);
  CHECK(shown([&] { return !pages->findItems("Remote desktop", Qt::MatchExactly).isEmpty(); }));
}
