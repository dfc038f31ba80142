// Secrets that several people of a team's database hold. Each person's computers have a key; what a secret
// was sealed into for one of them lies beside that key, and nothing in the database can be read with what is
// in it. How they are sealed, and which keys are believed: route/team_bundle.hpp.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "record/model.hpp"

namespace kw {

/// One computer of one person.
struct PersonKey {
  std::string account;  ///< as the database knows them
  Bytes key;            ///< public, 32 bytes
  std::string desk;     ///< the computer's name
  std::string when{};   ///< since when, ISO 8601, UTC; filled by the store
};

/// A secret for one of them.
struct SealedCopy {
  std::string account;
  Bytes key;     ///< whose it is
  Bytes sealer;  ///< the key of whoever sealed it
  Bytes sealedText;
};

/// Thread-safe. Everything throws what the store throws.
class TeamSecrets {
 public:
  virtual ~TeamSecrets() = default;
  /// Which database: "host:port/name".
  [[nodiscard]] virtual std::string place() = 0;
  /// The account that this desk has at the database.
  [[nodiscard]] virtual std::string account() = 0;
  /// Makes one's own computer known; the account is always one's own, whatever is given.
  virtual void publish(const PersonKey& own) = 0;
  /// Everybody who made a computer known, by account.
  [[nodiscard]] virtual std::vector<PersonKey> people() = 0;
  /// The copies of a secret; none: it is shared with nobody.
  [[nodiscard]] virtual std::vector<SealedCopy> copiesOf(Owner owner) = 0;
  [[nodiscard]] virtual std::optional<SealedCopy> copyFor(Owner owner, const Bytes& key) = 0;
  /// In place of all copies that there were.
  virtual void replaceCopies(Owner owner, const std::vector<SealedCopy>& copies) = 0;
};

}  // namespace kw
