// What several people hold, in a team's database.
#pragma once
#include <functional>
#include <memory>
#include <pqxx/pqxx>

#include "record/team_secrets.hpp"

namespace kw {

/// Runs something on the store's connection, in its turn, and puts what goes wrong into words.
using PostgresTurn = std::function<void(const std::function<void(pqxx::connection&)>&)>;

std::unique_ptr<TeamSecrets> postgresTeamSecrets(PostgresTurn turn);

}  // namespace kw
