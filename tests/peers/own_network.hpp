// The command line in a network of its own, where a test may make hosts that refuse or swallow.
#pragma once
#include <filesystem>
#include <nlohmann/json.hpp>
#include <string>

namespace kw::test {

/// What `kettle why --json` says in a network (and hosts file) of its own, after `before` was done in it.
/// `home` holds its records and settings.
nlohmann::json whyInOwnNetwork(const std::filesystem::path& home, const std::string& before,
                               const std::string& target);

/// The same here, with more words for the command line.
nlohmann::json whyHere(const std::filesystem::path& home, const std::string& words);

}  // namespace kw::test
