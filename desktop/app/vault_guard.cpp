#include "desktop/app/vault_guard.hpp"

#include <QCoreApplication>
#include <QDBusConnection>
#include <QEvent>

namespace kw::desktop {

VaultGuard::VaultGuard(std::shared_ptr<Vault> vault, QObject* parent)
    : QObject(parent), vault_(std::move(vault)) {
  touched_.start();
  timer_.setSingleShot(true);
  connect(&timer_, &QTimer::timeout, this, &VaultGuard::look);
  qApp->installEventFilter(this);
  // Without a system bus nobody tells of sleep; then only the time counts.
  QDBusConnection::systemBus().connect("org.freedesktop.login1", "/org/freedesktop/login1",
                                       "org.freedesktop.login1.Manager", "PrepareForSleep", this,
                                       SLOT(sleepComes(bool)));
}

void VaultGuard::setIdle(std::chrono::milliseconds idle) {
  idle_ = idle;
  timer_.stop();
  if (idle.count() > 0) timer_.start(idle);
}

bool VaultGuard::lock(const QString& why) {
  if (!vault_ || !vault_->isOpen() || !vault_->lock()) return false;
  emit locked(why);
  return true;
}

void VaultGuard::sleepComes(bool before) {
  if (before) lock(tr("the computer sleeps"));
}

void VaultGuard::look() {
  const std::chrono::milliseconds quiet(touched_.elapsed());
  if (quiet < idle_) return timer_.start(idle_ - quiet);
  lock(tr("nobody has touched this window for a while"));
  timer_.start(idle_);
}

bool VaultGuard::eventFilter(QObject* watched, QEvent* event) {
  switch (event->type()) {
    case QEvent::KeyPress:
    case QEvent::MouseButtonPress:
    case QEvent::MouseMove:
    case QEvent::Wheel:
    case QEvent::TouchBegin: touched_.restart(); break;
    default: break;
  }
  return QObject::eventFilter(watched, event);
}

}  // namespace kw::desktop
