#include "desktop/hosts/change_over.hpp"

#include <utility>

#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

ChangeOver::ChangeOver(Desk& desk, Stage& stage, QObject* parent)
    : QObject(parent), desk_(desk), stage_(stage) {
  // Later: what happens may end the session that the signal speaks of.
  connect(&desk_, &Desk::sessionsChanged, this, &ChangeOver::look, Qt::QueuedConnection);
}

void ChangeOver::watch(OpenSession* console, Id awaited, bool madeRoom) {
  std::erase_if(pairs_, [&](const Pair& p) { return p.console == console; });
  pairs_.push_back({console, awaited, madeRoom});
}

void ChangeOver::look() {
  for (std::size_t i = 0; i < pairs_.size();) {
    const Pair pair = pairs_[i];
    OpenSession* service = desk_.sessionOf(pair.awaited);
    const bool there = service != nullptr && service->isLive() && service->hasPicture();
    if (pair.console && !there) {
      ++i;
      continue;
    }
    pairs_.erase(pairs_.begin() + static_cast<std::ptrdiff_t>(i));
    if (pair.console && service != nullptr) answer(pair, service);
  }
}

void ChangeOver::answer(const Pair& pair, OpenSession* service) {
  const SettingReader setting = settingsOf(desk_.records().snapshot(), {OwnerKind::WayIn, pair.awaited});
  const std::string wish = setting("host.changeover");
  if (wish == "stay") return;
  if (wish == "self") return changeTo(pair, service);
  const QString news = tr("%1 answers now").arg(service->label().section(" · ", 0, 0));
  Pane* pane = paneOf(pair);
  if (pane == nullptr) {  // the console has a window of its own, or waits in the strip
    emit said(service->machine() + ": " + news);
    return;
  }
  pane->offer(news, tr("Change over"), [this, pair, target = QPointer<OpenSession>(service)] {
    if (target && pair.console) changeTo(pair, target);
  });
}

Pane* ChangeOver::paneOf(const Pair& pair) const {
  for (Pane* pane : stage_.panes())
    if (pane->session() == pair.console) return pane;
  return nullptr;
}

void ChangeOver::changeTo(const Pair& pair, OpenSession* service) {
  Pane* left = paneOf(pair);
  stage_.show(service);
  emit said(tr("%1: changed over to its %2.").arg(service->machine(), service->label().section(" · ", 0, 0)));
  if (left != nullptr && pair.madeRoom && left->session() == pair.console && stage_.panes().size() > 1)
    stage_.closePane(left);
  emit endWanted(pair.console);
}

}  // namespace kw::desktop
