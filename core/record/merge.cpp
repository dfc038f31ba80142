#include "record/merge.hpp"

#include <algorithm>

#include "record/setting.hpp"

namespace kw {

namespace {

struct Field {
  std::string what;
  std::optional<std::string> value;
};
using Fields = std::map<std::string, Field>;

constexpr std::pair<const char*, std::string Machine::*> kMachineFields[] = {{"Name", &Machine::name},
                                                                             {"Runs on host", &Machine::host},
                                                                             {"Tags", &Machine::tags},
                                                                             {"Notes", &Machine::notes}};

constexpr std::pair<const char*, std::string Folder::*> kFolderFields[] = {
    {"Name", &Folder::name}, {"Its machines run on", &Folder::host}, {"Notes", &Folder::notes}};

std::string wayKey(Id id, const char* field) { return "way " + std::to_string(id) + " " + field; }
std::string settingKey(Owner owner, const std::string& key) {
  return "setting " + std::to_string(static_cast<int>(owner.kind)) + " " + std::to_string(owner.id) + " " +
         key;
}

std::string ownerWords(const RecordDraft& d, Owner owner) {
  if (owner.kind == OwnerKind::Machine) return "whole machine";
  for (const Endpoint& e : d.ways)
    if (e.id == owner.id) return "way in " + e.label;
  return "way in";
}

Fields fieldsOf(const RecordDraft& d) {
  Fields out;
  for (const auto& [what, field] : kMachineFields) out[what] = {what, d.machine.*field};
  out["Group"] = {"Place and group", d.group};
  for (const Endpoint& e : d.ways) {
    if (e.id == 0) continue;  // nobody else knows it
    const std::string way = "Way in " + e.label;
    out[wayKey(e.id, "there")] = {way, "there"};
    out[wayKey(e.id, "label")] = {way + ": name", e.label};
    out[wayKey(e.id, "address")] = {way + ": address", e.address};
  }
  for (const auto& [owner, values] : d.settings)
    for (const auto& [key, value] : values) {
      const Setting* s = findSetting(key);
      out[settingKey(owner, key)] = {
          (s == nullptr ? key : std::string(s->label)) + " (" + ownerWords(d, owner) + ")", value};
    }
  return out;
}

Fields fieldsOf(const FolderDraft& d) {
  Fields out;
  for (const auto& [what, field] : kFolderFields) out[what] = {what, d.folder.*field};
  out["In"] = {"In", d.within};
  for (const auto& [key, value] : d.settings) {
    const Setting* s = findSetting(key);
    out[settingKey({OwnerKind::Folder, d.folder.id}, key)] = {s == nullptr ? key : s->label, value};
  }
  return out;
}

Endpoint* wayOf(std::vector<Endpoint>& ways, Id id) {
  const auto at = std::find_if(ways.begin(), ways.end(), [id](const Endpoint& e) { return e.id == id; });
  return at == ways.end() ? nullptr : &*at;
}

/// Whether a field was chosen to be as I have it.
bool chose(const std::vector<MergeField>& chosen, const std::string& key) {
  const auto at =
      std::find_if(chosen.begin(), chosen.end(), [&](const MergeField& f) { return f.key == key; });
  return at != chosen.end() && at->takeMine;
}

std::vector<MergeField> differencesOf(const Fields& b, const Fields& m, const Fields& t) {
  Fields all = b;
  all.insert(t.begin(), t.end());
  all.insert(m.begin(), m.end());
  const auto value = [](const Fields& from, const std::string& key) -> std::optional<std::string> {
    const auto found = from.find(key);
    return found == from.end() ? std::nullopt : found->second.value;
  };
  std::vector<MergeField> out;
  for (const auto& [key, field] : all) {
    MergeField f{key, field.what, value(b, key), value(m, key), value(t, key), false};
    if (f.mine == f.theirs) continue;
    // Of a way in that one side removed, that it is gone says all.
    if (key.starts_with("way ") && !key.ends_with(" there") && (!f.mine || !f.theirs)) continue;
    f.takeMine = f.mine != f.base;
    out.push_back(std::move(f));
  }
  return out;
}

struct SettingField {
  Owner owner;
  std::string key;
};
/// What settingKey() wrote; nothing for other fields.
std::optional<SettingField> settingOf(const MergeField& f) {
  if (!f.key.starts_with("setting ")) return std::nullopt;
  const auto kindAt = std::string("setting ").size();
  const auto idAt = f.key.find(' ', kindAt) + 1, keyAt = f.key.find(' ', idAt) + 1;
  return SettingField{
      {static_cast<OwnerKind>(std::stoi(f.key.substr(kindAt))), std::stoll(f.key.substr(idAt))},
      f.key.substr(keyAt)};
}

void takeSetting(SettingValues& values, const std::string& key, const std::optional<std::string>& value) {
  if (value)
    values[key] = *value;
  else
    values.erase(key);
}

std::string pathWords(const Snapshot& records, Id folder) {
  std::string out;
  for (const Folder* f : records.pathOf(folder)) out += (out.empty() ? "" : " / ") + f->name;
  return out;
}

}  // namespace

RecordDraft draftOf(const Snapshot& records, Id machine) {
  RecordDraft out;
  out.machine = records.machines.at(machine);
  out.group = pathWords(records, out.machine.folder);
  const auto take = [&](Owner owner) {
    if (const auto own = records.settings.find(owner); own != records.settings.end())
      out.settings[owner] = own->second;
  };
  take({OwnerKind::Machine, machine});
  for (const Endpoint* e : records.endpointsOf(machine)) {
    out.ways.push_back(*e);
    take({OwnerKind::WayIn, e->id});
  }
  return out;
}

std::string shownValue(const MergeField& field, const std::optional<std::string>& value) {
  const bool isSetting = field.key.starts_with("setting ");
  if (!value) return isSetting ? "inherited" : "not there";
  if (value->empty()) return "empty";
  const Setting* s = isSetting ? findSetting(field.key.substr(field.key.rfind(' ') + 1)) : nullptr;
  return s == nullptr ? *value : labelOf(*s, *value);
}

std::vector<MergeField> differencesOf(const RecordDraft& base, const RecordDraft& mine,
                                      const RecordDraft& theirs) {
  return differencesOf(fieldsOf(base), fieldsOf(mine), fieldsOf(theirs));
}

std::vector<MergeField> differencesOf(const FolderDraft& base, const FolderDraft& mine,
                                      const FolderDraft& theirs) {
  return differencesOf(fieldsOf(base), fieldsOf(mine), fieldsOf(theirs));
}

FolderDraft folderDraftOf(const Snapshot& records, Id folder) {
  FolderDraft out{records.folders.at(folder), {}, {}};
  out.within = pathWords(records, out.folder.parent);
  if (const auto own = records.settings.find({OwnerKind::Folder, folder}); own != records.settings.end())
    out.settings = own->second;
  return out;
}

FolderDraft merged(const FolderDraft& theirs, const FolderDraft& mine,
                   const std::vector<MergeField>& chosen) {
  FolderDraft out = theirs;
  for (const auto& [what, field] : kFolderFields)
    if (chose(chosen, what)) out.folder.*field = mine.folder.*field;
  if (chose(chosen, "In")) out.within = mine.within, out.folder.parent = mine.folder.parent;
  for (const MergeField& f : chosen)
    if (const auto setting = settingOf(f); setting && f.takeMine)
      takeSetting(out.settings, setting->key, f.mine);
  return out;
}

RecordDraft merged(const RecordDraft& theirs, const RecordDraft& mine,
                   const std::vector<MergeField>& chosen) {
  RecordDraft out = theirs;
  for (const auto& [what, field] : kMachineFields)
    if (chose(chosen, what)) out.machine.*field = mine.machine.*field;
  if (chose(chosen, "Group")) out.group = mine.group, out.machine.folder = mine.machine.folder;
  for (const Endpoint& e : mine.ways) {
    Endpoint* there = e.id == 0 ? nullptr : wayOf(out.ways, e.id);
    if (there != nullptr) {
      if (chose(chosen, wayKey(e.id, "label"))) there->label = e.label;
      if (chose(chosen, wayKey(e.id, "address"))) there->address = e.address;
    } else if (e.id == 0 || chose(chosen, wayKey(e.id, "there"))) {
      out.ways.push_back(e);
      out.ways.back().id = out.ways.back().version = 0;
    }
  }
  std::erase_if(out.ways, [&](const Endpoint& e) {
    return e.id != 0 && chose(chosen, wayKey(e.id, "there")) &&
           std::none_of(mine.ways.begin(), mine.ways.end(), [&](const Endpoint& m) { return m.id == e.id; });
  });
  for (const MergeField& f : chosen)
    if (const auto setting = settingOf(f); setting && f.takeMine)
      takeSetting(out.settings[setting->owner], setting->key, f.mine);
  return out;
}

}  // namespace kw
