// Locks kept passwords when nobody has touched the window for a while, and before the computer sleeps.
#pragma once
#include <QElapsedTimer>
#include <QObject>
#include <QTimer>
#include <chrono>

#include "credential/vault.hpp"

namespace kw::desktop {

class VaultGuard : public QObject {
  Q_OBJECT
 public:
  /// `vault` may be null: then there is nothing to guard.
  VaultGuard(std::shared_ptr<Vault> vault, QObject* parent);
  /// Untouched for so long locks; zero: never.
  void setIdle(std::chrono::milliseconds idle);
  [[nodiscard]] std::chrono::milliseconds idle() const { return idle_; }
  /// False where no passphrase is set, so that nothing would open it again.
  bool lock(const QString& why);

 public slots:
  /// As the computer's login service tells: true before it sleeps, false after it woke.
  void sleepComes(bool before);

 signals:
  void locked(const QString& why);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void look();
  std::shared_ptr<Vault> vault_;
  std::chrono::milliseconds idle_{0};
  QElapsedTimer touched_;
  QTimer timer_;
};

}  // namespace kw::desktop
