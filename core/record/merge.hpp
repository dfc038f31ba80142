// Two people changed one record: what differs, field by field, and the record that comes of choosing.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "record/model.hpp"

namespace kw {

/// A machine with everything that its sheet edits.
struct RecordDraft {
  Machine machine;
  std::string group;                        ///< "Alder Vale / Glasshouses"
  std::vector<Endpoint> ways;               ///< new ones have id 0
  std::map<Owner, SettingValues> settings;  ///< own values of the machine and of its kept ways in
};
/// As it is in the records; the machine must be there.
RecordDraft draftOf(const Snapshot& records, Id machine);

/// A place or group with everything that its sheet edits.
struct FolderDraft {
  Folder folder;
  std::string within;  ///< "Alder Vale"; empty: a place of its own
  SettingValues settings;
};
/// As it is in the records; it must be there.
FolderDraft folderDraftOf(const Snapshot& records, Id folder);

struct MergeField {
  std::string key;   ///< for merged()
  std::string what;  ///< for people: "Notes", "Way in screen: address", "Sizing (whole machine)"
  std::optional<std::string> base, mine, theirs;  ///< nothing: not there, or inherited
  bool takeMine = false;
  [[nodiscard]] bool bothChanged() const { return mine != base && theirs != base; }
};

/// A value for people: "Shrink to fit", "inherited", "empty".
std::string shownValue(const MergeField& field, const std::optional<std::string>& value);

/// What differs between mine and theirs. Chosen beforehand: whoever changed it; mine where both did.
std::vector<MergeField> differencesOf(const RecordDraft& base, const RecordDraft& mine,
                                      const RecordDraft& theirs);
std::vector<MergeField> differencesOf(const FolderDraft& base, const FolderDraft& mine,
                                      const FolderDraft& theirs);
/// Theirs, with every field of mine that was chosen. New ways in of mine are always in it; one that they
/// removed and whose mine was chosen comes back as a new one.
RecordDraft merged(const RecordDraft& theirs, const RecordDraft& mine, const std::vector<MergeField>& chosen);
FolderDraft merged(const FolderDraft& theirs, const FolderDraft& mine, const std::vector<MergeField>& chosen);

}  // namespace kw
