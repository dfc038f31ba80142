// Secrets that several people of a team's database hold: real accounts with no rights but the team's.
#include <signal.h>

#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "route/known_people.hpp"
#include "route/sign_in_source.hpp"
#include "route/team_bundle.hpp"
#include "tests/peers/peer.hpp"
#include "tests/peers/postgres.hpp"
#include "tests/store_suite.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// One computer of a person of the team.
struct TeamPerson {
  explicit TeamPerson(const std::string& uri) {
    tools.store = openStore(uri);
    tools.vault = openVault(folder.path / "vault");
    publishDesk(tools);
  }
  [[nodiscard]] std::string password(Id credential) const {
    const auto bundle = keptBundle(tools, credential);
    return bundle ? std::string(bundle->password.view()) : "";
  }
  void keep(Id credential, const std::string& password) const {
    SecretBundle bundle;
    bundle.password = password, bundle.use = SecretUse::Sealed;
    keepBundle(tools, credential, bundle);
  }
  /// "fern+", "moss": + holds it, ! has a computer that is not believed
  [[nodiscard]] std::string team(Id credential) const {
    std::string out;
    for (const Teammate& t : teammatesOf(tools, credential))
      out += (out.empty() ? "" : " ") + t.account + (t.holds ? "+" : "") +
             (t.without > 0 ? "-" + std::to_string(t.without) : "") + (t.newDesk.empty() ? "" : "!");
    return out;
  }
  TemporaryFolder folder;
  OpeningTools tools;
};

struct Team {
  Team() {
    owner = openStore(server.uri(), true);
    for (const char* name : {"fern", "moss", "sedge"}) {
      server.run(std::string("CREATE ROLE ") + name + " LOGIN");
      server.run(std::string("GRANT kettle_people TO ") + name);
    }
  }
  Id credentialOf(const TeamPerson& person) {
    Credential c;
    c.name = "duty at night", c.user = "duty";
    person.tools.store->commit("add", [&](StoreWriter& w) { w.put(c); });
    return c.id;
  }
  Postgres server;
  std::unique_ptr<Store> owner;
};

}  // namespace

TEST_CASE("A credential's password is held by those it is shared with, and changed for all of them",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  const TeamPerson fern(team.server.uri("fern")), moss(team.server.uri("moss")),
      sedge(team.server.uri("sedge"));
  const Id id = team.credentialOf(fern);
  CHECK(failureOf([&] { shareBundle(fern.tools, id, {"moss"}); }).find("nothing is kept") == 0);
  fern.keep(id, "orchid-house-5");
  CHECK(moss.password(id).empty());
  CHECK(fern.team(id) == "fern moss sedge");
  shareBundle(fern.tools, id, {"moss"});
  CHECK(fern.password(id) == "orchid-house-5");
  CHECK(moss.password(id) == "orchid-house-5");
  CHECK(keptBundle(moss.tools, id)->use == SecretUse::Sealed);
  CHECK(sedge.password(id).empty());
  CHECK(sedge.team(id) == "sedge fern+ moss+");

  // Whoever holds it changes it for all who do.
  moss.keep(id, "potting-shed-6");
  CHECK(fern.password(id) == "potting-shed-6");
  CHECK(moss.password(id) == "potting-shed-6");
  // Whoever does not keeps their own, and nobody else's changes.
  sedge.keep(id, "sedges-own");
  CHECK(sedge.password(id) == "sedges-own");
  CHECK(fern.password(id) == "potting-shed-6");
  CHECK(failureOf([&] { shareBundle(sedge.tools, id, {"fern", "moss"}); }).find("others hold") == 0);
  CHECK(fern.password(id) == "potting-shed-6");

  // Taken away: the others still hold it; given to nobody it is one's own again.
  shareBundle(moss.tools, id, {"sedge"});
  CHECK(fern.password(id).empty());
  CHECK(sedge.password(id) == "potting-shed-6");
  shareBundle(moss.tools, id, {});
  CHECK(moss.password(id) == "potting-shed-6");
  CHECK(sedge.password(id) == "sedges-own");
  CHECK(moss.team(id) == "moss fern sedge");
  // Nothing of it is left when the credential goes.
  shareBundle(moss.tools, id, {"fern"});
  fern.tools.store->commit("remove", [&](StoreWriter& w) { w.removeCredential(id); });
  CHECK(moss.tools.store->teamSecrets()->copiesOf({OwnerKind::Credential, id}).empty());
  CHECK(failureOf([&] { shareBundle(fern.tools, id, {"reed"}); }) != "");
}

TEST_CASE("What people share lies nowhere readable, and only for its credential", "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  const TeamPerson fern(team.server.uri("fern")), moss(team.server.uri("moss"));
  const Id id = team.credentialOf(fern);
  fern.keep(id, "orchid-house-5");
  shareBundle(fern.tools, id, {"moss"});
  TeamSecrets& secrets = *moss.tools.store->teamSecrets();
  for (const SealedCopy& c : secrets.copiesOf({OwnerKind::Credential, id}))
    CHECK(textOf(ByteView(c.sealedText)).find("orchid") == std::string::npos);
  // Laid beside another credential, or altered, it opens nothing.
  auto copies = secrets.copiesOf({OwnerKind::Credential, id});
  secrets.replaceCopies({OwnerKind::Credential, id + 1}, copies);
  CHECK(moss.password(id + 1).empty());
  for (SealedCopy& c : copies) c.sealedText.back() ^= 1;
  secrets.replaceCopies({OwnerKind::Credential, id}, copies);
  CHECK(moss.password(id).empty());
  // Locked, nothing opens and nothing is said of keys.
  moss.tools.vault->setPassphrase("watering can");
  CHECK(moss.tools.vault->lock());
  CHECK(moss.password(id).empty());
  CHECK(ownMark(moss.tools).empty());
  CHECK(failureOf([&] { shareBundle(moss.tools, id, {"fern"}); }).find("locked") != std::string::npos);
}

TEST_CASE("Keys that whoever keeps the database slips in are given nothing", "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  const TeamPerson fern(team.server.uri("fern")), moss(team.server.uri("moss")),
      sedge(team.server.uri("sedge"));
  const Id id = team.credentialOf(fern);
  fern.keep(id, "orchid-house-5");
  shareBundle(fern.tools, id, {"moss"});
  const std::string stranger = std::string(64, '7');
  // An account writes computers of its own only.
  CHECK_THROWS(
      team.server.run("SET SESSION AUTHORIZATION fern; INSERT INTO kettle.person VALUES('moss', '\\x" +
                      stranger + "', 'x', 'x')"));
  // Whoever keeps the database may; nothing is sealed for that key, neither by a change nor by sharing again.
  team.server.run("INSERT INTO kettle.person VALUES('moss', '\\x" + stranger + "', 'greenhouse-9', 'x')");
  fern.keep(id, "potting-shed-6");
  shareBundle(fern.tools, id, {"moss", "sedge"});
  for (const SealedCopy& c : fern.tools.store->teamSecrets()->copiesOf({OwnerKind::Credential, id}))
    CHECK(hex(c.key) != stranger);
  CHECK(moss.password(id) == "potting-shed-6");
  // Sedge has heard of moss' real key from fern, and sees the other one as not believed.
  CHECK(sedge.password(id) == "potting-shed-6");
  CHECK(sedge.team(id) == "sedge+ fern+ moss+-1!");
  // Nor does a row in the database make anybody one of those who hold it.
  shareBundle(fern.tools, id, {"moss"});
  CHECK(sedge.password(id).empty());
  team.server.run("INSERT INTO kettle.copy SELECT owner_kind, owner, 'sedge', '\\x" +
                  hex(sedge.tools.vault->publicKey()) +
                  "', sealer, sealed FROM kettle.copy WHERE account='moss'");
  fern.keep(id, "glasshouse-7");
  moss.keep(id, "seed-bank-8");
  CHECK(sedge.password(id).empty());
  CHECK(fern.password(id) == "seed-bank-8");
  // A copy that a stranger sealed, under the name of somebody who is known, is not taken.
  const TeamPerson reed(team.server.uri("sedge"));
  team.server.run("INSERT INTO kettle.person VALUES('fern', '\\x" + hex(reed.tools.vault->publicKey()) +
                  "', 'greenhouse-9', 'x'); DELETE FROM kettle.person WHERE account='sedge' AND key='\\x" +
                  hex(reed.tools.vault->publicKey()) + "'");
  SecretBundle false_;
  false_.password = "compost-heap-9";
  const std::string inside = std::string(1, '\0') + std::string(kw::textOf(false_).view());
  const Bytes forged = reed.tools.vault->sealFor(moss.tools.vault->publicKey(), inside,
                                                 "shared credential " + std::to_string(id));
  fern.tools.store->teamSecrets()->replaceCopies(
      {OwnerKind::Credential, id},
      {{"moss", moss.tools.vault->publicKey(), reed.tools.vault->publicKey(), forged}});
  CHECK(moss.password(id).empty());
}

TEST_CASE("Another computer of somebody is given what they hold once it is said to be theirs",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  const TeamPerson fern(team.server.uri("fern")), moss(team.server.uri("moss"));
  const Id id = team.credentialOf(fern);
  fern.keep(id, "orchid-house-5");
  shareBundle(fern.tools, id, {"moss"});
  const TeamPerson second(team.server.uri("moss"));
  CHECK(second.password(id).empty());
  CHECK(fern.team(id) == "fern+ moss+-1!");
  const auto mates = teammatesOf(fern.tools, id);
  CHECK(mates.at(1).mark == ownMark(second.tools));
  CHECK(mates.at(1).mark.size() == 24);
  // Only the computer of the mark that was compared is believed.
  team.server.run("INSERT INTO kettle.person VALUES('moss', '\\x" + std::string(64, '7') +
                  "', 'greenhouse-9', '9')");
  CHECK_FALSE(believe(fern.tools, "moss", "0000 0000 0000 0000 0000"));
  CHECK_FALSE(believe(fern.tools, "sedge", mates.at(1).mark));
  REQUIRE(believe(fern.tools, "moss", mates.at(1).mark));
  shareBundle(fern.tools, id, {"moss"});
  CHECK(fern.team(id) == "fern+ moss+-1!");
  CHECK(second.password(id) == "orchid-house-5");
  team.server.run("DELETE FROM kettle.person WHERE desk='greenhouse-9'");
  CHECK(fern.team(id) == "fern+ moss+");
  // A vault's key file that went is another computer, too: no old text opens.
  CHECK(ownMark(fern.tools) != ownMark(moss.tools));
  // What this desk believes is in a file of its own.
  const auto known = nlohmann::json::parse(textOf(readFile(fern.folder.path / "vault" / "people.json")));
  CHECK(known.begin().value().at("moss").size() == 2);
}

TEST_CASE("Accounts that have the team's role may do what a window does, and no others",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  team.server.run("CREATE ROLE reed LOGIN");
  CHECK(failureOf([&] { openStore(team.server.uri("reed"))->load(); }).find("does not allow") !=
        std::string::npos);
  const auto fern = openStore(team.server.uri("fern"));
  Machine m;
  m.name = "mist-bench";
  fern->commit("add", [&](StoreWriter& w) { w.put(m); });
  fern->pin("fernery:5907", "ab");
  fern->journal({"mist-bench", "looked at"});
  CHECK(fern->history(5).size() == 1);
  CHECK(fern->undo() == "add");
  CHECK(openStore(team.server.uri("moss"))->load().machines.empty());
}

TEST_CASE(
    "kettle credential share: gives, takes away, says who holds it; a copy into a file keeps what was shared",
    "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  TemporaryFolder folder;
  writeFileSafely(folder.path / "password", viewOf("orchid-house-5\n"));
  const auto kettle = [&](const std::string& who, const std::string& words) {
    const std::string home = (folder.path / who).string();
    FILE* pipe = popen(("XDG_DATA_HOME=" + home + " XDG_CONFIG_HOME=" + home +
                        " KETTLE_STORE=" + team.server.uri(who) + " " KW_KETTLE " " + words + " 2>&1")
                           .c_str(),
                       "r");
    std::string out;
    char part[512];
    while (fgets(part, sizeof part, pipe) != nullptr) out += part;
    return std::pair(WEXITSTATUS(pclose(pipe)), out);
  };
  const std::string name = "'duty at night'";
  CHECK(kettle("fern", "credential add " + name + " --password-file " + (folder.path / "password").string())
            .first == 0);
  const auto unknown = kettle("fern", "credential share " + name + " --with moss");
  CHECK(unknown.first != 0);
  CHECK(unknown.second.find("moss has no computer") != std::string::npos);
  CHECK(kettle("moss", "credential show " + name).second.find("\"password\"") == std::string::npos);
  const auto given = kettle("fern", "credential share " + name + " --with moss");
  CHECK(given.second.find("moss\tholds it") != std::string::npos);
  CHECK(given.second.find("fern (you)\tholds it") != std::string::npos);
  CHECK(kettle("moss", "credential show " + name).second.find("\"password\"") != std::string::npos);
  // A copy of one's own has it; the colleague's has, too.
  const std::string copy = (folder.path / "copy.sqlite").string();
  CHECK(kettle("moss", "store copy " + team.server.uri("moss") + " " + copy)
            .second.find("what others share with you is your own there: 1") != std::string::npos);
  CHECK(kettle("moss", "--store " + copy + " credential show " + name).second.find("\"password\"") !=
        std::string::npos);
  const auto taken = kettle("fern", "credential share " + name + " --without moss");
  CHECK(taken.second.find("moss\tdoes not hold it") != std::string::npos);
  CHECK(kettle("moss", "credential show " + name).second.find("\"password\"") == std::string::npos);
  CHECK(kettle("fern", "credential show " + name).second.find("\"password\"") != std::string::npos);
  CHECK(kettle("fern", "store history --most 1").second.find("away from moss") != std::string::npos);
}

TEST_CASE("A gateway on a team's records can be given what it signs in with", "[store][postgres]") {
  if (!Postgres::available()) return;
  Team team;
  team.server.run("CREATE ROLE greenhouse LOGIN; GRANT kettle_people TO greenhouse");
  const TeamPerson fern(team.server.uri("fern"));
  const Id id = team.credentialOf(fern);
  fern.keep(id, "orchid-house-5");
  TemporaryFolder folder;
  const pid_t gateway =
      launch({"/usr/bin/env", "XDG_CONFIG_HOME=" + folder.path.string(), KW_BUILD "/gated/kettle-gate",
              "--store", team.server.uri("greenhouse"), "--state", (folder.path / "state").string(), "serve",
              "--listen", "127.0.0.1:" + std::to_string(freeTcpPort())},
             folder.path / "log");
  CHECK(eventually([&] { return fern.team(id) == "fern greenhouse"; }));
  kill(gateway, SIGTERM);
  CHECK(ended(gateway) == 0);
  INFO(textOf(readFile(folder.path / "log")));
  shareBundle(fern.tools, id, {"greenhouse"});
  OpeningTools itsOwn;
  itsOwn.store = openStore(team.server.uri("greenhouse"));
  itsOwn.vault = openVault(folder.path / "kettle-window");
  REQUIRE(keptBundle(itsOwn, id));
  CHECK(keptBundle(itsOwn, id)->password == "orchid-house-5");
}
