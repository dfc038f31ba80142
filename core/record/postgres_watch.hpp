// Waiting for what others change in a team's records.
#pragma once
#include <functional>
#include <memory>
#include <string>

#include "record/store.hpp"

namespace kw {

/// What every commit notifies.
constexpr const char* kPostgresChannel = "kettle_changed";

/// Calls `changed` on a thread of its own until it is given up; also when the database is gone and when it is
/// back.
std::unique_ptr<ChangeWatch> watchPostgres(std::string uri, std::function<void()> changed);

}  // namespace kw
