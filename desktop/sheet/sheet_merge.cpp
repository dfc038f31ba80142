// The sheet when somebody else changed the same record: said while it is edited, merged when it is kept.
#include <QLabel>
#include <QVBoxLayout>

#include "desktop/record/merge_view.hpp"
#include "desktop/sheet/sheet.hpp"

namespace kw::desktop {

void Sheet::buildMerge(QVBoxLayout* column) {
  meanwhile_ = new QLabel(this);
  meanwhile_->setObjectName("warn");
  meanwhile_->setWordWrap(true);
  meanwhile_->setTextFormat(Qt::PlainText);
  meanwhile_->setContentsMargins(20, 0, 20, 6);
  meanwhile_->hide();
  column->addWidget(meanwhile_);
  merge_ = new MergeView(this);
  merge_->hide();
  column->addWidget(merge_, 1);
  connect(merge_, &MergeView::backWanted, this, &Sheet::hideMerge);
  connect(merge_, &MergeView::theirsWanted, this, [this] {
    if (folder_)
      editFolder(folder_->id);
    else
      edit(machine_.id);
  });
  connect(merge_, &MergeView::keepWanted, this, [this] {
    if (folder_)
      keepFolderMerged();
    else
      keepMerged();
  });
}

RecordDraft Sheet::draft() const {
  RecordDraft out;
  out.machine = machine_;
  out.group = groupPath_.toStdString();
  for (const EndpointRow& row : ways_)
    if (!row.removed) out.ways.push_back(row.endpoint);
  if (base_->machines.contains(machine_.id)) out.settings = draftOf(*base_, machine_.id).settings;
  for (const auto& [owner, values] : changes_)
    if (owner.kind == OwnerKind::Machine || (owner.kind == OwnerKind::WayIn && owner.id != 0))
      for (const auto& [key, value] : values) {
        if (value)
          out.settings[owner][key] = *value;
        else
          out.settings[owner].erase(key);
      }
  return out;
}

/// The draft becomes a new machine: its own settings go with it, and those of the way in that is edited.
void Sheet::makeAnew() {
  const Id oldMachine = machine_.id, oldWay = ways_[currentWay_].endpoint.id;
  SettingChanges kept;
  for (const auto& [owner, values] : draft().settings) {
    const bool machines = owner == Owner{OwnerKind::Machine, oldMachine};
    if (!machines && owner != Owner{OwnerKind::WayIn, oldWay}) continue;
    for (const auto& [key, value] : values) kept[{owner.kind, 0}][key] = value;
  }
  for (const auto& [owner, values] : changes_)
    if (owner.kind == OwnerKind::Folder) kept[owner] = values;
  changes_ = kept;
  machine_.id = machine_.version = 0;
  for (EndpointRow& row : ways_) row.endpoint.id = row.endpoint.version = 0;
  owner_ = {OwnerKind::WayIn, 0};
}

void Sheet::showMerge() {
  theirs_ = records_.shared();
  if (!theirs_->machines.contains(machine_.id)) {
    meanwhile_->setText(tr("Somebody removed this machine meanwhile. Keeping makes it anew."));
    meanwhile_->show();
    makeAnew();
    base_ = theirs_;
    return;
  }
  showMergeView(QString::fromStdString(theirs_->machines.at(machine_.id).name),
                ownersWithin(*theirs_, {OwnerKind::Machine, machine_.id}),
                differencesOf(draftOf(*base_, machine_.id), draft(), draftOf(*theirs_, machine_.id)));
}

QString Sheet::lastAuthorOf(const std::vector<Owner>& owners) const {
  try {
    const auto last = records_.store().history(1, owners);
    return last.empty() ? QString() : QString::fromStdString(last.front().author);
  } catch (const Error&) {
    return {};
  }
}

void Sheet::showMergeView(const QString& name, const std::vector<Owner>& owners,
                          std::vector<MergeField> fields) {
  merge_->show(name, lastAuthorOf(owners), std::move(fields));
  middle_->hide();
  meanwhile_->hide();
  merge_->setVisible(true);
}

void Sheet::hideMerge() {
  if (merge_ == nullptr) return;
  merge_->setVisible(false);
  meanwhile_->hide();
  if (middle_ != nullptr) middle_->show();
}

/// What was chosen becomes the draft, on top of what is in the records now; then it is kept as usual.
void Sheet::keepMerged() {
  const RecordDraft theirs = draftOf(*theirs_, machine_.id);
  const RecordDraft result = merged(theirs, draft(), merge_->fields());
  SettingChanges kept;
  for (const auto& [owner, values] : changes_)  // groups', and those of a way in that is new
    if (owner.kind == OwnerKind::Folder || owner.id == 0) kept[owner] = values;
  base_ = theirs_;
  machine_ = result.machine;
  groupPath_ = QString::fromStdString(result.group);
  ways_.clear();
  for (const Endpoint& e : result.ways) ways_.push_back({e, false});
  for (const Endpoint& e : theirs.ways)
    if (std::none_of(result.ways.begin(), result.ways.end(), [&](const Endpoint& r) { return r.id == e.id; }))
      ways_.push_back({e, true});
  currentWay_ = 0;
  changes_ = kept;
  const auto valueIn = [](const std::map<Owner, SettingValues>& all, Owner owner, const std::string& key) {
    const auto own = all.find(owner);
    if (own == all.end()) return std::optional<std::string>();
    const auto value = own->second.find(key);
    return value == own->second.end() ? std::nullopt : std::optional(value->second);
  };
  for (const auto* side : {&theirs.settings, &result.settings})
    for (const auto& [owner, values] : *side)
      for (const auto& [key, value] : values)
        if (const auto wanted = valueIn(result.settings, owner, key);
            wanted != valueIn(theirs.settings, owner, key))
          changes_[owner][key] = wanted;
  owner_ = {OwnerKind::WayIn, ways_.empty() ? 0 : ways_[0].endpoint.id};
  hideMerge();
  changed_ = true;
  buildPages();
  keep();
}

/// A colleague's change to what is shown: taken at once when nothing was edited here, else said.
void Sheet::recordsChanged() {
  if (!isVisible() || merge_->isVisible()) return;
  if (folder_) {
    folderChanged();
    return;
  }
  if (machine_.id == 0) return;
  const auto now = records_.shared();
  if (now == base_) return;
  if (!now->machines.contains(machine_.id)) {
    meanwhile_->setText(tr("Somebody removed this machine meanwhile. Keeping makes it anew."));
    meanwhile_->show();
    return;
  }
  const auto theirs = othersChanges(*now);
  if (theirs.empty()) return;
  if (changed_)
    tellChanges(theirs);
  else
    edit(machine_.id);
}

std::vector<MergeField> Sheet::othersChanges(const Snapshot& now) const {
  if (folder_) {
    const Id id = folder_->id;
    if (!base_->folders.contains(id) || !now.folders.contains(id)) return {};
    return differencesOf(folderDraftOf(*base_, id), folderDraftOf(now, id), folderDraftOf(*base_, id));
  }
  if (!base_->machines.contains(machine_.id) || !now.machines.contains(machine_.id)) return {};
  return differencesOf(draftOf(*base_, machine_.id), draftOf(now, machine_.id), draftOf(*base_, machine_.id));
}

void Sheet::tellChanges(const std::vector<MergeField>& changes) {
  QStringList what;
  for (const MergeField& f : changes) what << QString::fromStdString(f.what);
  meanwhile_->setText(tr("Somebody else changed this record meanwhile (%1). Keeping shows both side by side.")
                          .arg(what.join(", ")));
  meanwhile_->show();
}

}  // namespace kw::desktop
