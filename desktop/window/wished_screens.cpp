#include "desktop/window/wished_screens.hpp"

#include <QGuiApplication>
#include <QScreen>

#include "desktop/picture/monitor_pixels.hpp"

namespace kw::desktop {

namespace {

std::vector<Rect> placesOf(const QList<QScreen*>& monitors) {
  std::vector<Rect> out;
  for (const QScreen* m : monitors) {
    const Size pixels = monitorPixels(*m);
    out.push_back({m->geometry().x(), m->geometry().y(), pixels.width, pixels.height});
  }
  return out;
}

}  // namespace

QList<QScreen*> monitorsMainFirst() {
  QList<QScreen*> out = QGuiApplication::screens();
  if (const auto main = out.indexOf(QGuiApplication::primaryScreen()); main > 0) out.move(main, 0);
  return out;
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
  while (asked_ && shown_ < std::min(wanted_, session_->screens().size())) {
    const auto number = static_cast<int>(++shown_);
    const QList<QScreen*> monitors = monitorsMainFirst();
    const bool fills = session_->shown.screens.likeMonitors && number <= monitors.size();
    emit furtherScreen(number, fills ? monitors.at(number - 1) : nullptr);
  }
}

void WishedScreens::askFor() {
  asked_ = true;
  const auto plan = wishedScreens(session_->shown.screens, session_->offers(), placesOf(monitorsMainFirst()));
  const auto& lit = plan.empty() ? session_->offers() : plan;
  wanted_ =
      static_cast<std::size_t>(std::count_if(lit.begin(), lit.end(), [](const auto& s) { return s.on; }));
  if (!plan.empty()) session_->session().arrangeScreens(plan);
}

}  // namespace kw::desktop
