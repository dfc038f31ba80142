#include "desktop/window/wished_screens.hpp"

#include <QGuiApplication>
#include <QScreen>

#include "desktop/picture/monitor_pixels.hpp"

namespace kw::desktop {

namespace {

/// In their own pixels.
std::vector<Rect> placesOf(const std::vector<QScreen*>& monitors) {
  std::vector<Rect> out;
  for (const QScreen* m : monitors) {
    const Size pixels = monitorPixels(*m);
    out.push_back({m->geometry().x(), m->geometry().y(), pixels.width, pixels.height});
  }
  return out;
}

}  // namespace

std::vector<QScreen*> monitorsMainFirst() {
  QList<QScreen*> out = QGuiApplication::screens();
  if (const auto main = out.indexOf(QGuiApplication::primaryScreen()); main > 0) out.move(main, 0);
  return {out.begin(), out.end()};
}

WishedScreens::WishedScreens(OpenSession* session) : QObject(session), session_(session) {
  connect(session, &OpenSession::changed, this, &WishedScreens::look);
}

void WishedScreens::look() {
  if (!session_->shown.screens.any()) return;
  if (!session_->isLive()) {
    asked_ = false;
    return;
  }
  if (!asked_ && session_->capabilities().screens.can && !session_->offers().empty()) askFor();
  while (asked_ && shown_ < std::min(wanted_, session_->screens().size())) showNext();
}

void WishedScreens::showNext() {
  const ScreenWish& wish = session_->shown.screens;
  const std::vector<QScreen*> monitors = chosenOf(wish, monitorsMainFirst());
  QScreen* monitor = wish.likeMonitors && shown_ < monitors.size() ? monitors[shown_] : nullptr;
  emit furtherScreen(static_cast<int>(++shown_), monitor);
}

void WishedScreens::askFor() {
  asked_ = true;
  // One screen stays in the pane; of several that fill monitors, the first fills one, too.
  const ScreenWish& wish = session_->shown.screens;
  const auto plan = wishedScreens(wish, session_->offers(), placesOf(chosenOf(wish, monitorsMainFirst())));
  const auto& lit = plan.empty() ? session_->offers() : plan;
  wanted_ =
      static_cast<std::size_t>(std::count_if(lit.begin(), lit.end(), [](const auto& s) { return s.on; }));
  if (!std::exchange(began_, true)) shown_ = wish.likeMonitors && wanted_ > 1 ? 0 : 1;
  if (!plan.empty()) session_->session().arrangeScreens(plan);
}

}  // namespace kw::desktop
