#include "exchange/exchange.hpp"

#include <algorithm>
#include <map>
#include <set>

#include "base/file.hpp"
#include "credential/sealed_file.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"

namespace kw::exchange {

namespace {

const Kind* const kKinds[] = {&rdpKind, &consoleKind, &vncKind, &csvKind, &jsonKind};
constexpr std::size_t kMostFile = std::size_t{64} << 20;

void appendUtf16(std::string& out, const Bytes& bytes, bool little) {
  char32_t high = 0;
  for (std::size_t i = 2; i + 1 < bytes.size(); i += 2) {
    const char32_t unit = little ? bytes[i] | bytes[i + 1] << 8 : bytes[i] << 8 | bytes[i + 1];
    if (unit >= 0xd800 && unit < 0xdc00) {
      high = unit;
    } else if (unit >= 0xdc00 && unit < 0xe000) {
      appendUtf8(out, high == 0 ? 0xfffd : 0x10000 + ((high - 0xd800) << 10) + (unit - 0xdc00));
      high = 0;
    } else {
      appendUtf8(out, unit);
    }
  }
}

std::string pathOf(const Snapshot& records, Id folder) {
  std::string out;
  for (const Folder* f : records.pathOf(folder)) out += (out.empty() ? "" : "/") + f->name;
  return out;
}

std::vector<EntryWay> waysOf(const Snapshot& records, Id machine) {
  std::vector<EntryWay> out;
  for (const Endpoint* e : records.endpointsOf(machine)) {
    EntryWay way{e->label, e->address, {}};
    if (const auto own = records.settings.find({OwnerKind::WayIn, e->id}); own != records.settings.end())
      way.settings = own->second;
    out.push_back(std::move(way));
  }
  return out;
}

void tell(std::string& list, const char* what) { list += (list.empty() ? "" : ", ") + std::string(what); }

/// Fields that an entry says and that the record has otherwise.
std::string differences(const Entry& mine, const Entry& theirs) {
  std::string out;
  if (!theirs.host.empty() && mine.host != theirs.host) tell(out, "host");
  if (!theirs.tags.empty() && mine.tags != theirs.tags) tell(out, "tags");
  if (!theirs.notes.empty() && mine.notes != theirs.notes) tell(out, "notes");
  for (const EntryWay& way : theirs.ways) {
    const auto same = std::find_if(mine.ways.begin(), mine.ways.end(),
                                   [&](const EntryWay& m) { return m.address == way.address; });
    if (same == mine.ways.end()) {
      tell(out, "address");
      break;
    }
    if (!std::includes(same->settings.begin(), same->settings.end(), way.settings.begin(),
                       way.settings.end())) {
      tell(out, "settings");
      break;
    }
  }
  if (!std::includes(mine.settings.begin(), mine.settings.end(), theirs.settings.begin(),
                     theirs.settings.end()))
    tell(out, "settings");
  return out;
}

Entry entryOf(const Snapshot& records, const Machine& m) {
  Entry e;
  e.name = m.name, e.host = m.host, e.tags = m.tags, e.notes = m.notes;
  e.group = pathOf(records, m.folder);
  e.ways = waysOf(records, m.id);
  if (const auto own = records.settings.find({OwnerKind::Machine, m.id}); own != records.settings.end())
    e.settings = own->second;
  return e;
}

/// Folders by path, made once in a commit however many entries name them.
class Folders {
 public:
  Folders(StoreWriter& writer, const Snapshot& records) : writer_(writer) {
    for (const auto& [id, f] : records.folders) ids_[pathOf(records, id)] = id;
  }
  Id at(const std::string& path) {
    if (path.empty()) return 0;
    if (const auto found = ids_.find(path); found != ids_.end()) return found->second;
    const auto slash = path.rfind('/');
    Folder f;
    f.parent = slash == std::string::npos ? 0 : at(path.substr(0, slash));
    f.name = slash == std::string::npos ? path : path.substr(slash + 1);
    writer_.put(f);
    return ids_[path] = f.id;
  }

 private:
  StoreWriter& writer_;
  std::map<std::string, Id> ids_;
};

std::string tidyPath(const std::string& path) {
  std::string out;
  for (std::size_t at = 0; at <= path.size();) {
    const auto slash = std::min(path.find('/', at), path.size());
    const std::string part = trimmed(path.substr(at, slash - at));
    if (!part.empty()) out += (out.empty() ? "" : "/") + part;
    at = slash + 1;
  }
  return out;
}

void writeSettings(StoreWriter& writer, Owner owner, const SettingValues& values) {
  for (const auto& [key, value] : values) {
    const Setting* setting = findSetting(key);
    if (setting != nullptr && problemWith(*setting, value).empty()) writer.set(owner, key, value);
  }
}

void writeWays(StoreWriter& writer, Id machine, const std::vector<EntryWay>& ways) {
  int position = 0;
  std::set<std::string> labels;
  for (const EntryWay& way : ways) {
    Endpoint e;
    e.machine = machine;
    e.address = way.address;
    const WayKind* kind = findWayKind(e.scheme());
    const std::string label = !way.label.empty() ? way.label : kind != nullptr ? kind->wayName : "way";
    e.label = label;
    for (int i = 2; !labels.insert(e.label).second; ++i) e.label = label + " " + std::to_string(i);
    e.position = position++;
    writer.put(e);
    writeSettings(writer, {OwnerKind::WayIn, e.id}, way.settings);
  }
}

}  // namespace

std::span<const Kind> allKinds() {
  static const std::vector<Kind> kinds = [] {
    std::vector<Kind> out;
    for (const Kind* k : kKinds) out.push_back(*k);
    return out;
  }();
  return kinds;
}

const Kind* kindNamed(const std::string& name) {
  for (const Kind* kind : kKinds)
    if (name == kind->name) return kind;
  return nullptr;
}

std::string decoded(const Bytes& bytes) {
  std::string text;
  if (bytes.size() >= 2 && bytes[0] == 0xff && bytes[1] == 0xfe)
    appendUtf16(text, bytes, true);
  else if (bytes.size() >= 2 && bytes[0] == 0xfe && bytes[1] == 0xff)
    appendUtf16(text, bytes, false);
  else if (bytes.size() >= 3 && bytes[0] == 0xef && bytes[1] == 0xbb && bytes[2] == 0xbf)
    text.assign(bytes.begin() + 3, bytes.end());
  else
    text.assign(bytes.begin(), bytes.end());
  std::string out;
  out.reserve(text.size());
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\r') {
      out += '\n';
      if (i + 1 < text.size() && text[i + 1] == '\n') ++i;
    } else {
      out += text[i];
    }
  }
  return cleanUtf8(out);
}

std::vector<std::string> linesOf(const std::string& text) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < text.size();) {
    const auto end = std::min(text.find('\n', at), text.size());
    out.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

std::string trimmed(const std::string& text) {
  const auto from = text.find_first_not_of(" \t");
  return from == std::string::npos ? "" : text.substr(from, text.find_last_not_of(" \t") - from + 1);
}

std::string keptLines(const SettingValues& settings, const std::string& kind) {
  const auto found = settings.find("file.kept");
  if (found == settings.end() || !found->second.starts_with(kind + "\n")) return {};
  return found->second.substr(kind.size() + 1);
}

Source sourceOf(const std::filesystem::path& file, const std::string& passphrase) {
  Source out{decoded(readFile(file, kMostFile)), file.filename().string()};
  if (!isSealedText(out.text)) return out;
  if (passphrase.empty())
    throw Error(ErrorKind::SignInFailed, "this file is sealed with a passphrase", file.filename().string())
        .withCure("Give it: --passphrase-file, or the field above the list.");
  out.text = openedText(out.text, passphrase);
  return out;
}

const Kind& kindOf(const Source& source, const std::string& wanted) {
  if (!wanted.empty()) {
    const Kind* kind = kindNamed(wanted);
    if (kind == nullptr) throw Error(ErrorKind::Local, "no kind of file has this name", wanted);
    return *kind;
  }
  const std::string extension = lowered(std::filesystem::path(source.name).extension().string());
  for (const Kind* kind : kKinds)
    if (extension == kind->extension) return *kind;
  for (const Kind* kind : kKinds)
    if (kind->looksLike(source.text)) return *kind;
  throw Error(ErrorKind::Local, "this is no connection file that is known here", source.name)
      .withCure("Say which kind it is with --as.");
}

Read readSource(const Source& source, const std::string& kind) {
  Read out = kindOf(source, kind).read(source.text, source.name);
  for (std::string& r : out.remarks) r = source.name + ": " + r;
  return out;
}

Read readFiles(const std::vector<std::filesystem::path>& files, const std::string& kind,
               const std::string& passphrase) {
  Read out;
  for (const auto& file : files) {
    Read one = readSource(sourceOf(file, passphrase), kind);
    std::move(one.entries.begin(), one.entries.end(), std::back_inserter(out.entries));
    std::move(one.remarks.begin(), one.remarks.end(), std::back_inserter(out.remarks));
  }
  return out;
}

std::vector<Planned> plan(const Snapshot& records, std::vector<Entry> entries, Choice clash) {
  std::multimap<std::string, Id> byName;
  for (const auto& [id, m] : records.machines) byName.emplace(m.name, id);
  std::vector<Planned> out;
  std::set<std::pair<std::string, std::string>> seen;
  for (Entry& e : entries) {
    e.group = tidyPath(e.group);
    Planned p;
    const auto [first, last] = byName.equal_range(e.name);
    for (auto at = first; at != last && p.machine == 0; ++at)
      if (e.group.empty() || pathOf(records, records.machines.at(at->second).folder) == e.group)
        p.machine = at->second;
    if (p.machine != 0) {
      p.differs = differences(entryOf(records, records.machines.at(p.machine)), e);
      p.clash = p.differs.empty() ? Clash::Same : Clash::Differs;
      p.choice = p.clash == Clash::Same ? Choice::Skip : clash;
    } else if (!seen.insert({e.group, e.name}).second) {
      // Twice in what is imported.
      p.clash = Clash::Differs;
      p.differs = "named twice in the file";
      p.choice = clash == Choice::Replace ? Choice::Add : clash;
    }
    p.entry = std::move(e);
    out.push_back(std::move(p));
  }
  return out;
}

Written writePlan(StoreWriter& writer, const Snapshot& records, const std::vector<Planned>& plan,
                  const std::string& group) {
  Written out;
  Folders folders(writer, records);
  const std::string home = tidyPath(group);
  std::set<std::string> names;
  for (const auto& [id, m] : records.machines) names.insert(m.name);
  for (const Planned& p : plan) {
    if (p.choice == Choice::Skip) {
      ++out.skipped;
      continue;
    }
    Machine m;
    const bool replaces = p.choice == Choice::Replace && p.machine != 0;
    if (replaces) {
      m = records.machines.at(p.machine);
      for (const Endpoint* e : records.endpointsOf(m.id)) writer.removeEndpoint(e->id);
    } else {
      m.name = p.entry.name;
      for (int i = 2; !names.insert(m.name).second; ++i) m.name = p.entry.name + " " + std::to_string(i);
      m.folder = folders.at(p.entry.group.empty() ? home : p.entry.group);
    }
    if (!p.entry.host.empty() || !replaces) m.host = p.entry.host;
    if (!p.entry.tags.empty() || !replaces) m.tags = p.entry.tags;
    if (!p.entry.notes.empty() || !replaces) m.notes = p.entry.notes;
    writer.put(m);
    writeWays(writer, m.id, p.entry.ways);
    writeSettings(writer, {OwnerKind::Machine, m.id}, p.entry.settings);
    ++(replaces ? out.replaced : out.added);
  }
  return out;
}

std::vector<Entry> entriesOf(const Snapshot& records, Id folder) {
  std::map<std::pair<std::string, std::string>, Entry> sorted;
  for (const auto& [id, m] : records.machines) {
    if (folder != 0) {
      const auto path = records.pathOf(m.folder);
      if (std::none_of(path.begin(), path.end(), [folder](const Folder* f) { return f->id == folder; }))
        continue;
    }
    Entry e = entryOf(records, m);
    sorted.emplace(std::pair(e.group, e.name + "\n" + std::to_string(id)), std::move(e));
  }
  std::vector<Entry> out;
  for (auto& [key, e] : sorted) out.push_back(std::move(e));
  return out;
}

}  // namespace kw::exchange
