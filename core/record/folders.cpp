#include <algorithm>

#include "record/setting.hpp"
#include "record/store.hpp"

namespace kw {

namespace {

std::string trimmed(const std::string& text) {
  const auto from = text.find_first_not_of(' ');
  return from == std::string::npos ? "" : text.substr(from, text.find_last_not_of(' ') - from + 1);
}

}  // namespace

void refuseBadSetting(const std::string& key, const std::string& value) {
  const Setting* setting = findSetting(key);
  if (setting == nullptr) throw Error(ErrorKind::Local, "no setting has this key", key);
  if (const std::string problem = problemWith(*setting, value); !problem.empty())
    throw Error(ErrorKind::Local, problem, key);
}

Id folderNamed(const Snapshot& now, StoreWriter& writer, const std::string& path) {
  Id parent = 0;
  for (std::size_t at = 0; at <= path.size();) {
    const auto slash = std::min(path.find('/', at), path.size());
    const std::string name = trimmed(path.substr(at, slash - at));
    at = slash + 1;
    if (name.empty()) continue;
    Id found = 0;
    for (const auto& [id, f] : now.folders)
      if (f.parent == parent && f.name == name) found = id;
    if (found == 0) {
      Folder fresh;
      fresh.parent = parent;
      fresh.name = name;
      writer.put(fresh);
      found = fresh.id;
    }
    parent = found;
  }
  return parent;
}

}  // namespace kw
