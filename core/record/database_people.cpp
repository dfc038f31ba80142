#include "record/database_people.hpp"

#include <libpq-fe.h>

#include <memory>

#include "record/answer_limit.hpp"

namespace kw {

namespace {

using Connection = std::unique_ptr<PGconn, decltype(&PQfinish)>;

}  // namespace

bool databaseKnows(const std::string& place, const std::string& user, const std::string& password) {
  if (user.empty() || password.empty()) return false;
  // What comes later counts instead of what the address says; an empty file keeps the gateway's own password
  // out of it.
  const char* const words[] = {"dbname", "user", "password", "passfile", "connect_timeout", nullptr};
  const char* const values[] = {place.c_str(), user.c_str(), password.c_str(), "/dev/null", "5", nullptr};
  const Connection connection(PQconnectdbParams(words, values, 1), &PQfinish);
  // A database that asks nobody for a password knows nobody.
  return PQstatus(connection.get()) == CONNECTION_OK && PQconnectionUsedPassword(connection.get()) == 1;
}

std::vector<std::string> databaseRefuses(const std::string& place, const std::vector<std::string>& users) {
  const char* const words[] = {"dbname", "connect_timeout", nullptr};
  const char* const values[] = {place.c_str(), "5", nullptr};
  const Connection connection(PQconnectdbParams(words, values, 1), &PQfinish);
  if (PQstatus(connection.get()) != CONNECTION_OK) return {};
  AnswerLimit limit;
  const AnswerLimit::Held held(limit, PQsocket(connection.get()), std::chrono::seconds(5));
  std::vector<std::string> out;
  for (const std::string& user : users) {
    const char* const given[] = {user.c_str()};
    const std::unique_ptr<PGresult, decltype(&PQclear)> answer(
        PQexecParams(
            connection.get(),
            "SELECT 1 FROM pg_roles WHERE rolname = $1 AND rolcanlogin AND (rolvaliduntil IS NULL OR "
            "rolvaliduntil > now())",
            1, nullptr, given, nullptr, nullptr, 0),
        &PQclear);
    if (PQresultStatus(answer.get()) != PGRES_TUPLES_OK) return {};
    if (PQntuples(answer.get()) == 0) out.push_back(user);
  }
  return out;
}

}  // namespace kw
