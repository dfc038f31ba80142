#include "record/database_people.hpp"

#include <libpq-fe.h>

#include <memory>

namespace kw {

bool databaseKnows(const std::string& place, const std::string& user, const std::string& password) {
  if (user.empty() || password.empty()) return false;
  // What comes later counts instead of what the address says; an empty file keeps the gateway's own password
  // out of it.
  const char* const words[] = {"dbname", "user", "password", "passfile", "connect_timeout", nullptr};
  const char* const values[] = {place.c_str(), user.c_str(), password.c_str(), "/dev/null", "5", nullptr};
  const std::unique_ptr<PGconn, decltype(&PQfinish)> connection(PQconnectdbParams(words, values, 1),
                                                                &PQfinish);
  // A database that asks nobody for a password knows nobody.
  return PQstatus(connection.get()) == CONNECTION_OK && PQconnectionUsedPassword(connection.get()) == 1;
}

}  // namespace kw
