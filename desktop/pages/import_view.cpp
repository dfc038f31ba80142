#include "desktop/pages/import_view.hpp"
#include "desktop/app/counts.hpp"

#include <QComboBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

ImportView::ImportView(Records& records, QWidget* parent) : QWidget(parent), records_(records) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Hosts of the SSH configuration"), this);
  heading->setObjectName("heading");
  auto* close = new QPushButton(tr("Close"), this);
  import_ = new QPushButton(this);
  import_->setObjectName("importHosts");
  import_->setProperty("own", true);
  top->addWidget(heading, 1);
  top->addWidget(close);
  top->addWidget(import_);
  column->addLayout(top);
  auto* fileRow = new QHBoxLayout;
  file_ = new QLineEdit(QString::fromStdString(SshConfig::usualFile().string()), this);
  file_->setAccessibleName(tr("Configuration file"));
  auto* choose = new QPushButton(tr("Another file…"), this);
  fileRow->addWidget(file_, 1);
  fileRow->addWidget(choose);
  column->addLayout(fileRow);
  auto* groupRow = new QHBoxLayout;
  auto* groupLabel = new QLabel(tr("Into the group"), this);
  group_ = new QComboBox(this);
  group_->setEditable(true);
  group_->setMinimumWidth(260);
  group_->setAccessibleName(tr("Into the group"));
  groupRow->addWidget(groupLabel);
  groupRow->addWidget(group_);
  groupRow->addStretch(1);
  column->addLayout(groupRow);
  hint_ = new QLabel(this);
  hint_->setObjectName("quiet");
  hint_->setWordWrap(true);
  column->addWidget(hint_);
  table_ = plainTable({tr("Host"), tr("Address"), tr("Through"), tr("Keys")}, tr("Hosts found"), this);
  column->addWidget(table_, 1);
  connect(choose, &QPushButton::clicked, this, [this] {
    const QString file =
        QFileDialog::getOpenFileName(this, tr("SSH configuration"), QFileInfo(file_->text()).path());
    if (!file.isEmpty()) setFile(file);
  });
  connect(file_, &QLineEdit::editingFinished, this, &ImportView::look);
  connect(table_, &QTableWidget::itemChanged, this, &ImportView::refreshButton);
  connect(import_, &QPushButton::clicked, this, &ImportView::importTicked);
  connect(close, &QPushButton::clicked, this, &ImportView::closed);
}

void ImportView::setFile(const QString& file) {
  file_->setText(file);
  look();
}

void ImportView::look() {
  const Snapshot& now = records_.snapshot();
  const QString group = group_->currentText();
  group_->clear();
  QStringList paths;
  for (const auto& [id, f] : now.folders) {
    QString path;
    for (const Folder* part : now.pathOf(id))
      path += (path.isEmpty() ? "" : " / ") + QString::fromStdString(part->name);
    paths << path;
  }
  paths.sort();
  group_->addItems(paths);
  group_->setCurrentText(group.isEmpty() ? tr("SSH hosts") : group);
  found_.clear();
  QString trouble;
  try {
    found_ = sshImportsOf(SshConfig::load(file_->text().toStdString()), now);
  } catch (const Error& e) {
    trouble = QString::fromUtf8(e.what());
  }
  const QSignalBlocker quiet(table_);
  table_->setRowCount(static_cast<int>(found_.size()));
  for (int i = 0; i < static_cast<int>(found_.size()); ++i) {
    const SshImport& host = found_[static_cast<std::size_t>(i)];
    auto* name = new QTableWidgetItem(QString::fromStdString(host.name));
    name->setFlags(host.there ? Qt::NoItemFlags
                              : Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsUserCheckable);
    name->setCheckState(host.there ? Qt::Unchecked : Qt::Checked);
    table_->setItem(i, 0, name);
    const std::string shown[] = {host.there ? "" : host.address, host.via, host.keys};
    for (int c = 0; c < 3; ++c) {
      auto* item = new QTableWidgetItem(QString::fromStdString(shown[c]));
      item->setFont(monoFont(8.5));
      item->setToolTip(item->text());
      if (host.there) item->setFlags(Qt::NoItemFlags);
      table_->setItem(i, c + 1, item);
    }
    if (host.there) table_->item(i, 1)->setText(tr("a machine of this name is there already"));
  }
  table_->resizeColumnsToContents();
  table_->setColumnWidth(0, std::min(table_->columnWidth(0) + 16, 200));
  table_->setColumnWidth(1, std::min(table_->columnWidth(1) + 16, 280));
  table_->setColumnWidth(2, std::min(table_->columnWidth(2) + 16, 180));
  hint_->setText(!trouble.isEmpty() ? trouble
                 : found_.empty() ? tr("No hosts with a plain name are in this file. Patterns such as *.lan "
                                       "are not hosts themselves.")
                                  : tr("A host's jumps become its route. Nothing is written into the file."));
  hint_->setStyleSheet(trouble.isEmpty() ? QString() : "color:" + scheme().brick.name() + ";");
  refreshButton();
}

std::vector<SshImport> ImportView::ticked() const {
  std::vector<SshImport> out;
  for (std::size_t i = 0; i < found_.size(); ++i)
    if (!found_[i].there && table_->item(static_cast<int>(i), 0)->checkState() == Qt::Checked)
      out.push_back(found_[i]);
  return out;
}

void ImportView::refreshButton() {
  const int count = static_cast<int>(ticked().size());
  import_->setText(tr("Make %n into machines", nullptr, count));
  import_->setEnabled(count > 0);
  import_->setToolTip(count > 0 ? QString() : tr("No host is ticked."));
}

void ImportView::importTicked() {
  const std::vector<SshImport> chosen = ticked();
  const std::string group = group_->currentText().toStdString();
  int written = 0;
  const bool done = records_.commit(tr("import SSH hosts"), [&](StoreWriter& w) {
    written = writeSshImports(w, folderNamed(records_.snapshot(), w, group), chosen);
  });
  if (!done) return;
  emit said(tr("%1 made. Ctrl+Z takes that back.").arg(machineCount(written)));
  look();
}

}  // namespace kw::desktop
