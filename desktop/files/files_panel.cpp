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

}  // namespace kw::desktop
