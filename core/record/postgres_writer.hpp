// Rows of a team's records as one commit writes them.
#pragma once
#include <deque>
#include <pqxx/pqxx>

#include "record/row_writer.hpp"

namespace kw {

/// New rows are gathered and sent many at a time: a database across a network is asked once for hundreds of
/// them. Whatever reads sends them first.
class PostgresWriter : public RowWriter {
 public:
  explicit PostgresWriter(pqxx::work& work);
  /// Sends what was gathered; before the commit ends.
  void flush();

 protected:
  Json row(const std::string& table, Id id) override;
  Id insert(const std::string& table, Id id, std::int64_t version, const Json& row) override;
  void update(const std::string& table, Id id, std::int64_t version, const Json& row) override;
  void drop(const std::string& table, Id id) override;
  std::vector<Id> idsWhere(const std::string& table, const Json& values) override;
  void dropSecrets(Owner owner) override;

 private:
  /// Numbers taken from the table's own counter, some at a time.
  struct Numbers {
    std::deque<Id> left;
    int next = 1;  ///< so many are taken when they are used up
  };
  void send(const std::string& table, std::string& rows);
  Id newNumber(const std::string& table);
  std::string quoted(const RowColumn& c, const Json& value);

  pqxx::work& work_;
  std::map<std::string, std::string> gathered_;  ///< by table: "(…), (…)"
  std::map<std::string, Numbers> numbers_;
};

}  // namespace kw
