// The sheet of a place or group when somebody else changed it: said while it is edited, merged when it is
// kept.
#include <QLabel>

#include "desktop/record/merge_view.hpp"
#include "desktop/sheet/sheet.hpp"

namespace kw::desktop {

FolderDraft Sheet::folderDraft() const {
  FolderDraft out{*folder_, groupPath_.trimmed().toStdString(), {}};
  if (base_->folders.contains(folder_->id)) out.settings = folderDraftOf(*base_, folder_->id).settings;
  if (const auto own = changes_.find({OwnerKind::Folder, folder_->id}); own != changes_.end())
    for (const auto& [key, value] : own->second) {
      if (value)
        out.settings[key] = *value;
      else
        out.settings.erase(key);
    }
  return out;
}

/// The draft becomes a new group; settings follow once it is kept.
void Sheet::folderGone() {
  meanwhile_->setText(tr("Somebody removed this meanwhile. Keeping makes it anew, without its machines."));
  meanwhile_->show();
}

void Sheet::folderChanged() {
  if (folder_->id == 0) return;
  const auto now = records_.shared();
  if (now == base_) return;
  if (!now->folders.contains(folder_->id)) {
    folderGone();
    return;
  }
  const auto theirs = othersChanges(*now);
  if (theirs.empty()) return;
  if (changed_)
    tellChanges(theirs);
  else
    editFolder(folder_->id);
}

void Sheet::showFolderMerge() {
  theirs_ = records_.shared();
  const Id id = folder_->id;
  if (!theirs_->folders.contains(id)) {
    folderGone();
    SettingChanges kept;
    for (const auto& [key, value] : folderDraft().settings) kept[{OwnerKind::Folder, 0}][key] = value;
    changes_ = kept;
    folder_->id = folder_->version = 0;
    owner_ = {OwnerKind::Folder, 0};
    base_ = theirs_;
    return;
  }
  showMergeView(QString::fromStdString(theirs_->folders.at(id).name), {{OwnerKind::Folder, id}},
                differencesOf(folderDraftOf(*base_, id), folderDraft(), folderDraftOf(*theirs_, id)));
}

/// What was chosen becomes the draft, on top of what is in the records now; then it is kept as usual.
void Sheet::keepFolderMerged() {
  const Id id = folder_->id;
  const FolderDraft theirs = folderDraftOf(*theirs_, id);
  const FolderDraft result = merged(theirs, folderDraft(), merge_->fields());
  base_ = theirs_;
  folder_ = result.folder;
  groupPath_ = QString::fromStdString(result.within);
  auto& own = changes_[{OwnerKind::Folder, id}];
  own.clear();
  for (const auto& [key, value] : theirs.settings)
    if (!result.settings.contains(key)) own[key] = std::nullopt;
  for (const auto& [key, value] : result.settings)
    if (const auto there = theirs.settings.find(key);
        there == theirs.settings.end() || there->second != value)
      own[key] = value;
  hideMerge();
  changed_ = true;
  buildPages();
  keep();
}

}  // namespace kw::desktop
