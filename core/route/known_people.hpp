// Which keys this desk believes to be whose, in a team's database: a file beside the vault's key, which
// whoever keeps the database cannot write to.
#pragma once
#include <filesystem>
#include <set>
#include <string>

#include "base/bytes.hpp"

namespace kw {

/// Ten hexadecimal bytes of a key's digest in groups, for two people to compare: "5f2c 91ab 33e0 7d14 0c5e".
std::string markOfKey(const Bytes& key);

/// Of one database (TeamSecrets::place).
class KnownPeople {
 public:
  /// `folder`: the vault's.
  KnownPeople(const std::filesystem::path& folder, std::string place);
  /// Whether anything is known of them.
  [[nodiscard]] bool knows(const std::string& account) const;
  [[nodiscard]] bool believes(const std::string& account, const Bytes& key) const;
  /// Kept at once. Throws Error{Local} when the file cannot be written.
  void believe(const std::string& account, const Bytes& key);

 private:
  [[nodiscard]] std::set<std::string> keysOf(const std::string& account) const;
  std::filesystem::path file_;
  std::string place_;
};

}  // namespace kw
