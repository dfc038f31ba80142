#include <SQLiteCpp/SQLiteCpp.h>
#include <openssl/evp.h>
#include <sodium.h>

#include <ctime>

#include "base/error.hpp"
#include "gate/gate_store_state.hpp"

namespace kw::gate {

namespace {

constexpr const char* kByStore = "store";  // in the place of a hash, which begins with a dollar sign

using Json = nlohmann::json;

constexpr int kSchemaVersion = 1;
constexpr const char* kSchema = R"sql(
CREATE TABLE account(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, hash TEXT NOT NULL, role TEXT NOT NULL,
                     off INTEGER NOT NULL DEFAULT 0, code_secret BLOB, code_step INTEGER NOT NULL DEFAULT 0);
CREATE TABLE pass(id INTEGER PRIMARY KEY, token BLOB NOT NULL UNIQUE, way INTEGER NOT NULL, machine TEXT NOT NULL,
                  label TEXT NOT NULL, look INTEGER NOT NULL, carries INTEGER NOT NULL, begins INTEGER NOT NULL,
                  until INTEGER NOT NULL, uses INTEGER NOT NULL, most INTEGER NOT NULL, note TEXT NOT NULL,
                  made_by TEXT NOT NULL, ended INTEGER NOT NULL DEFAULT 0);
CREATE TABLE sign_in(token BLOB PRIMARY KEY, account INTEGER, pass INTEGER, until INTEGER NOT NULL);
CREATE TABLE audit(id INTEGER PRIMARY KEY, entry TEXT NOT NULL, hash BLOB NOT NULL);
)sql";

constexpr std::pair<Role, const char*> kRoles[] = {
    {Role::Look, "look"}, {Role::Drive, "drive"}, {Role::Keeper, "keeper"}};
constexpr std::size_t kLeastPassword = 8;

void dropSignIns(SQLite::Database& db, const std::string& account) {
  SQLite::Statement s(db, "DELETE FROM sign_in WHERE account=(SELECT id FROM account WHERE name=?)");
  s.bind(1, account);
  s.exec();
}

std::string slowHash(const std::string& password) {
  char out[crypto_pwhash_STRBYTES];
  if (crypto_pwhash_str(out, password.data(), password.size(), crypto_pwhash_OPSLIMIT_INTERACTIVE,
                        crypto_pwhash_MEMLIMIT_INTERACTIVE) != 0)
    throw Error(ErrorKind::Local, "not enough memory to hash a password");
  return out;
}

Pass passFrom(SQLite::Statement& s) {
  Pass p;
  p.id = s.getColumn(0).getInt64();
  p.wayIn = s.getColumn(1).getInt64();
  p.machine = s.getColumn(2).getString();
  p.label = s.getColumn(3).getString();
  p.look = s.getColumn(4).getInt() != 0;
  p.carriesPassword = s.getColumn(5).getInt() != 0;
  p.from = s.getColumn(6).getInt64();
  p.until = s.getColumn(7).getInt64();
  p.uses = s.getColumn(8).getInt();
  p.most = s.getColumn(9).getInt();
  p.note = s.getColumn(10).getString();
  p.madeBy = s.getColumn(11).getString();
  p.ended = s.getColumn(12).getInt() != 0;
  return p;
}
constexpr const char* kPassColumns =
    "id, way, machine, label, look, carries, begins, until, uses, most, note, made_by, ended";

}  // namespace

const char* nameOf(Role role) {
  for (const auto& [known, name] : kRoles)
    if (known == role) return name;
  return "look";
}
std::optional<Role> roleFrom(const std::string& name) {
  for (const auto& [role, known] : kRoles)
    if (name == known) return role;
  return std::nullopt;
}

Seconds nowSeconds() { return std::time(nullptr); }

std::string randomToken() {
  Byte bytes[32];
  randombytes_buf(bytes, sizeof bytes);
  char out[64];
  sodium_bin2base64(out, sizeof out, bytes, sizeof bytes, sodium_base64_VARIANT_URLSAFE_NO_PADDING);
  return out;
}

std::string problemWith(const Pass& pass, Seconds now) {
  if (pass.ended) return "ended";
  if (now < pass.from) return "not yet";
  if (now >= pass.until) return "expired";
  return "";
}

GateStore::GateStore(const std::filesystem::path& folder) {
  if (sodium_init() < 0) throw Error(ErrorKind::Local, "libsodium does not start");
  std::error_code code;
  std::filesystem::create_directories(folder, code);
  std::filesystem::permissions(folder, std::filesystem::perms::owner_all, code);
  try {
    state_ = std::make_unique<State>(folder / "gate.sqlite");
    state_->db.exec("PRAGMA journal_mode=WAL");
    state_->db.exec("PRAGMA synchronous=FULL");
    SQLite::Transaction making(state_->db, SQLite::TransactionBehavior::IMMEDIATE);
    const int version = state_->db.execAndGet("PRAGMA user_version").getInt();
    if (version > kSchemaVersion)
      throw Error(ErrorKind::Local, "this state was made by a newer gateway", folder.string());
    if (version == 0) {
      state_->db.exec(kSchema);
      state_->db.exec("PRAGMA user_version=1");
    }
    making.commit();
  } catch (const SQLite::Exception& e) {
    throw Error(ErrorKind::Local, std::string("the gateway's store cannot be opened: ") + e.what(),
                folder.string());
  }
  std::filesystem::permissions(
      folder / "gate.sqlite", std::filesystem::perms::owner_read | std::filesystem::perms::owner_write, code);
  state_->nobody = slowHash(randomToken());
}
GateStore::~GateStore() = default;

void GateStore::addAccount(const std::string& name, const std::string& password, Role role) {
  if (password.size() < kLeastPassword)
    throw Error(ErrorKind::Local, "a password has eight characters at least");
  addHashed(name, slowHash(password), role);
}

void GateStore::addStoreAccount(const std::string& name, Role role) { addHashed(name, kByStore, role); }

void GateStore::addHashed(const std::string& name, const std::string& hash, Role role) {
  if (name.empty() || name.size() > 64) throw Error(ErrorKind::Local, "a name has 1 to 64 bytes");
  if (account(name)) throw Error(ErrorKind::Local, "there is an account of this name already", name);
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "INSERT INTO account(name, hash, role) VALUES(?, ?, ?)");
    s.bind(1, name);
    s.bind(2, hash);
    s.bind(3, nameOf(role));
    s.exec();
  });
}

void GateStore::setPassword(const std::string& name, const std::string& password) {
  if (password.size() < kLeastPassword)
    throw Error(ErrorKind::Local, "a password has eight characters at least");
  const std::string hash = slowHash(password);
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "UPDATE account SET hash=? WHERE name=?");
    s.bind(1, hash);
    s.bind(2, name);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no account has this name", name);
    // Whoever was signed in with the old one is not any more.
    SQLite::Statement drop(state_->db,
                           "DELETE FROM sign_in WHERE account=(SELECT id FROM account WHERE name=?)");
    drop.bind(1, name);
    drop.exec();
  });
}

void GateStore::setRole(const std::string& name, Role role) {
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "UPDATE account SET role=? WHERE name=?");
    s.bind(1, nameOf(role));
    s.bind(2, name);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no account has this name", name);
  });
}

void GateStore::setOff(const std::string& name, bool off) {
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "UPDATE account SET off=? WHERE name=?");
    s.bind(1, off ? 1 : 0);
    s.bind(2, name);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no account has this name", name);
  });
}

std::string GateStore::startCodes(const std::string& name) {
  std::string secret(20, '\0');  // RFC 4226 4: 160 bits
  randombytes_buf(secret.data(), secret.size());
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "UPDATE account SET code_secret=?, code_step=0 WHERE name=?");
    s.bind(1, secret.data(), static_cast<int>(secret.size()));
    s.bind(2, name);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no account has this name", name);
  });
  return base32(secret);
}

void GateStore::removeAccount(const std::string& name) {
  state_->guarded([&] {
    dropSignIns(state_->db, name);
    SQLite::Statement s(state_->db, "DELETE FROM account WHERE name=?");
    s.bind(1, name);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no account has this name", name);
  });
}

std::vector<Account> GateStore::accounts() const {
  return state_->guarded([&] {
    std::vector<Account> out;
    SQLite::Statement s(
        state_->db, "SELECT id, name, role, code_secret IS NOT NULL, hash, off FROM account ORDER BY name");
    while (s.executeStep())
      out.push_back({s.getColumn(0).getInt64(), s.getColumn(1).getString(),
                     roleFrom(s.getColumn(2).getString()).value_or(Role::Look), s.getColumn(3).getInt() != 0,
                     s.getColumn(4).getString() == kByStore, s.getColumn(5).getInt() != 0});
    return out;
  });
}

std::optional<Account> GateStore::account(const std::string& name) const {
  for (Account& a : accounts())
    if (a.name == name) return std::move(a);
  return std::nullopt;
}

bool GateStore::mayIn(const std::string& name, const std::string& password, const std::string& code,
                      Seconds now, const StoreSignIn& storeSignIn) {
  std::string hash = state_->nobody, secret;
  bool known = false, codes = false;
  std::int64_t lastStep = 0;
  state_->guarded([&] {
    SQLite::Statement s(state_->db,
                        "SELECT hash, code_secret, code_step FROM account WHERE name=? AND off=0");
    s.bind(1, name);
    if (!s.executeStep()) return;
    known = true;
    hash = s.getColumn(0).getString();
    if (!s.getColumn(1).isNull()) {
      codes = true;
      secret.assign(static_cast<const char*>(s.getColumn(1).getBlob()),
                    static_cast<std::size_t>(s.getColumn(1).getBytes()));
    }
    lastStep = s.getColumn(2).getInt64();
  });
  const bool byStore = hash == kByStore;
  if (byStore) hash = state_->nobody;
  bool right = crypto_pwhash_str_verify(hash.c_str(), password.data(), password.size()) == 0;
  if (storeSignIn) {
    // Everybody waits as long. The database hears the passwords of its own people only.
    const bool there = storeSignIn(name, byStore ? password : randomToken());
    if (byStore) right = there;
  } else if (byStore) {
    right = false;
  }
  if (!known || !right) return false;
  if (!codes) return true;
  // A code of the step before or after counts, too (clocks differ); none counts twice.
  for (int drift = -1; drift <= 1; ++drift) {
    const std::int64_t step = now / kCodeSeconds + drift;
    if (step <= lastStep || code.size() != 6) continue;
    if (sodium_memcmp(timeCode(secret, step * kCodeSeconds).data(), code.data(), 6) != 0) continue;
    state_->guarded([&] {
      SQLite::Statement s(state_->db, "UPDATE account SET code_step=? WHERE name=?");
      s.bind(1, step);
      s.bind(2, name);
      s.exec();
    });
    return true;
  }
  return false;
}

std::string GateStore::signIn(const std::string& name, Seconds until) {
  const std::string token = randomToken();
  state_->guarded([&] {
    SQLite::Statement s(
        state_->db, "INSERT INTO sign_in(token, account, until) SELECT ?, id, ? FROM account WHERE name=?");
    bindBytes(s, 1, hashOf(token));
    s.bind(2, until);
    s.bind(3, name);
    s.exec();
    SQLite::Statement old(state_->db, "DELETE FROM sign_in WHERE until < ?");
    old.bind(1, nowSeconds());
    old.exec();
  });
  return token;
}

std::string GateStore::signInByPass(Id pass, Seconds until) {
  const std::string token = randomToken();
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "INSERT INTO sign_in(token, pass, until) VALUES(?, ?, ?)");
    bindBytes(s, 1, hashOf(token));
    s.bind(2, pass);
    s.bind(3, until);
    s.exec();
  });
  return token;
}

std::optional<Person> GateStore::person(const std::string& token, Seconds now) const {
  if (token.size() != 43) return std::nullopt;
  std::optional<Id> passId;
  auto out = state_->guarded([&]() -> std::optional<Person> {
    SQLite::Statement s(
        state_->db,
        "SELECT s.account, s.pass, s.until, a.name, a.role FROM sign_in s LEFT JOIN account a ON "
        "a.id = s.account WHERE s.token=? AND s.until > ? AND (s.account IS NULL OR a.off = 0)");
    bindBytes(s, 1, hashOf(token));
    s.bind(2, now);
    if (!s.executeStep()) return std::nullopt;
    Person p;
    p.until = s.getColumn(2).getInt64();
    if (!s.getColumn(1).isNull()) {
      passId = s.getColumn(1).getInt64();
      return p;
    }
    if (s.getColumn(3).isNull()) return std::nullopt;
    p.name = s.getColumn(3).getString();
    p.role = roleFrom(s.getColumn(4).getString()).value_or(Role::Look);
    return p;
  });
  if (!out || !passId) return out;
  const auto held = pass(*passId);
  if (!held || !problemWith(*held, now).empty()) return std::nullopt;
  out->name = held->note.empty() ? "somebody with a pass" : held->note;
  out->role = held->look ? Role::Look : Role::Drive;
  out->pass = held->id;
  out->onlyWay = held->wayIn;
  out->carriesPassword = held->carriesPassword;
  out->until = std::min(out->until, held->until);
  return out;
}

void GateStore::signOut(const std::string& token) {
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "DELETE FROM sign_in WHERE token=?");
    bindBytes(s, 1, hashOf(token));
    s.exec();
  });
}

void GateStore::signOutAll(const std::string& name) {
  state_->guarded([&] { dropSignIns(state_->db, name); });
}

std::vector<std::string> GateStore::signedInByStore(Seconds now) const {
  return state_->guarded([&] {
    SQLite::Statement s(state_->db,
                        "SELECT DISTINCT a.name FROM sign_in s JOIN account a ON a.id = s.account "
                        "WHERE s.until > ? AND a.hash = ? ORDER BY a.name");
    s.bind(1, now);
    s.bind(2, kByStore);
    std::vector<std::string> out;
    while (s.executeStep()) out.push_back(s.getColumn(0).getString());
    return out;
  });
}

std::string GateStore::makePass(Pass& p) {
  const std::string token = randomToken();
  state_->guarded([&] {
    SQLite::Statement s(state_->db,
                        "INSERT INTO pass(token, way, machine, label, look, carries, begins, until, uses, "
                        "most, note, made_by) "
                        "VALUES(?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?)");
    bindBytes(s, 1, hashOf(token));
    s.bind(2, p.wayIn);
    s.bind(3, p.machine);
    s.bind(4, p.label);
    s.bind(5, p.look ? 1 : 0);
    s.bind(6, p.carriesPassword ? 1 : 0);
    s.bind(7, p.from);
    s.bind(8, p.until);
    s.bind(9, p.most);
    s.bind(10, p.note);
    s.bind(11, p.madeBy);
    s.exec();
    p.id = state_->db.getLastInsertRowid();
  });
  return token;
}

std::optional<Pass> GateStore::passOf(const std::string& token) const {
  if (token.size() != 43) return std::nullopt;
  return state_->guarded([&]() -> std::optional<Pass> {
    SQLite::Statement s(state_->db, std::string("SELECT ") + kPassColumns + " FROM pass WHERE token=?");
    bindBytes(s, 1, hashOf(token));
    if (!s.executeStep()) return std::nullopt;
    return passFrom(s);
  });
}

std::optional<Pass> GateStore::pass(Id id) const {
  return state_->guarded([&]() -> std::optional<Pass> {
    SQLite::Statement s(state_->db, std::string("SELECT ") + kPassColumns + " FROM pass WHERE id=?");
    s.bind(1, id);
    if (!s.executeStep()) return std::nullopt;
    return passFrom(s);
  });
}

std::vector<Pass> GateStore::passes() const {
  return state_->guarded([&] {
    std::vector<Pass> out;
    SQLite::Statement s(state_->db, std::string("SELECT ") + kPassColumns + " FROM pass ORDER BY id DESC");
    while (s.executeStep()) out.push_back(passFrom(s));
    return out;
  });
}

bool GateStore::usePass(Id id, Seconds now) {
  return state_->guarded([&] {
    SQLite::Statement s(state_->db,
                        "UPDATE pass SET uses = uses + 1 WHERE id=? AND ended=0 AND begins <= ? AND until > "
                        "? AND (most=0 OR uses < most)");
    s.bind(1, id);
    s.bind(2, now);
    s.bind(3, now);
    return s.exec() == 1;
  });
}

void GateStore::endPass(Id id) {
  state_->guarded([&] {
    SQLite::Statement s(state_->db, "UPDATE pass SET ended=1 WHERE id=?");
    s.bind(1, id);
    if (s.exec() == 0) throw Error(ErrorKind::Local, "no pass has this number", std::to_string(id));
  });
}

}  // namespace kw::gate
