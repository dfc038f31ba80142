// The real window on records and consoles of its own; folders of the user are never touched.
#pragma once
#include <QApplication>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>
#include <memory>

#include "desktop/model/desk.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/stage/story_card.hpp"
#include "desktop/stage/strip.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "lab/host.hpp"
#include "tests/support.hpp"

namespace kw::test {

using namespace kw::desktop;

/// Runs the event loop until the condition holds.
inline bool shown(const std::function<bool()>& condition, int limit = 10000) {
  return QTest::qWaitFor(condition, limit);
}

class WindowBench {
 public:
  explicit WindowBench(int machines = 2, const std::string& password = "", bool certificate = false,
                       bool twoScreens = false)
      : fonts(std::make_shared<lab::Fonts>()) {
    for (const char* name : {"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"})
      qputenv(name, folder.path.c_str());
    tools.store = openSqliteStore(folder.path / "records.sqlite");
    tools.vault = openVault(folder.path / "vault");
    for (int i = 1; i <= machines; ++i) {
      lab::ConsolePlan plan;
      plan.guest.name = "palm-house-0" + std::to_string(i);
      plan.guest.number = i;
      plan.guest.twoScreens = twoScreens;
      if (twoScreens) plan.guest.scene = lab::SceneKind::TicketKiosk;
      plan.options.name = plan.guest.name;
      plan.options.password = password;
      plan.options.power = true;
      if (certificate) plan.options.certificate = makeSelfSigned("orchard");
      consoles.push_back(std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan));
      consoles.back()->start(true);
    }
    tools.store->commit("fill", [&](StoreWriter& w) {
      Folder place;
      place.name = "Alder Vale";
      w.put(place);
      Folder group;
      group.parent = place.id, group.name = "Palm house", group.host = "orchard";
      w.put(group);
      groupId = group.id;
      for (const auto& c : consoles) {
        Machine m;
        m.folder = group.id, m.name = c->plan().guest.name, m.host = "orchard";
        w.put(m);
        Endpoint e;
        e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.1:" + std::to_string(c->port());
        w.put(e);
        machineIds.push_back(m.id);
        endpoints.push_back(e.id);
      }
    });
  }
  ~WindowBench() {
    window.reset();
    desk.reset();
    for (auto& c : consoles) c->stop();
    runtime.stop();
  }
  QSize wantedSize{1280, 800};
  MainWindow& open() {
    desk = std::make_unique<Desk>(tools);
    window = std::make_unique<MainWindow>(*desk);
    // Larger than the display that tests have, whatever the window thinks of it.
    if (wantedSize.isValid()) window->resize(wantedSize);
    window->show();
    QApplication::setActiveWindow(window.get());
    return *window;
  }
  OpenSession* openLive(std::size_t i) {
    window->openEndpoint(endpoints[i]);
    OpenSession* s = window->stage()->sessionOf(endpoints[i]);
    REQUIRE(s != nullptr);
    REQUIRE(shown([&] { return s->isLive() && s->hasPicture(); }));
    REQUIRE(shown([&] { return viewShowsGuest(i); }));
    return s;
  }
  /// The picture of session i equals the guest's own.
  bool viewShowsGuest(std::size_t i) {
    OpenSession* s = window->stage()->sessionOf(endpoints[i]);
    if (s == nullptr) return false;
    bool equal = false;
    consoles[i]->withGuest([&](lab::Guest& g) {
      const auto mine = s->picture();
      auto lock = mine->lock();
      equal = mine->size() == g.picture()->size();
    });
    return equal;
  }
  std::string noteOf(std::size_t i) {
    std::string note;
    consoles[i]->withGuest([&](lab::Guest& g) {
      g.key(0xffe3, true);
      g.key('c', true);
      note = g.takeCopied();
      g.key(0xffe3, false);
    });
    return note;
  }
  PictureView* view() { return window->stage()->focusedPane()->view(); }
  template <typename T>
  T* child(const QString& name) {
    return window->findChild<T*>(name);
  }

  TemporaryFolder folder;
  Runtime runtime{1};
  std::shared_ptr<lab::Fonts> fonts;
  std::vector<std::unique_ptr<lab::Console>> consoles;
  OpeningTools tools;
  std::vector<Id> machineIds, endpoints;
  Id groupId = 0;
  std::unique_ptr<Desk> desk;
  std::unique_ptr<MainWindow> window;
};

/// A key as a keyboard on X11 sends it, with its hardware code.
inline void hardwareKey(QWidget* widget, QEvent::Type type, int key, quint32 scanCode,
                        Qt::KeyboardModifiers modifiers = {}) {
  QKeyEvent event(type, key, modifiers, scanCode, 0, 0);
  QApplication::sendEvent(widget, &event);
}

}  // namespace kw::test
