// The store as the window sees it: one snapshot, reloaded when anybody changes it.
#pragma once
#include <QObject>
#include <QTimer>
#include <functional>
#include <memory>
#include <thread>

#include "desktop/model/mailbox.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

class Records : public QObject {
  Q_OBJECT
 public:
  /// Later: the snapshot is empty until `changed` follows, so that a window with very many machines is there
  /// at once.
  enum class Loading { Now, Later };
  explicit Records(OpeningTools tools, Loading loading, QObject* parent = nullptr);
  ~Records() override;
  [[nodiscard]] bool loaded() const { return loaded_; }
  [[nodiscard]] const Snapshot& snapshot() const { return *snapshot_; }
  [[nodiscard]] std::shared_ptr<const Snapshot> shared() const { return snapshot_; }
  [[nodiscard]] const OpeningTools& tools() const { return tools_; }
  [[nodiscard]] Store& store() { return *tools_.store; }
  /// Commits and reloads; on failure `failed` is emitted with a sentence and false returned.
  bool commit(const QString& title, const std::function<void(StoreWriter&)>& work) {
    return write(title, work) == Written::Yes;
  }
  enum class Written { Yes, Stale, No };
  /// Like commit(); Stale: somebody else changed the same in the meantime. Then nothing is said and what he
  /// made of it is loaded.
  Written write(const QString& title, const std::function<void(StoreWriter&)>& work, bool tellsStale = true);
  void undo();
  [[nodiscard]] QString undoTitle();
  void reload();

 signals:
  void changed();
  void failed(const QString& sentence);
  void said(const QString& sentence);

 private:
  void loadAside();
  void lookAside();
  void taken(std::shared_ptr<Snapshot> fresh, const QString& failure);

  OpeningTools tools_;
  std::shared_ptr<Snapshot> snapshot_;
  std::shared_ptr<Mailbox<Records>> mailbox_;
  QTimer poll_;
  std::thread loader_;
  std::unique_ptr<ChangeWatch> watch_;
  bool loaded_ = false, looking_ = false, lookAgain_ = false, lost_ = false;
};

}  // namespace kw::desktop
