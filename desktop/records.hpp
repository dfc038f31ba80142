// The store as the window sees it: one snapshot, reloaded when anybody changes it.
#pragma once
#include <QObject>
#include <QTimer>
#include <functional>
#include <memory>

#include "route/opening.hpp"

namespace kw::desktop {

class Records : public QObject {
  Q_OBJECT
 public:
  explicit Records(OpeningTools tools, QObject* parent = nullptr);
  [[nodiscard]] const Snapshot& snapshot() const { return *snapshot_; }
  [[nodiscard]] std::shared_ptr<const Snapshot> shared() const { return snapshot_; }
  [[nodiscard]] const OpeningTools& tools() const { return tools_; }
  [[nodiscard]] Store& store() { return *tools_.store; }
  /// Commits and reloads; on failure `failed` is emitted with a sentence and false returned.
  bool commit(const QString& title, const std::function<void(StoreWriter&)>& work);
  void undo();
  [[nodiscard]] QString undoTitle();
  void reload();

 signals:
  void changed();
  void failed(const QString& sentence);
  void said(const QString& sentence);

 private:
  OpeningTools tools_;
  std::shared_ptr<Snapshot> snapshot_;
  QTimer poll_;
};

}  // namespace kw::desktop
