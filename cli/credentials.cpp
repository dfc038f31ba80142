// kettle credential: sign-ins with a name, and the first password of a machine. Secrets come from files, a
// descriptor or the terminal only, and are printed when they are asked for by name.
#include <unistd.h>

#include <ctime>
#include <iostream>
#include <nlohmann/json.hpp>
#include <set>

#include "base/file.hpp"
#include "cli/asked_host.hpp"
#include "cli/live.hpp"
#include "cli/target.hpp"
#include "cli/verbs.hpp"
#include "credential/first_password.hpp"
#include "credential/one_time_code.hpp"
#include "record/agreed.hpp"
#include "record/catalogue.hpp"
#include "route/sign_in_source.hpp"
#include "route/team_bundle.hpp"

namespace kw::cli {

namespace {

using Json = nlohmann::json;
constexpr std::size_t kLargestSecret = 64U << 10;

struct Wish {
  std::string name, newName;
  std::optional<std::string> user, domain, notes, expires;
  std::string passwordFile, keyFile, passphraseFile, codeFile;
  bool ask = false;
};

std::string firstLineOf(const std::string& file) {
  std::string text = textOf(readFile(file, kLargestSecret));
  if (const auto end = text.find_first_of("\r\n"); end != std::string::npos) text.resize(end);
  return text;
}

OpeningTools toolsWithVault() {
  OpeningTools tools;
  tools.store = openUsualStore();
  tools.vault = openVault(configFolder());
  if (!tools.vault->isOpen())
    throw Error(ErrorKind::Local, "kept passwords are locked by a passphrase")
        .withCure("Unlock them in the window, or take the passphrase away there.");
  publishDesk(tools);
  return tools;
}

Credential credentialOrThrow(Store& store, const std::string& name) {
  const auto found = store.credentialNamed(name);
  if (!found) throw Error(ErrorKind::Local, "no credential has this name", name);
  return *found;
}

bool hasSecrets(const Wish& w) {
  return w.ask || !w.passwordFile.empty() || !w.keyFile.empty() || !w.passphraseFile.empty() ||
         !w.codeFile.empty();
}

void takeSecrets(const Wish& w, SecretBundle& secrets) {
  if (!w.passwordFile.empty()) secrets.password = firstLineOf(w.passwordFile);
  if (w.ask) {
    const auto typed = askOnTerminal("Password of " + w.name);
    if (!typed) throw Error(ErrorKind::SignInFailed, "no password was given");
    secrets.password = *typed;
  }
  if (!w.keyFile.empty()) secrets.key = textOf(readFile(w.keyFile, kLargestSecret));
  if (!w.passphraseFile.empty()) secrets.passphrase = firstLineOf(w.passphraseFile);
  if (w.codeFile.empty()) return;
  const auto raw = codeSecretFrom(firstLineOf(w.codeFile));
  if (!raw)
    throw Error(ErrorKind::Local, "this is no secret for codes", w.codeFile)
        .withCure("It is base32 text, or an address that begins with otpauth://totp/.");
  secrets.codeSecret = *raw;
}

int keep(const Wish& wish, bool isNew) {
  const OpeningTools tools = toolsWithVault();
  Credential c;
  if (isNew)
    c.name = wish.name;
  else
    c = credentialOrThrow(*tools.store, wish.name);
  if (!wish.newName.empty()) c.name = wish.newName;
  if (wish.user) c.user = *wish.user;
  if (wish.domain) c.domain = *wish.domain;
  if (wish.notes) c.notes = *wish.notes;
  if (wish.expires) c.expires = *wish.expires;
  SecretBundle secrets = isNew ? SecretBundle{} : keptBundle(tools, c.id).value_or(SecretBundle{});
  takeSecrets(wish, secrets);
  if (hasSecrets(wish) && !wish.expires) c.expires = expiryAfterChange(c);
  tools.store->commit((isNew ? "add credential " : "change credential ") + c.name,
                      [&](StoreWriter& w) { w.put(c); });
  if (hasSecrets(wish)) keepBundle(tools, c.id, secrets);
  std::cout << (isNew ? "added " : "changed ") << c.name << "\n";
  return kDone;
}

Json toJson(const OpeningTools& tools, const Snapshot& s, const Credential& c) {
  const auto secrets = keptBundle(tools, c.id);
  Json holds = Json::array();
  if (secrets) {
    if (!secrets->password.empty()) holds.push_back("password");
    if (!secrets->key.empty()) holds.push_back("key");
    if (!secrets->codeSecret.empty()) holds.push_back("code");
  }
  return {{"name", c.name},       {"user", c.user},   {"domain", c.domain},
          {"expires", c.expires}, {"notes", c.notes}, {"waysIn", usersOfCredential(s, c.name)},
          {"holds", holds}};
}

int list(bool json) {
  const OpeningTools tools = toolsWithVault();
  const Snapshot s = tools.store->load();
  Json all = Json::array();
  for (const auto& [id, c] : s.credentials) all.push_back(toJson(tools, s, c));
  std::sort(all.begin(), all.end(), [](const Json& a, const Json& b) { return a["name"] < b["name"]; });
  if (json) {
    std::cout << all.dump(2) << "\n";
    return kDone;
  }
  for (const Json& c : all)
    std::cout << c["name"].get<std::string>() << "\t" << c["user"].get<std::string>() << "\t"
              << c["waysIn"].get<int>() << " ways in\t" << c["expires"].get<std::string>() << "\n";
  return kDone;
}

int show(const std::string& name, bool code) {
  const OpeningTools tools = toolsWithVault();
  const Snapshot s = tools.store->load();
  const Credential* c = s.credentialNamed(name);
  if (c == nullptr) throw Error(ErrorKind::Local, "no credential has this name", name);
  if (!code) {
    std::cout << toJson(tools, s, *c).dump(2) << "\n";
    return kDone;
  }
  const auto secrets = keptBundle(tools, c->id);
  if (!secrets || secrets->codeSecret.empty())
    throw Error(ErrorKind::Local, "no secret for codes is kept with it", name);
  const std::time_t now = std::time(nullptr);
  std::cout << timeCode(secrets->codeSecret, now) << "\n";
  std::cerr << "good for " << codeSecondsLeft(now) << " s\n";
  return kDone;
}

/// Who of the team holds it, in words.
std::string teamWords(const OpeningTools& tools, Id credential) {
  std::string out;
  for (const Teammate& t : teammatesOf(tools, credential)) {
    out += t.account + (t.me ? " (you)" : "") + "\t" + (t.holds ? "holds it" : "does not hold it");
    if (t.without > 0) out += ", " + std::to_string(t.without) + " computer(s) of theirs cannot open it yet";
    if (!t.newDesk.empty()) out += ", a new computer: " + t.newDesk;
    out += "\t" + t.mark + "\n";
  }
  return out;
}

struct ShareWish {
  std::string name;
  std::vector<std::string> with, without;
  std::string theirs;  ///< the mark of a computer
};

int share(const ShareWish& wish) {
  const OpeningTools tools = toolsWithVault();
  Credential c = credentialOrThrow(*tools.store, wish.name);
  std::set<std::string> holders;
  for (const Teammate& t : teammatesOf(tools, c.id))
    if (t.holds && !t.me) holders.insert(t.account);
  for (const std::string& account : wish.without)
    if (holders.erase(account) == 0) throw Error(ErrorKind::Local, account + " does not hold it", account);
  for (const std::string& account : wish.with) {
    if (!wish.theirs.empty() && !believe(tools, account, wish.theirs))
      throw Error(ErrorKind::Local, account + " has no computer of this mark", wish.theirs);
    holders.insert(account);
  }
  if (!wish.with.empty() || !wish.without.empty()) {
    shareBundle(tools, c.id, holders);
    if (!wish.without.empty()) markToBeChanged(*tools.store, c, wish.without);
  }
  std::cout << teamWords(tools, c.id);
  return kDone;
}

int remove(const std::string& name) {
  auto store = openUsualStore();
  const Credential c = credentialOrThrow(*store, name);
  store->commit("remove credential " + name, [&](StoreWriter& w) { w.removeCredential(c.id); });
  std::cout << "removed " << name << " with its secrets\n";
  return kDone;
}

struct FirstWish {
  std::string machine, blobFile, keyFile, passphraseFile;
  bool fromHost = false, print = false;
};

std::string sealedFirst(const FirstWish& wish) {
  if (!wish.fromHost) return textOf(readFile(wish.blobFile, kLargestSecret));
  const OpeningTools tools = localTools();
  const OnHost at = onHost(tools, wish.machine);
  Asked asked(at.host, tools);
  return asked.firstPassword(at.id);
}

/// The way in that an account of the machine itself signs in on; the first otherwise.
const Endpoint* accountWayOf(const Snapshot& s, Id machine) {
  const auto ways = s.endpointsOf(machine);
  for (const Endpoint* e : ways)
    if (asksOwnAccount(parseAddress(e->address))) return e;
  return ways.empty() ? nullptr : ways.front();
}

int decryptFirst(const FirstWish& wish) {
  const std::string key = textOf(readFile(wish.keyFile, kLargestSecret));
  std::string passphrase;
  if (!wish.passphraseFile.empty())
    passphrase = firstLineOf(wish.passphraseFile);
  else if (needsPassphrase(key))
    passphrase = askOnTerminal("Passphrase of the key " + wish.keyFile).value_or("");
  const std::string password = firstPassword(sealedFirst(wish), key, passphrase);
  if (wish.print) {
    std::cout << password << "\n";
    return kDone;
  }
  const OpeningTools tools = toolsWithVault();
  const Snapshot s = tools.store->load();
  const Machine* m = s.machineNamed(wish.machine);
  if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", wish.machine);
  const Endpoint* way = accountWayOf(s, m->id);
  if (way == nullptr)
    throw Error(ErrorKind::Local, "the machine has no way in to keep it with", wish.machine);
  keepSignIn(tools, {OwnerKind::WayIn, way->id}, {parseAddress(way->address).user, password});
  std::cout << "kept with " << m->name << ", " << way->label << "\n";
  return kDone;
}

CLI::App* addKeeping(CLI::App* parent, const char* verb, const char* help,
                     const std::shared_ptr<Wish>& wish) {
  auto* v = parent->add_subcommand(verb, help);
  v->add_option("name", wish->name, "Its name")->required();
  v->add_option("--user", wish->user, "Who signs in");
  v->add_option("--domain", wish->domain, "The domain of the account");
  v->add_option("--notes", wish->notes, "Notes");
  v->add_option("--expires", wish->expires, "When it must be changed: 2027-03-01");
  v->add_option("--password-file", wish->passwordFile,
                "A file (or /dev/fd/N) whose first line is the password");
  v->add_flag("--ask", wish->ask, "Ask for the password on the terminal");
  v->add_option("--key-file", wish->keyFile, "A private key to be kept inside");
  v->add_option("--passphrase-file", wish->passphraseFile, "The passphrase of that key");
  v->add_option("--code-secret-file", wish->codeFile,
                "The secret of a second factor: base32 or otpauth://totp/…");
  return v;
}

}  // namespace

void addCredentialVerbs(CLI::App& app, Chosen& chosen) {
  auto* all = app.add_subcommand("credential", "Sign-ins with a name, that any number of ways in take");
  all->require_subcommand(1);
  {
    auto wish = std::make_shared<Wish>();
    addKeeping(all, "add", "Keep a new one", wish)->callback([wish, &chosen] {
      chosen = [wish] { return keep(*wish, true); };
    });
  }
  {
    auto wish = std::make_shared<Wish>();
    auto* verb = addKeeping(all, "set", "Change one, for all that take it", wish);
    verb->add_option("--name", wish->newName, "A new name; whoever takes it follows");
    verb->callback([wish, &chosen] { chosen = [wish] { return keep(*wish, false); }; });
  }
  {
    auto json = std::make_shared<bool>(false);
    auto* verb = all->add_subcommand("list", "All of them: name, user, how many ways in take it, expiry");
    verb->add_flag("--json", *json, "As JSON");
    verb->callback([json, &chosen] { chosen = [json] { return list(*json); }; });
  }
  auto name = std::make_shared<std::string>();
  {
    auto code = std::make_shared<bool>(false);
    auto* verb = all->add_subcommand("show", "One, without its secrets");
    verb->add_option("name", *name, "Its name")->required();
    verb->add_flag("--code", *code, "Print the code of its second factor that is good now");
    verb->callback([name, code, &chosen] { chosen = [name, code] { return show(*name, *code); }; });
  }
  {
    auto wish = std::make_shared<ShareWish>();
    auto* verb = all->add_subcommand(
        "share", "Who of the team holds its secrets, with the marks of their keys; gives and takes away");
    verb->add_option("name", wish->name, "Its name")->required();
    verb->add_option("--with", wish->with, "Accounts of the database that shall hold it, too");
    verb->add_option("--without", wish->without,
                     "Accounts that shall hold it no more; it is to be changed then, since they knew it");
    verb->add_option(
        "--theirs", wish->theirs,
        "The new computer of this mark belongs to the account of --with: you compared the marks");
    verb->callback([wish, &chosen] { chosen = [wish] { return share(*wish); }; });
  }
  {
    auto* verb = all->add_subcommand("remove", "Remove one with its secrets");
    verb->add_option("name", *name, "Its name")->required();
    verb->callback([name, &chosen] { chosen = [name] { return remove(*name); }; });
  }
  {
    auto line = std::make_shared<std::string>();
    auto* verb = all->add_subcommand("agree", "Lets a command of the records run on this desk");
    verb->add_option("command", *line, "The whole command, as it stands in the records")->required();
    verb->callback([line, &chosen] {
      chosen = [line] {
        agreeTo(*line);
        return kDone;
      };
    });
  }
  {
    auto wish = std::make_shared<FirstWish>();
    auto* verb = all->add_subcommand(
        "decrypt-first", "The first password of a machine, encrypted to your RSA key, into its record");
    verb->add_option("machine", wish->machine, "The machine it is kept with");
    auto* blob = verb->add_option("--blob-file", wish->blobFile, "A file with the base64 text");
    verb->add_flag("--from-host", wish->fromHost, "Ask the machine's host for it")->excludes(blob);
    verb->add_option("--key-file", wish->keyFile, "The private key: PEM or OpenSSH's form")->required();
    verb->add_option("--passphrase-file", wish->passphraseFile, "A file with the key's passphrase");
    verb->add_flag("--print", wish->print, "Print it and keep nothing");
    verb->callback([wish, &chosen] {
      if ((!wish->print || wish->fromHost) && wish->machine.empty()) throw CLI::RequiredError("machine");
      if (!wish->fromHost && wish->blobFile.empty()) throw CLI::RequiredError("--blob-file or --from-host");
      chosen = [wish] { return decryptFirst(*wish); };
    });
  }
}

}  // namespace kw::cli
