// Machines out of files as people have them, and into files. Every kind reads into the same entries; what a
// file says that we have no place for is kept beside the record and written back.
#pragma once
#include <filesystem>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "record/store.hpp"

namespace kw::exchange {

struct EntryWay {
  std::string label;    ///< empty: the kind's usual one
  std::string address;  ///< a URI
  SettingValues settings;
};

/// One machine as a file gives it.
struct Entry {
  std::string name, group, host, tags, notes;  ///< group: "place/group"
  std::vector<EntryWay> ways;
  SettingValues settings;
  std::optional<std::string> password;  ///< handed over by the file, for once
  bool deleteFile = false;              ///< the file asks to be deleted when it was used
  std::string from;                     ///< "desk.rdp", "list.csv line 14"
};

struct Read {
  std::vector<Entry> entries;
  std::vector<std::string> remarks;  ///< "line 7: no address, passed over"
};

/// Adding a kind: one file kind_*.cpp, one row in kinds.cpp.
struct Kind {
  const char* name;       ///< "rdp", "csv": --as
  const char* label;      ///< for people
  const char* extension;  ///< ".rdp"
  /// True when a text looks like one; the extension is tried first.
  bool (*looksLike)(const std::string& text);
  /// Throws Error{Local} when it is no such file.
  Read (*read)(const std::string& text, const std::string& fileName);
  /// Null: cannot be written.
  std::string (*write)(const std::vector<Entry>& entries);
};
std::span<const Kind> allKinds();
const Kind* kindNamed(const std::string& name);

/// UTF-8 of a file in UTF-8 or UTF-16, with or without its mark, line ends made "\n".
std::string decoded(const Bytes& bytes);
/// Text of a file, and what it is called in remarks.
struct Source {
  std::string text, name;
};
/// Opened with the passphrase when it is sealed. Throws Error{SignInFailed} when that is missing or wrong.
Source sourceOf(const std::filesystem::path& file, const std::string& passphrase = "");
/// The kind that a text is; `kind` empty: found out, by the name's ending first. Throws Error{Local}.
const Kind& kindOf(const Source& source, const std::string& kind = "");
Read readSource(const Source& source, const std::string& kind = "");
/// Throws Error{Local} with what is wrong; see sourceOf().
Read readFiles(const std::vector<std::filesystem::path>& files, const std::string& kind = "",
               const std::string& passphrase = "");

enum class Clash { New, Same, Differs };
enum class Choice { Skip, Replace, Add };

/// One entry beside the records.
struct Planned {
  Entry entry;
  Clash clash = Clash::New;
  Id machine = 0;  ///< of a clash
  Choice choice = Choice::Add;
  std::string differs;  ///< "address", "host, tags"
};
/// By name within the group (or anywhere, for entries without one). Same ones are skipped, others added or,
/// for Differs, done as `clash` says.
std::vector<Planned> plan(const Snapshot& records, std::vector<Entry> entries, Choice clash);

struct Written {
  int added = 0, replaced = 0, skipped = 0;
};
/// In the writer's one commit. `group`: where entries without one go.
Written writePlan(StoreWriter& writer, const Snapshot& records, const std::vector<Planned>& plan,
                  const std::string& group);

/// All machines of a folder (0: all), ready to be written.
std::vector<Entry> entriesOf(const Snapshot& records, Id folder = 0);

extern const Kind rdpKind, consoleKind, vncKind, csvKind, jsonKind;

/// The JSON Schema of our own JSON; docs/machines.schema.json is the same text.
const char* machinesSchema();

// Shared by kinds.
std::vector<std::string> linesOf(const std::string& text);
std::string trimmed(const std::string& text);
/// What a kind has no place for, kept in "file.kept": its name on the first line.
std::string keptLines(const SettingValues& settings, const std::string& kind);

}  // namespace kw::exchange
