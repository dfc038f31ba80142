// People of a team's database: whoever may sign in there may be known elsewhere by the same name and
// password.
#pragma once
#include <string>

namespace kw {

/// Whether the database of this address ("postgresql://…") asks for a password and takes this one. Blocks,
/// for five seconds at most where the database does not answer. Never throws.
bool databaseKnows(const std::string& place, const std::string& user, const std::string& password);

}  // namespace kw
