// People of a team's database: whoever may sign in there may be known elsewhere by the same name and
// password.
#pragma once
#include <string>
#include <vector>

namespace kw {

/// Whether the database of this address ("postgresql://…") asks for a password and takes this one. Blocks,
/// for five seconds at most where the database does not answer. Never throws.
bool databaseKnows(const std::string& place, const std::string& user, const std::string& password);

/// Those of `users` who may not sign in there now: unknown, locked, or their password's time is over. Asked
/// with the account that the address itself names. None where it cannot be asked. Blocks as long. Never
/// throws.
std::vector<std::string> databaseRefuses(const std::string& place, const std::vector<std::string>& users);

}  // namespace kw
