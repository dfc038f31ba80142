// What both stores do when they write: versions compared, images gathered for undo and history, everything in
// an owner removed with it. A store adds how one row is read and written.
#pragma once
#include <set>

#include "record/rows.hpp"
#include "record/store.hpp"

namespace kw {

class RowWriter : public StoreWriter {
 public:
  void put(Folder& f) override;
  void put(Machine& m) override;
  void put(Endpoint& e) override;
  void put(HostRecord& h) override;
  void put(Credential& c) override;
  void removeFolder(Id id) override;
  void removeMachine(Id id) override;
  void removeEndpoint(Id id) override;
  void removeHost(Id id) override;
  void removeCredential(Id id) override;
  void set(Owner owner, const std::string& key, const std::optional<std::string>& value) override;

  /// [{table, id, old: row or null, new: row or null, version}]
  [[nodiscard]] const Json& images() const { return images_; }
  [[nodiscard]] const std::set<TouchedRow>& touched() const { return touched_; }
  /// Of all rows written in this commit. No number is ever used again, so undoing may give a row its old one
  /// back: whoever read the row as it was then may write it, whoever read something in between may not.
  [[nodiscard]] std::int64_t version() const { return version_; }

  /// Undo: puts the rows back with their versions, last first, without new images. Throws StaleError.
  void takeBack(const Json& images);
  /// Restore: puts the rows back as a change of its own. Throws Error{Local}.
  void putBack(const Json& images);
  /// Everything of another store under its own numbers. Throws Error{Local} when there are records already.
  void fill(const Snapshot& from, const std::string& where);

 protected:
  explicit RowWriter(std::int64_t version) : version_(version) {}
  /// With id and version; null when there is none.
  virtual Json row(const std::string& table, Id id) = 0;
  /// id 0: a new number. Returns the number.
  virtual Id insert(const std::string& table, Id id, std::int64_t version, const Json& row) = 0;
  virtual void update(const std::string& table, Id id, std::int64_t version, const Json& row) = 0;
  virtual void drop(const std::string& table, Id id) = 0;
  /// Those whose columns have these values; none given: all.
  virtual std::vector<Id> idsWhere(const std::string& table, const Json& values) = 0;
  virtual void dropSecrets(Owner owner) = 0;

 private:
  void write(const std::string& table, const std::string& name, Id& id, std::int64_t& version,
             const Json& row);
  void removeRow(const std::string& table, Id id);
  void removeOwned(Owner owner);
  void refuseOrphan(const std::string& table, const Json& row);
  void touch(const std::string& table, Id id, const Json& row);
  void note(const std::string& table, Id id, const Json& old, const Json& now, std::int64_t version);

  std::int64_t version_;
  /// Of an owner that this commit made it is known what was set for it: only what this commit set.
  std::set<Owner> made_;
  std::set<std::pair<Owner, std::string>> setOfMade_;
  Json images_ = Json::array();
  std::set<TouchedRow> touched_;
};

}  // namespace kw
