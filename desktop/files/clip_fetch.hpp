// Brings files that were copied on a machine into a folder of this desk: how far it is, and a way to stop it.
#pragma once
#include <QTimer>
#include <QWidget>

#include "desktop/model/open_session.hpp"
#include "session/clip_files.hpp"

class QLabel;
class QProgressBar;

namespace kw::desktop {

class ClipFetch : public QWidget {
  Q_OBJECT
 public:
  /// Begins at once; a window of its own that closes when it is over. Closed before, it stops.
  ClipFetch(const Executor& strand, std::shared_ptr<Clip> clip, const QString& machine, const QString& folder,
            QWidget* parent);
  ~ClipFetch() override;

 signals:
  /// `saved`: what was copied itself, as it lies here now.
  void fetched(const QStringList& saved);
  void failed(const QString& sentence);

 private:
  void show(const ClipSaving& saving);
  void over(const QStringList& saved, const QString& failure);

  std::shared_ptr<Mailbox<ClipFetch>> mailbox_;
  std::shared_ptr<ClipSaving> saving_ = std::make_shared<ClipSaving>();
  QLabel* what_;
  QProgressBar* bar_;
  QTimer tick_;
  QString machine_;
};

}  // namespace kw::desktop
