#include "desktop/files/files_panel.hpp"

#include <QCheckBox>
#include <QDateTime>
#include <QDir>
#include <QDropEvent>
#include <QFileSystemModel>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QLocale>
#include <QMenu>
#include <QMessageBox>
#include <QMimeData>
#include <QProgressBar>
#include <QPushButton>
#include <QShortcut>
#include <QSplitter>
#include <QStyle>
#include <QToolButton>
#include <QTreeView>
#include <QTreeWidget>
#include <algorithm>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {

QString sizeText(quint64 size) { return QLocale().formattedDataSize(static_cast<qint64>(size), 1); }

/// This desk's files with the window's own icons and dates.
class FileModel : public QFileSystemModel {
 public:
  using QFileSystemModel::QFileSystemModel;
  [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override {
    if (role == Qt::DecorationRole && index.column() == 0)
      return lineIcon(isDir(index) ? "folder" : "file", isDir(index) ? scheme().copper : scheme().quiet);
    if (role == Qt::DisplayRole && index.column() == 3)
      return lastModified(index).toString("yyyy-MM-dd HH:mm");
    if (role == Qt::DisplayRole && index.column() == 1)
      return isDir(index) ? QString() : sizeText(static_cast<quint64>(size(index)));
    return QFileSystemModel::data(index, role);
  }
  [[nodiscard]] QVariant headerData(int section, Qt::Orientation way, int role) const override {
    if (role == Qt::DisplayRole && section == 3) return FilesPanel::tr("Changed");
    if (role == Qt::DecorationRole) return {};
    // In line with the other list's.
    if (role == Qt::TextAlignmentRole) return QVariant::fromValue(Qt::AlignLeft | Qt::AlignVCenter);
    return QFileSystemModel::headerData(section, way, role);
  }
};

class SortedItem : public QTreeWidgetItem {
 public:
  using QTreeWidgetItem::QTreeWidgetItem;
  bool operator<(const QTreeWidgetItem& other) const override {
    const bool folder = data(0, Qt::UserRole).toBool(), otherFolder = other.data(0, Qt::UserRole).toBool();
    const int column = treeWidget()->sortColumn();
    const bool up = treeWidget()->header()->sortIndicatorOrder() == Qt::AscendingOrder;
    if (folder != otherFolder) return folder == up;  // folders stay on top either way
    if (column == 1 || column == 2)
      return data(column, Qt::UserRole).toULongLong() < other.data(column, Qt::UserRole).toULongLong();
    return text(column).localeAwareCompare(other.text(column)) < 0;
  }
};

}  // namespace

namespace {

constexpr const char* kRemoteFiles = "application/x-kettle-window-files";

/// The machine's files; what is dragged out of it says only that it comes from here.
class RemoteList : public QTreeWidget {
 public:
  using QTreeWidget::QTreeWidget;

 protected:
  [[nodiscard]] QStringList mimeTypes() const override { return {kRemoteFiles}; }
  [[nodiscard]] QMimeData* mimeData(const QList<QTreeWidgetItem*>& items) const override {
    auto* out = new QMimeData;
    QByteArray names;
    for (const QTreeWidgetItem* item : items) names += item->text(0).toUtf8() + '\n';
    out->setData(kRemoteFiles, names);
    return out;
  }
};

}  // namespace

FilesPanel::FilesPanel(Runtime& runtime, const OpeningTools& tools, QWidget* parent)
    : QWidget(parent), work_(runtime, tools, this) {
  setMinimumHeight(190);
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(6, 4, 6, 6);
  column->setSpacing(4);
  auto* top = new QHBoxLayout;
  title_ = new QLabel(this);
  title_->setFont(windowFont(10, QFont::DemiBold));
  hidden_ = new QCheckBox(tr("Hidden files"), this);
  auto* close = new QToolButton(this);
  close->setText(tr("close"));
  close->setToolTip(tr("Close the files; copies under way end"));
  top->addWidget(title_, 1);
  top->addWidget(hidden_);
  top->addWidget(close);
  column->addLayout(top);
  question_ = new QWidget(this);
  new QHBoxLayout(question_);
  question_->layout()->setContentsMargins(0, 0, 0, 0);
  question_->hide();
  column->addWidget(question_);
  auto* split = new QSplitter(this);
  split->addWidget(buildLocal());
  split->addWidget(buildRemote());
  split->setSizes({400, 400});
  split->setChildrenCollapsible(false);
  column->addWidget(split, 1);
  column->addWidget(buildBar());
  connect(close, &QToolButton::clicked, this, [this] {
    work_.close();
    owner_ = {};
    machine_.clear();
    emit closed();
  });
  connect(hidden_, &QCheckBox::toggled, this, [this](bool on) {
    model_->setFilter(QDir::AllEntries | QDir::NoDotAndDotDot | (on ? QDir::Hidden : QDir::Filters()));
    showList(folder_, files_);
  });
  connect(&work_, &FileWork::opened, this, [this](const QString& start) {
    clearBar();
    say(tr("connected"));
    work_.list(start);
  });
  connect(&work_, &FileWork::failed, this, [this](const QString& why) {
    clearBar();
    owner_ = {};
    say(why, true);
  });
  connect(&work_, &FileWork::asked, this, &FilesPanel::showQuestion);
  connect(&work_, &FileWork::listed, this, &FilesPanel::showList);
  connect(&work_, &FileWork::problem, this, [this](const QString& why) { say(why, true); });
  connect(&work_, &FileWork::changed, this, [this](const QString& folder) {
    if (folder == folder_ || folder.isEmpty()) work_.list(folder_);
  });
  connect(&work_, &FileWork::clash, this, &FilesPanel::showClash);
  connect(&work_, &FileWork::progress, this,
          [this](const QString& what, quint64 done, quint64 total, int left) {
            progress_->show();
            cancel_->show();
            progress_->setRange(0, 1000);
            progress_->setValue(
                total == 0 ? 1000
                           : static_cast<int>(static_cast<double>(done) / static_cast<double>(total) * 1000));
            say(tr("%1: %2 of %3").arg(what, sizeText(done), sizeText(total)) +
                (left > 0 ? tr(", %1 more to come").arg(left) : QString()));
          });
  connect(&work_, &FileWork::finished, this, [this](const QString& sentence) {
    progress_->hide();
    cancel_->hide();
    clearBar();
    say(sentence);
  });
  connect(&work_, &FileWork::compared, this,
          [this](const QString& sentence, bool same) { say(sentence, !same); });
}

QWidget* FilesPanel::buildLocal() {
  auto* side = new QWidget(this);
  auto* column = new QVBoxLayout(side);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(3);
  auto* row = new QHBoxLayout;
  auto* up = new QToolButton(side);
  up->setText(tr("up"));
  up->setToolTip(tr("The folder above, on this desk"));
  localPath_ = new QLineEdit(side);
  localPath_->setAccessibleName(tr("Folder on this desk"));
  auto* send = new QPushButton(tr("Send ▸"), side);
  send->setToolTip(tr("Copy what is chosen here to the machine"));
  row->addWidget(up);
  row->addWidget(localPath_, 1);
  row->addWidget(send);
  column->addLayout(row);
  model_ = new FileModel(this);
  model_->setFilter(QDir::AllEntries | QDir::NoDotAndDotDot);
  local_ = new QTreeView(side);
  local_->setModel(model_);
  local_->setRootIsDecorated(false);
  local_->setItemsExpandable(false);
  local_->setSortingEnabled(true);
  local_->sortByColumn(0, Qt::AscendingOrder);
  local_->setSelectionMode(QAbstractItemView::ExtendedSelection);
  local_->setDragEnabled(true);
  local_->setAcceptDrops(true);
  local_->viewport()->installEventFilter(this);
  local_->setAccessibleName(tr("Files on this desk"));
  local_->hideColumn(2);
  local_->header()->setStretchLastSection(false);
  local_->header()->setSectionResizeMode(QHeaderView::ResizeToContents);
  local_->header()->setSectionResizeMode(0, QHeaderView::Stretch);
  local_->setFrameShape(QFrame::NoFrame);
  column->addWidget(local_, 1);
  setLocalFolder(QDir::homePath());
  connect(up, &QToolButton::clicked, this, [this] { setLocalFolder(QFileInfo(localPath_->text()).path()); });
  connect(localPath_, &QLineEdit::returnPressed, this, [this] { setLocalFolder(localPath_->text()); });
  connect(local_, &QTreeView::activated, this, [this](const QModelIndex& i) {
    if (model_->isDir(i)) setLocalFolder(model_->filePath(i));
  });
  connect(send, &QPushButton::clicked, this, &FilesPanel::sendSelected);
  return side;
}

QWidget* FilesPanel::buildRemote() {
  auto* side = new QWidget(this);
  auto* column = new QVBoxLayout(side);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(3);
  auto* row = new QHBoxLayout;
  auto* get = new QPushButton(tr("◂ Get"), side);
  get->setToolTip(tr("Copy what is chosen there to this desk"));
  auto* up = new QToolButton(side);
  up->setText(tr("up"));
  up->setToolTip(tr("The folder above, on the machine"));
  remotePathField_ = new QLineEdit(side);
  remotePathField_->setAccessibleName(tr("Folder on the machine"));
  row->addWidget(get);
  row->addWidget(up);
  row->addWidget(remotePathField_, 1);
  column->addLayout(row);
  remote_ = new RemoteList(side);
  remote_->setHeaderLabels({tr("Name"), tr("Size"), tr("Changed"), tr("Rights")});
  remote_->setRootIsDecorated(false);
  remote_->setSelectionMode(QAbstractItemView::ExtendedSelection);
  remote_->setSortingEnabled(true);
  remote_->sortByColumn(0, Qt::AscendingOrder);
  remote_->setContextMenuPolicy(Qt::CustomContextMenu);
  remote_->setAcceptDrops(true);
  remote_->setDragEnabled(true);
  remote_->viewport()->installEventFilter(this);
  remote_->setAccessibleName(tr("Files on the machine"));
  remote_->header()->setStretchLastSection(false);
  remote_->header()->setSectionResizeMode(QHeaderView::ResizeToContents);
  remote_->header()->setSectionResizeMode(0, QHeaderView::Stretch);
  remote_->setFrameShape(QFrame::NoFrame);
  column->addWidget(remote_, 1);
  connect(up, &QToolButton::clicked, this, [this] { work_.list(folder_ + "/.."); });
  connect(remotePathField_, &QLineEdit::returnPressed, this,
          [this] { work_.list(remotePathField_->text()); });
  connect(remote_, &QTreeWidget::itemActivated, this, [this](QTreeWidgetItem* item) {
    if (item->data(0, Qt::UserRole).toBool()) work_.list(remotePath(item->text(0)));
  });
  connect(remote_, &QTreeWidget::customContextMenuRequested, this, &FilesPanel::remoteMenu);
  connect(get, &QPushButton::clicked, this, &FilesPanel::getSelected);
  return side;
}

QWidget* FilesPanel::buildBar() {
  auto* bar = new QWidget(this);
  auto* row = new QHBoxLayout(bar);
  row->setContentsMargins(0, 0, 0, 0);
  status_ = new QLabel(bar);
  status_->setTextFormat(Qt::PlainText);
  progress_ = new QProgressBar(bar);
  progress_->setFixedWidth(180);
  progress_->setTextVisible(false);
  progress_->hide();
  cancel_ = new QPushButton(tr("Cancel"), bar);
  cancel_->hide();
  row->addWidget(status_, 1);
  row->addWidget(progress_);
  row->addWidget(cancel_);
  connect(cancel_, &QPushButton::clicked, this, [this] { work_.cancel(); });
  return bar;
}

void FilesPanel::openFor(const QString& machine, const Address& address, const SettingReader& setting,
                         Owner owner) {
  if (owner == owner_ && owner.id != 0) return;
  owner_ = owner;
  machine_ = machine;
  title_->setText(tr("Files: this desk and %1").arg(machine));
  remote_->clear();
  files_.clear();
  folder_.clear();
  remotePathField_->clear();
  say(tr("connecting to %1").arg(QString::fromStdString(address.forPeople())));
  work_.open(address, setting, owner);
}

void FilesPanel::setLocalFolder(const QString& folder) {
  if (!QFileInfo(folder).isDir())
    return say(tr("There is no such folder on this desk: %1").arg(folder), true);
  localPath_->setText(folder);
  local_->setRootIndex(model_->setRootPath(folder));
}

QString FilesPanel::remotePath(const QString& name) const {
  return folder_ == "/" ? "/" + name : folder_ + "/" + name;
}

void FilesPanel::showList(const QString& folder, const std::vector<RemoteFile>& files) {
  if (folder != folder_) status_->clear();
  folder_ = folder;
  files_ = files;
  remotePathField_->setText(folder);
  remote_->setSortingEnabled(false);
  remote_->clear();
  QList<QTreeWidgetItem*> items;
  for (const RemoteFile& f : files_) {
    const QString name = QString::fromStdString(f.name);
    if (name.startsWith('.') && !hidden_->isChecked()) continue;
    auto* item = new SortedItem;
    item->setText(0, name);
    item->setData(0, Qt::UserRole, f.folder());
    item->setIcon(0, lineIcon(f.folder() ? "folder" : "file", f.folder() ? scheme().copper : scheme().quiet));
    item->setText(1, f.folder() ? QString() : sizeText(f.size));
    item->setTextAlignment(1, Qt::AlignRight | Qt::AlignVCenter);
    item->setData(1, Qt::UserRole, static_cast<qulonglong>(f.size));
    item->setText(2, f.modified == 0
                         ? QString()
                         : QDateTime::fromSecsSinceEpoch(f.modified).toString("yyyy-MM-dd HH:mm"));
    item->setData(2, Qt::UserRole, static_cast<qulonglong>(f.modified));
    item->setText(3, QString::fromStdString(f.rights()));
    items << item;
  }
  remote_->addTopLevelItems(items);
  remote_->setSortingEnabled(true);
}

void FilesPanel::say(const QString& sentence, bool bad) {
  status_->setObjectName(bad ? "bad" : "quiet");
  status_->style()->unpolish(status_);
  status_->style()->polish(status_);
  status_->setText(sentence);
}

void FilesPanel::clearBar() {
  while (QLayoutItem* item = question_->layout()->takeAt(0)) {
    if (item->widget() != nullptr) item->widget()->deleteLater();
    delete item;
  }
  question_->hide();
}

void FilesPanel::showQuestion(const Question& q) {
  clearBar();
  auto* row = static_cast<QHBoxLayout*>(question_->layout());
  const bool trust = q.kind == Question::Kind::Trust;
  QString text = QString::fromStdString(q.text);
  if (trust) text += "\n" + QString::fromStdString(q.certificate.sha256);
  if (trust && !q.pinned.empty()) text += tr("\ntrusted before: %1").arg(QString::fromStdString(q.pinned));
  if (q.again) text += tr("  The last one was not taken.");
  auto* label = new QLabel(text, question_);
  label->setTextInteractionFlags(Qt::TextSelectableByMouse);
  row->addWidget(label, 1);
  QLineEdit* field = nullptr;
  const auto reply = [this](bool accepted, bool remember, const QString& password) {
    Answer a;
    a.accepted = accepted;
    a.remember = remember;
    a.password = password.toStdString();
    clearBar();
    work_.answer(a);
  };
  const auto button = [&](const QString& name, bool own, auto act) {
    auto* b = new QPushButton(name, question_);
    b->setProperty("own", own);
    row->addWidget(b);
    connect(b, &QPushButton::clicked, this, act);
    return b;
  };
  if (!trust) {
    field = new QLineEdit(question_);
    field->setObjectName("filesPassword");
    field->setEchoMode(q.kind == Question::Kind::Text ? QLineEdit::Normal : QLineEdit::Password);
    row->addWidget(field);
    const auto go = [field, reply] { reply(true, false, field->text()); };
    connect(field, &QLineEdit::returnPressed, this, go);
    button(tr("Stop"), false, [reply] { reply(false, false, {}); });
    button(tr("Sign in"), true, go);
  } else {
    button(tr("Refuse"), !q.pinned.empty(), [reply] { reply(false, false, {}); });
    button(tr("This once"), false, [reply] { reply(true, false, {}); });
    button(tr("From now on"), q.pinned.empty(), [reply] { reply(true, true, {}); });
  }
  question_->show();
  if (field != nullptr) field->setFocus();
}

void FilesPanel::showClash(const CopyJob& job, quint64 there, quint64 here) {
  clearBar();
  auto* row = static_cast<QHBoxLayout*>(question_->layout());
  const QString name = job.remote.section('/', -1);
  row->addWidget(
      new QLabel(
          tr("%1 is there already: %2 on the machine, %3 here.").arg(name, sizeText(there), sizeText(here)),
          question_),
      1);
  auto* all = new QCheckBox(tr("For all"), question_);
  row->addWidget(all);
  const auto choice = [&](const QString& text, const QString& tip, bool possible, auto make) {
    auto* b = new QPushButton(text, question_);
    b->setToolTip(tip);
    b->setEnabled(possible);
    row->addWidget(b);
    connect(b, &QPushButton::clicked, this, [this, all, make] {
      const bool forAll = all->isChecked();
      clearBar();
      work_.resolve(make(), forAll);
    });
  };
  using Job = std::optional<CopyJob>;
  const bool shorter = job.upload ? there < here : here < there;
  choice(tr("Leave it"), tr("This file is not copied"), true, []() -> Job { return std::nullopt; });
  choice(
      tr("Resume"),
      shorter ? tr("Go on where the shorter copy ends") : tr("The target is not shorter than the original"),
      shorter, [job]() -> Job {
        CopyJob j = job;
        j.way = CopyJob::Way::Resume;
        return j;
      });
  choice(tr("Keep both"), tr("The copy gets another name"), true, [job]() -> Job {
    CopyJob j = job;
    const QString stamp = QDateTime::currentDateTime().toString("-yyyyMMdd-HHmmss");
    (job.upload ? j.remote : j.local) += stamp;
    return j;
  });
  choice(tr("Replace"), tr("The target is written anew"), true, [job]() -> Job { return job; });
  question_->show();
}

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
