// The tables of a team's records.
#pragma once
#include <pqxx/pqxx>
#include <string>

namespace kw {

constexpr int kPostgresSchema = 4;
/// Whoever shall use the records is given this role: GRANT kettle_people TO fern.
constexpr const char* kPostgresPeople = "kettle_people";

/// Makes the tables, or brings those of an earlier version up to date. `where`: the database's name in
/// errors. Throws Error{Local} when they are of a later version, and what pqxx throws.
void preparePostgres(pqxx::connection& c, const std::string& where);

}  // namespace kw
