// Where records are kept. Every row has a version; a stale write is refused with what changed, never lost.
// Every commit can be undone. What commit() returned from is on disk.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "record/history.hpp"
#include "record/model.hpp"
#include "record/team_secrets.hpp"

namespace kw {

/// Somebody else changed the row in the meantime.
class StaleError : public Error {
 public:
  explicit StaleError(const std::string& what) : Error(ErrorKind::Local, what) {}
};

/// Writes inside one commit. The versions in the given rows must be those that were read; put() raises them.
class StoreWriter {
 public:
  virtual ~StoreWriter() = default;
  /// id 0 makes a new row and fills in id and version.
  virtual void put(Folder& folder) = 0;
  virtual void put(Machine& machine) = 0;
  virtual void put(Endpoint& endpoint) = 0;
  virtual void put(HostRecord& host) = 0;
  /// Throws Error{Local} when another credential has the name. Whoever took it by its old name follows.
  virtual void put(Credential& credential) = 0;
  /// With everything in it: groups, machines, ways in, settings, kept passwords.
  virtual void removeFolder(Id id) = 0;
  virtual void removeMachine(Id id) = 0;
  virtual void removeEndpoint(Id id) = 0;
  /// Its machines stay.
  virtual void removeHost(Id id) = 0;
  /// Its secrets with it; ways in that take it ask again.
  virtual void removeCredential(Id id) = 0;
  /// Nothing takes the own value back, so that the inherited one counts again. Throws Error{Local} with a
  /// sentence when the setting does not exist or does not allow the value.
  virtual void set(Owner owner, const std::string& key, const std::optional<std::string>& value) = 0;
};

/// What set() of every store checks first; throws Error{Local}.
void refuseBadSetting(const std::string& key, const std::string& value);

/// The group at "place/group/…", made where it is missing. Empty names are passed over; 0 for no name at all.
Id folderNamed(const Snapshot& now, StoreWriter& writer, const std::string& path);

/// A certificate or key that somebody decided to trust.
struct Pin {
  std::string peer;  ///< "fernery:5907", "ssh gatehouse:22"
  std::string sha256;
  std::string when;  ///< ISO 8601, UTC
};

/// What a line of the journal tells. The numbers are kept in stores.
enum class Told { Note = 0, Opened = 1, Trouble = 2, Log = 3, Ended = 4 };

struct JournalEntry {
  std::string machine;
  std::string text;  ///< Opened: the address; Trouble, Ended: a sentence; Log: the file's whole path
  Told told = Told::Note;
  std::string visit{};  ///< the same word in all lines of one visit; empty: belongs to none
  std::string when{};   ///< ISO 8601, UTC; filled by the store
  std::string who{};    ///< the account; filled by the store; empty in lines of an older version
};

/// Ends, when it is given up.
class ChangeWatch {
 public:
  virtual ~ChangeWatch() = default;
};

class Store {
 public:
  virtual ~Store() = default;
  [[nodiscard]] virtual Snapshot load() = 0;
  /// True when somebody (also another process) changed the store since the snapshot.
  [[nodiscard]] virtual bool changedSince(const Snapshot& snapshot) = 0;
  /// The records as they are now, of which only what changed since is read; null when nothing did.
  [[nodiscard]] virtual std::shared_ptr<Snapshot> changesSince(const Snapshot& snapshot) = 0;
  /// Calls `changed` on a thread of its own soon after anybody changed the store, until the watch is given
  /// up. Null where only looking again tells.
  [[nodiscard]] virtual std::unique_ptr<ChangeWatch> watch(std::function<void()> changed);
  /// All of `work` or nothing. `title` names it for undo: "remove mist-bench".
  virtual void commit(const std::string& title, const std::function<void(StoreWriter&)>& work) = 0;
  /// Undoes one's own newest commit; returns its title, empty when there is none. Throws StaleError.
  virtual std::string undo() = 0;
  [[nodiscard]] virtual std::string undoTitle() = 0;
  /// Newest first; of everything, or what was about any of these owners.
  [[nodiscard]] virtual std::vector<Change> history(int most, const std::vector<Owner>& about = {}) = 0;
  /// Puts everything that one commit changed back to how it was before it, whatever came later; this is a
  /// commit of its own, which can be undone. Throws Error{Local} when it belongs to something that is gone.
  virtual void restoreBefore(Id change) = 0;

  /// The one of this name as it is now, without loading the rest.
  [[nodiscard]] virtual std::optional<Credential> credentialNamed(const std::string& name) = 0;

  // Sealed secrets; what is stored is ciphertext (credential/vault.hpp).
  virtual void putSecret(Owner owner, const Bytes& sealedText) = 0;
  [[nodiscard]] virtual std::optional<Bytes> secret(Owner owner) = 0;
  virtual void removeSecret(Owner owner) = 0;
  /// Secrets that several people hold; null where there is only one person (a file).
  [[nodiscard]] virtual TeamSecrets* teamSecrets() { return nullptr; }

  [[nodiscard]] virtual std::optional<std::string> pinned(const std::string& peer) = 0;
  virtual void pin(const std::string& peer, const std::string& sha256) = 0;
  /// All of them, by peer.
  [[nodiscard]] virtual std::vector<Pin> pins() = 0;
  /// Trust is asked for again at the next connection.
  virtual void unpin(const std::string& peer) = 0;

  /// Everything of another store, with the same IDs, so that sealed passwords stay readable. Throws
  /// Error{Local} when there are records here already.
  virtual void fillFrom(Store& other) = 0;

  /// Adds a line; who and when are the store's to say.
  virtual void journal(const JournalEntry& entry) = 0;
  /// Newest first.
  [[nodiscard]] virtual std::vector<JournalEntry> journal(int most) = 0;
};

/// Opens or makes the file. Thread-safe. Throws Error{Local}: not a store, made by a newer version, not
/// writable.
std::unique_ptr<Store> openSqliteStore(const std::filesystem::path& file);
/// A team's records: "postgresql://duty@host/alder-vale". `make`: makes its tables where they are missing.
/// Thread-safe. Throws Error{Unreachable}, {SignInFailed} for missing rights, {Local} for no such records.
std::unique_ptr<Store> openPostgresStore(const std::string& uri, bool make = false);
/// Either, by how the place is written.
std::unique_ptr<Store> openStore(const std::string& place, bool make = false);
bool isDatabase(const std::string& place);
/// $KETTLE_STORE, or else the user's own file.
std::string usualStore();
std::unique_ptr<Store> openUsualStore();
void copySecrets(Store& from, const Snapshot& records, Store& to);
/// The user's own store: $XDG_DATA_HOME/kettle-window/records.sqlite
std::filesystem::path usualStoreFile();

}  // namespace kw
