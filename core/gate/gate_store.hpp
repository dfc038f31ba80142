// What the gateway keeps: people, sign-ins of browsers, passes, the audit. Secrets are kept as hashes only.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>
#include "credential/one_time_code.hpp"

#include "record/model.hpp"

namespace kw::gate {

using Seconds = std::int64_t;  ///< since 1970, UTC

enum class Role {
  Look,  ///< sees screens and text, types nothing
  Drive,
  Keeper,  ///< also ends others' visits and reads the audit
};
const char* nameOf(Role role);
std::optional<Role> roleFrom(const std::string& name);

struct Account {
  Id id = 0;
  std::string name;
  Role role = Role::Drive;
  bool codes = false;    ///< a one-time code is asked for
  bool byStore = false;  ///< the team's database knows its password; the gateway keeps none
  bool off = false;
};

struct Pass {
  Id id = 0;
  Id wayIn = 0;
  std::string machine, label;  ///< as they were called when it was made
  bool look = true;
  bool carriesPassword = false;  ///< the machine's kept password is used; its holder never sees it
  Seconds from = 0, until = 0;
  int uses = 0, most = 0;  ///< most 0: any number
  std::string note, madeBy;
  bool ended = false;
};
/// "ended", "expired", "not yet", "used up"; empty while it opens.
std::string problemWith(const Pass& pass, Seconds now);

/// Whoever a browser is signed in as, as things stand now.
struct Person {
  std::string name;  ///< an account's, or what a pass was made for
  Role role = Role::Look;
  Id pass = 0, onlyWay = 0;  ///< of passes
  bool carriesPassword = false;
  Seconds until = 0;
};

/// Thread-safe; several processes may have it open. Throws Error{Local} when the file cannot be used.
class GateStore {
 public:
  explicit GateStore(const std::filesystem::path& folder);
  ~GateStore();

  /// Slow on purpose (Argon2id). Throws Error{Local} for a name that is taken or a password under 8 bytes.
  void addAccount(const std::string& name, const std::string& password, Role role);
  /// One whose password is that of the same name in the team's database.
  void addStoreAccount(const std::string& name, Role role);
  /// Also for one that had its password in the team's database.
  void setPassword(const std::string& name, const std::string& password);
  void setRole(const std::string& name, Role role);
  void setOff(const std::string& name, bool off);
  /// The secret in base32, for a phone's program; asking for codes from now on. Empty secret: no codes.
  std::string startCodes(const std::string& name);
  void removeAccount(const std::string& name);
  [[nodiscard]] std::vector<Account> accounts() const;
  [[nodiscard]] std::optional<Account> account(const std::string& name) const;
  /// Whether the team's database takes this name and password. Blocks.
  using StoreSignIn = std::function<bool(const std::string& name, const std::string& password)>;
  /// Takes as long for names that nobody has. A code counts once. Null: accounts of the team's database are
  /// refused.
  bool mayIn(const std::string& name, const std::string& password, const std::string& code, Seconds now,
             const StoreSignIn& storeSignIn = {});

  /// Tokens are 256 random bits in base64url; only their hashes are kept.
  std::string signIn(const std::string& account, Seconds until);
  std::string signInByPass(Id pass, Seconds until);
  [[nodiscard]] std::optional<Person> person(const std::string& token, Seconds now) const;
  void signOut(const std::string& token);
  /// Everywhere.
  void signOutAll(const std::string& account);
  /// Accounts of the team's database that some browser is signed in with.
  [[nodiscard]] std::vector<std::string> signedInByStore(Seconds now) const;

  /// Fills in id; returns the link's token.
  std::string makePass(Pass& pass);
  [[nodiscard]] std::optional<Pass> passOf(const std::string& token) const;
  [[nodiscard]] std::optional<Pass> pass(Id id) const;
  [[nodiscard]] std::vector<Pass> passes() const;
  /// Counts one use; false when it does not open any more.
  bool usePass(Id id, Seconds now);
  void endPass(Id id);

  /// Appends; each entry's hash covers the one before.
  void audit(const std::string& who, const std::string& from, const std::string& what,
             nlohmann::json more = {});
  struct AuditCheck {
    std::int64_t entries = 0;
    std::int64_t wrongAt = 0;  ///< the first entry that does not fit; 0: all do
  };
  [[nodiscard]] AuditCheck verifyAudit() const;
  /// Newest first; only those whose text has `narrow`, whatever its case.
  [[nodiscard]] std::vector<nlohmann::json> newestAudit(const std::string& narrow, int most) const;
  /// Oldest first, from the entry behind `after`.
  [[nodiscard]] std::vector<nlohmann::json> auditEntries(std::int64_t after, int most) const;

 private:
  struct State;
  void addHashed(const std::string& name, const std::string& hash, Role role);
  std::unique_ptr<State> state_;
};

Seconds nowSeconds();
/// 32 random bytes in base64url.
std::string randomToken();

}  // namespace kw::gate
