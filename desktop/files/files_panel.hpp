// Files of a machine beside its sessions: this desk on the left, the machine on the right.
#pragma once
#include <QWidget>

#include "desktop/files/file_work.hpp"

class QCheckBox;
class QFileSystemModel;
class QLabel;
class QLineEdit;
class QProgressBar;
class QPushButton;
class QTreeView;
class QTreeWidget;

namespace kw::desktop {

/// What is dragged out of the machine's side: names, a line each.
inline constexpr const char* kRemoteFiles = "application/x-kettle-window-files";

class FilesPanel : public QWidget {
  Q_OBJECT
 public:
  FilesPanel(Runtime& runtime, const OpeningTools& tools, QWidget* parent = nullptr);
  /// Connects to a machine's way in by SSH, unless it is the one that is open.
  void openFor(const QString& machine, const Address& address, const SettingReader& setting, Owner owner);
  [[nodiscard]] FileWork& work() { return work_; }
  [[nodiscard]] QTreeWidget* remoteList() const { return remote_; }
  [[nodiscard]] QTreeView* localList() const { return local_; }
  [[nodiscard]] QString remoteFolder() const { return folder_; }
  [[nodiscard]] QLabel* statusLabel() const { return status_; }
  void setLocalFolder(const QString& folder);
  void sendSelected();
  void getSelected();

 signals:
  void closed();

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  QWidget* buildLocal();
  QWidget* buildRemote();
  QWidget* buildBar();
  void showList(const QString& folder, const std::vector<RemoteFile>& files);
  void showQuestion(const Question& question);
  void showClash(const CopyJob& job, quint64 there, quint64 here);
  void clearBar();
  void say(const QString& sentence, bool bad = false);
  void remoteMenu(QPoint at);
  /// `below`: a folder of the one that is shown, ending in a stroke; or nothing.
  void upload(const QStringList& files, const QString& below = {});
  void getInto(const QString& target, const QStringList& names);
  void dropHere(QPoint at, const class QMimeData& dropped);
  void dropThere(QPoint at, const class QMimeData& dropped);
  [[nodiscard]] QString remotePath(const QString& name) const;

  FileWork work_;
  QString machine_, folder_;
  Owner owner_;
  QTreeView* local_;
  QFileSystemModel* model_;
  QTreeWidget* remote_;
  QLineEdit *localPath_, *remotePathField_;
  QCheckBox* hidden_;
  QLabel *title_, *status_;
  QProgressBar* progress_;
  QPushButton* cancel_;
  QWidget* question_;
  std::vector<RemoteFile> files_;
};

}  // namespace kw::desktop
