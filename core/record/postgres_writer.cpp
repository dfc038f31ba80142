#include "record/postgres_writer.hpp"

namespace kw {

namespace {

constexpr std::size_t kMostGathered = 256U << 10;  ///< bytes of one statement
constexpr int kMostNumbers = 512;

std::string valueText(const Json& value) {
  return value.is_string() ? value.get<std::string>() : value.dump();
}

/// Some columns are words of SQL.
std::string named(const RowColumn& c) { return std::string("\"") + c.name + "\""; }

}  // namespace

PostgresWriter::PostgresWriter(pqxx::work& work)
    // Held until the end: commits follow one another, and no number is used twice.
    : RowWriter(work.exec1("SELECT number FROM kettle.revision FOR UPDATE")[0].as<std::int64_t>() + 1),
      work_(work) {}

void PostgresWriter::flush() {
  for (auto& [table, rows] : gathered_) send(table, rows);
}

void PostgresWriter::send(const std::string& table, std::string& rows) {
  if (rows.empty()) return;
  std::string names = "id, version";
  for (const RowColumn& c : recordTable(table).columns) names += ", " + named(c);
  work_.exec0("INSERT INTO kettle." + table + "(" + names + ") VALUES " + std::exchange(rows, {}));
}

Id PostgresWriter::newNumber(const std::string& table) {
  Numbers& numbers = numbers_[table];
  if (numbers.left.empty()) {
    for (const auto& r :
         work_.exec("SELECT nextval(pg_get_serial_sequence('kettle." + table +
                    "', 'id')) FROM generate_series(1, " + std::to_string(numbers.next) + ")"))
      numbers.left.push_back(r[0].as<Id>());
    numbers.next = std::min(2 * numbers.next, kMostNumbers);
  }
  const Id out = numbers.left.front();
  numbers.left.pop_front();
  return out;
}

Id PostgresWriter::insert(const std::string& table, Id id, std::int64_t version, const Json& row) {
  if (id == 0) id = newNumber(table);
  std::string& rows = gathered_[table];
  if (rows.size() > kMostGathered) send(table, rows);
  std::string values = std::to_string(id) + ", " + std::to_string(version);
  for (const RowColumn& c : recordTable(table).columns) values += ", " + quoted(c, row.at(c.name));
  rows += (rows.empty() ? "(" : ", (") + values + ")";
  return id;
}

Json PostgresWriter::row(const std::string& table, Id id) {
  flush();
  const auto found =
      work_.exec_params("SELECT to_jsonb(t)::text FROM kettle." + table + " t WHERE id=$1", id);
  return found.empty() ? Json(nullptr) : Json::parse(found[0][0].as<std::string>());
}

void PostgresWriter::update(const std::string& table, Id id, std::int64_t version, const Json& row) {
  flush();
  std::string sets = "version=" + std::to_string(version);
  for (const RowColumn& c : recordTable(table).columns)
    sets += ", " + named(c) + "=" + quoted(c, row.at(c.name));
  work_.exec0("UPDATE kettle." + table + " SET " + sets + " WHERE id=" + std::to_string(id));
}

void PostgresWriter::drop(const std::string& table, Id id) {
  flush();
  work_.exec_params("DELETE FROM kettle." + table + " WHERE id=$1", id);
}

std::vector<Id> PostgresWriter::idsWhere(const std::string& table, const Json& values) {
  flush();
  std::string where;
  for (const RowColumn& c : recordTable(table).columns)
    if (values.contains(c.name))
      where += (where.empty() ? " WHERE " : " AND ") + named(c) + "=" + quoted(c, values.at(c.name));
  std::vector<Id> out;
  for (const auto& row : work_.exec("SELECT id FROM kettle." + table + where)) out.push_back(row[0].as<Id>());
  return out;
}

void PostgresWriter::dropSecrets(Owner owner) {
  for (const char* table : {"secret", "copy"})
    work_.exec_params(std::string("DELETE FROM kettle.") + table + " WHERE owner_kind=$1 AND owner=$2",
                      static_cast<int>(owner.kind), owner.id);
}

std::string PostgresWriter::quoted(const RowColumn& c, const Json& value) {
  return c.number ? std::to_string(value.get<std::int64_t>()) : work_.quote(valueText(value));
}

}  // namespace kw
