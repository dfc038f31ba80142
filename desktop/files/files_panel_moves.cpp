// Files on their way between the two sides: by button, menu and drag.
#include <QDropEvent>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QMessageBox>
#include <QMimeData>
#include <QTreeWidget>
#include <algorithm>

#include "desktop/files/files_panel.hpp"
#include "desktop/look/glyphs.hpp"

namespace kw::desktop {

void FilesPanel::upload(const QStringList& files, const QString& below) {
  if (folder_.isEmpty()) return;
  QList<CopyJob> jobs;
  for (const QString& file : files) {
    const QFileInfo info(file);
    if (info.isDir())
      work_.copyFolder(true, file, remotePath(below + info.fileName()));
    else
      jobs.append({true, file, remotePath(below + info.fileName()), CopyJob::Way::Fresh});
  }
  work_.copy(jobs);
}

void FilesPanel::sendSelected() {
  QStringList files;
  for (const QModelIndex& i : local_->selectionModel()->selectedRows()) files << model_->filePath(i);
  if (files.isEmpty()) return say(tr("Choose files on this desk first."));
  upload(files);
}

void FilesPanel::getSelected() {
  QStringList names;
  for (const QTreeWidgetItem* item : remote_->selectedItems()) names << item->text(0);
  if (names.isEmpty()) return say(tr("Choose files on the machine first."));
  getInto(localPath_->text(), names);
}

void FilesPanel::getInto(const QString& target, const QStringList& names) {
  QList<CopyJob> jobs;
  for (const RemoteFile& file : files_) {
    const QString name = QString::fromStdString(file.name);
    if (!names.contains(name)) continue;
    if (file.folder())
      work_.copyFolder(false, target + "/" + name, remotePath(name));
    else
      jobs.append({false, target + "/" + name, remotePath(name), CopyJob::Way::Fresh});
  }
  work_.copy(jobs);
}

void FilesPanel::remoteMenu(QPoint at) {
  if (folder_.isEmpty()) return;
  QMenu menu(this);
  QTreeWidgetItem* item = remote_->itemAt(at);
  const QString name = item != nullptr ? item->text(0) : QString();
  const bool folder = item != nullptr && item->data(0, Qt::UserRole).toBool();
  menu.addAction(tr("Get"), this, &FilesPanel::getSelected)->setEnabled(item != nullptr);
  menu.addAction(tr("New folder…"), this, [this] {
    const QString n = QInputDialog::getText(this, tr("New folder"), tr("Name:"));
    if (!n.isEmpty()) work_.makeFolder(remotePath(n));
  });
  menu.addAction(tr("Rename…"), this,
                 [this, name] {
                   const QString n =
                       QInputDialog::getText(this, tr("Rename"), tr("Name:"), QLineEdit::Normal, name);
                   if (!n.isEmpty() && n != name) work_.rename(remotePath(name), remotePath(n));
                 })
      ->setEnabled(item != nullptr);
  menu.addAction(tr("Rights…"), this,
                 [this, name] {
                   const auto f = std::find_if(files_.begin(), files_.end(), [&](const RemoteFile& r) {
                     return QString::fromStdString(r.name) == name;
                   });
                   if (f == files_.end()) return;
                   bool fine = false;
                   const QString now = QString::number(f->permissions & 07777, 8);
                   const QString text = QInputDialog::getText(
                       this, tr("Rights"), tr("Octal, as 640 for rw-r-----:"), QLineEdit::Normal, now);
                   const unsigned rights = text.toUInt(&fine, 8);
                   if (fine && rights <= 07777) work_.setRights(remotePath(name), rights);
                 })
      ->setEnabled(item != nullptr);
  menu.addAction(tr("Compare with this desk's by digest"), this,
                 [this, name] { work_.compare(localPath_->text() + "/" + name, remotePath(name)); })
      ->setEnabled(item != nullptr && !folder && QFileInfo::exists(localPath_->text() + "/" + name));
  menu.addSeparator();
  menu.addAction(tr("Remove"), this,
                 [this] {
                   const auto chosen = remote_->selectedItems();
                   // There is no way back on the other side, so this asks.
                   if (QMessageBox::question(this, tr("Remove"),
                                             tr("Remove %n item(s) from %1? This cannot be undone.", nullptr,
                                                static_cast<int>(chosen.size()))
                                                 .arg(machine_)) != QMessageBox::Yes)
                     return;
                   for (QTreeWidgetItem* i : chosen)
                     work_.remove(remotePath(i->text(0)), i->data(0, Qt::UserRole).toBool());
                 })
      ->setEnabled(item != nullptr);
  menu.addAction(tr("Look again"), this, [this] { work_.list(folder_); });
  menu.exec(remote_->viewport()->mapToGlobal(at));
}

bool FilesPanel::eventFilter(QObject* watched, QEvent* event) {
  const bool here = watched == local_->viewport();
  if (!here && watched != remote_->viewport()) return QWidget::eventFilter(watched, event);
  const auto wanted = [here](const QMimeData* what) {
    return here ? what->hasFormat(kRemoteFiles) : what->hasUrls();
  };
  if (event->type() == QEvent::DragEnter || event->type() == QEvent::DragMove) {
    auto* drag = static_cast<QDragMoveEvent*>(event);
    if (!wanted(drag->mimeData()))
      drag->ignore();
    else
      drag->acceptProposedAction();
    return true;
  }
  if (event->type() != QEvent::Drop) return false;
  auto* drop = static_cast<QDropEvent*>(event);
  if (!wanted(drop->mimeData())) return true;
  here ? dropHere(drop->position().toPoint(), *drop->mimeData())
       : dropThere(drop->position().toPoint(), *drop->mimeData());
  drop->acceptProposedAction();
  return true;
}

/// Into the folder that is pointed at, else into the one that is shown.
void FilesPanel::dropHere(QPoint at, const QMimeData& dropped) {
  const QStringList names = QString::fromUtf8(dropped.data(kRemoteFiles)).split('\n', Qt::SkipEmptyParts);
  const QModelIndex on = local_->indexAt(at);
  getInto(on.isValid() && model_->isDir(on) ? model_->filePath(on) : localPath_->text(), names);
}

void FilesPanel::dropThere(QPoint at, const QMimeData& dropped) {
  QStringList files;
  for (const QUrl& url : dropped.urls())
    if (url.isLocalFile()) files << url.toLocalFile();
  const QTreeWidgetItem* on = remote_->itemAt(at);
  const bool folder = on != nullptr && on->data(0, Qt::UserRole).toBool();
  upload(files, folder ? on->text(0) + "/" : QString());
}

}  // namespace kw::desktop
