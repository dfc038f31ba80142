// The sheet of a place or group: its name, what it is in, and the settings it hands down.
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>

#include "desktop/app/counts.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/sheet/sheet_parts.hpp"

namespace kw::desktop {

void Sheet::editFolder(Id folder, Id parent) {
  edit(0);  // nothing of a machine is left
  ways_.clear();
  folder_.emplace();
  folder_->parent = parent;
  if (const auto found = base_->folders.find(folder); found != base_->folders.end()) folder_ = found->second;
  groupPath_ = pathText(folder_->parent);
  owner_ = {OwnerKind::Folder, folder_->id};
  list_->setCurrentRow(0);
  buildPages();
}

QWidget* Sheet::pageFolder() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, tr("Name and place"));
  auto* name = new QLineEdit(QString::fromStdString(folder_->name), page);
  name->setObjectName("machineName");
  name->setPlaceholderText(tr("Glasshouses"));
  labelled(column, tr("Name"), name);
  auto* group = newGroupBox(page);
  labelled(column, tr("In"), group);
  auto* hint = new QLabel(tr("Empty: a place of its own."), page);
  hint->setObjectName("quiet");
  column->addWidget(hint);
  auto* host = new QLineEdit(QString::fromStdString(folder_->host), page);
  labelled(column, tr("Its machines run on"), host);
  if (folder_->id == 0) {
    auto* later = new QLabel(tr("Settings that it hands down can be set once it is kept."), page);
    later->setObjectName("quiet");
    column->addWidget(later);
  }
  column->addStretch();
  connect(name, &QLineEdit::textChanged, this,
          [this](const QString& t) { folder_->name = t.trimmed().toStdString(), touched(); });
  connect(group, &QComboBox::currentTextChanged, this,
          [this](const QString& t) { groupPath_ = t, touched(); });
  connect(host, &QLineEdit::textChanged, this,
          [this](const QString& t) { folder_->host = t.trimmed().toStdString(), touched(); });
  return scrolled(page);
}

QString Sheet::folderProblem() const {
  if (folder_->name.empty()) return tr("The group needs a name.");
  if (folder_->name.find('/') != std::string::npos) return tr("A group's name has no stroke (/) in it.");
  const QString wanted = groupPath_.trimmed();
  for (const auto& [id, f] : base_->folders) {
    if (f.name == folder_->name && id != folder_->id && pathText(f.parent) == wanted)
      return tr("%1 is there already.").arg(pathText(id));
    if (folder_->id == 0 || pathText(id) != wanted) continue;
    for (const Folder* above : base_->pathOf(id))
      if (above->id == folder_->id) return tr("A group cannot be inside itself.");
  }
  return {};
}

void Sheet::summarizeFolder() {
  int machines = 0;
  if (folder_->id != 0)
    for (const auto& [id, m] : base_->machines)
      for (const Folder* f : base_->pathOf(m.folder)) machines += f->id == folder_->id ? 1 : 0;
  subtitle_->setText(groupPath_.trimmed().isEmpty() ? tr("place with %1").arg(machineCount(machines))
                                                    : tr("group with %1").arg(machineCount(machines)));
}

bool Sheet::keepFolder() {
  const Folder draft = *folder_;
  const auto done =
      records_.write((draft.id == 0 ? tr("add %1") : tr("change %1")).arg(machineName()),
                     [&](StoreWriter& w) {
                       folder_ = draft;
                       folder_->parent = folderNamed(*base_, w, groupPath_.toStdString());
                       w.put(*folder_);
                       for (const auto& [owner, values] : changes_)
                         for (const auto& [key, value] : values)
                           w.set(owner.id == 0 ? Owner{owner.kind, folder_->id} : owner, key, value);
                     },
                     false);
  if (done != Records::Written::Yes) {
    folder_ = draft;
    if (done == Records::Written::Stale) showFolderMerge();
    return false;
  }
  const Id id = folder_->id;
  editFolder(id);
  emit folderKept(id);
  return true;
}

}  // namespace kw::desktop
