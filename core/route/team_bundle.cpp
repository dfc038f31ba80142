#include "route/team_bundle.hpp"

#include <unistd.h>

#include <algorithm>

#include "base/error.hpp"
#include "base/iso_time.hpp"
#include "route/known_people.hpp"
#include "route/sign_in_source.hpp"

namespace kw {

namespace {

struct Holder {
  std::string account;
  Bytes key;
};

/// What is inside a seal: who holds it, a line each, then NUL and the secrets.
struct Shared {
  std::vector<Holder> holders;
  Secret secrets;
};

constexpr std::size_t kDayLetters = 10;  ///< of ISO 8601

std::string aboutShared(Id credential) { return "shared credential " + std::to_string(credential); }
Owner ownerOf(Id credential) { return {OwnerKind::Credential, credential}; }

std::optional<Bytes> fromHex(std::string_view text) {
  Bytes out;
  const auto digit = [](char c) {
    return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
  };
  for (std::size_t at = 0; at + 1 < text.size(); at += 2) {
    const int high = digit(text[at]), low = digit(text[at + 1]);
    if (high < 0 || low < 0) return std::nullopt;
    out.push_back(static_cast<Byte>(high * 16 + low));
  }
  return out;
}

Secret textOf(const std::vector<Holder>& holders, const Secret& secrets) {
  std::string head;
  for (const Holder& h : holders) head += h.account + "\t" + hex(h.key) + "\n";
  std::string text;
  text.reserve(head.size() + 1 + secrets.size());  // growing would leave copies
  text.append(head).append(1, '\0').append(secrets.view());
  return Secret(std::move(text));
}

std::optional<Shared> sharedFrom(const Secret& text) {
  const std::string_view all = text.view();
  const auto end = all.find('\0');
  if (end == std::string_view::npos) return std::nullopt;
  Shared out;
  for (std::size_t at = 0; at < end;) {
    const auto line = all.substr(at, std::min(all.find('\n', at), end) - at);
    at += line.size() + 1;
    const auto tab = line.find('\t');
    if (tab == std::string_view::npos) continue;
    if (auto key = fromHex(line.substr(tab + 1)))
      out.holders.push_back({std::string(line.substr(0, tab)), std::move(*key)});
  }
  out.secrets = Secret(all.substr(end + 1));
  return out;
}

bool canRead(const OpeningTools& tools) { return hasTeam(tools) && tools.vault && tools.vault->isOpen(); }

KnownPeople peopleKnownTo(const OpeningTools& tools) {
  return {tools.vault->folder(), tools.store->teamSecrets()->place()};
}

std::string accountWith(const std::vector<PersonKey>& people, const Bytes& key) {
  const auto found =
      std::find_if(people.begin(), people.end(), [&](const PersonKey& p) { return p.key == key; });
  return found == people.end() ? std::string() : found->account;
}

/// Whether this desk takes what a computer sealed. One's own is; a person who is not known yet is known from
/// now on.
bool isBelieved(const OpeningTools& tools, KnownPeople& known, const Bytes& sealer) {
  if (sealer == tools.vault->publicKey()) return true;
  const std::string account = accountWith(tools.store->teamSecrets()->people(), sealer);
  if (account.empty()) return false;
  if (!known.knows(account)) known.believe(account, sealer);
  return known.believes(account, sealer);
}

std::optional<Shared> openShared(const OpeningTools& tools, Id credential) {
  if (!canRead(tools)) return std::nullopt;
  TeamSecrets& team = *tools.store->teamSecrets();
  const auto copy = team.copyFor(ownerOf(credential), tools.vault->publicKey());
  if (!copy) return std::nullopt;
  const auto text = tools.vault->unsealFrom(copy->sealer, copy->sealedText, aboutShared(credential));
  KnownPeople known = peopleKnownTo(tools);
  if (!text || !isBelieved(tools, known, copy->sealer)) return std::nullopt;
  auto shared = sharedFrom(*text);
  if (shared)
    for (const Holder& h : shared->holders) known.believe(h.account, h.key);
  return shared;
}

void sealForAll(const OpeningTools& tools, Id credential, const std::vector<Holder>& holders,
                const Secret& secrets) {
  const Secret text = textOf(holders, secrets);
  const Bytes own = tools.vault->publicKey();
  std::vector<SealedCopy> copies;
  for (const Holder& h : holders)
    copies.push_back(
        {h.account, h.key, own, tools.vault->sealFor(h.key, text.view(), aboutShared(credential))});
  tools.store->teamSecrets()->replaceCopies(ownerOf(credential), copies);
}

/// The computers of these people that are believed to be theirs. Whoever is not known yet is known from now
/// on.
std::vector<Holder> computersOf(const OpeningTools& tools, const std::set<std::string>& accounts) {
  TeamSecrets& team = *tools.store->teamSecrets();
  KnownPeople known = peopleKnownTo(tools);
  std::set<std::string> fresh;
  for (const std::string& account : accounts)
    if (!known.knows(account)) fresh.insert(account);
  std::vector<Holder> out;
  for (const PersonKey& p : team.people()) {
    if (!accounts.contains(p.account)) continue;
    if (fresh.contains(p.account)) known.believe(p.account, p.key);
    if (known.believes(p.account, p.key)) out.push_back({p.account, p.key});
  }
  return out;
}

std::string deskName() {
  char name[256] = {};
  return gethostname(name, sizeof name - 1) == 0 && name[0] != '\0' ? name : "a computer";
}

}  // namespace

bool hasTeam(const OpeningTools& tools) { return tools.store && tools.store->teamSecrets() != nullptr; }

void publishDesk(const OpeningTools& tools) {
  if (!canRead(tools)) return;
  TeamSecrets& team = *tools.store->teamSecrets();
  const Bytes key = tools.vault->publicKey();
  peopleKnownTo(tools).believe(team.account(), key);
  const auto people = team.people();
  if (accountWith(people, key).empty()) team.publish({team.account(), key, deskName()});
}

std::string ownMark(const OpeningTools& tools) {
  return canRead(tools) ? markOfKey(tools.vault->publicKey()) : std::string();
}

std::vector<Teammate> teammatesOf(const OpeningTools& tools, Id credential) {
  if (!hasTeam(tools) || !tools.vault) return {};
  TeamSecrets& team = *tools.store->teamSecrets();
  const KnownPeople known = peopleKnownTo(tools);
  const std::string me = team.account();
  const auto copies = team.copiesOf(ownerOf(credential));
  const auto hasCopy = [&](const PersonKey& p) {
    return std::any_of(copies.begin(), copies.end(),
                       [&](const SealedCopy& c) { return c.account == p.account && c.key == p.key; });
  };
  std::map<std::string, Teammate> all;
  for (const PersonKey& p : team.people()) {
    Teammate& t = all[p.account];
    t.account = p.account;
    t.me = p.account == me;
    ++t.desks;
    if (hasCopy(p))
      t.holds = true;
    else
      ++t.without;
    const bool isNew = known.knows(p.account) && !known.believes(p.account, p.key);
    if (isNew && t.newDesk.empty()) t.newDesk = p.desk, t.mark = markOfKey(p.key);
    if (t.mark.empty()) t.mark = markOfKey(p.key);
  }
  std::vector<Teammate> out;
  for (auto& [account, t] : all) {
    if (!t.holds) t.without = 0;
    out.push_back(std::move(t));
  }
  std::stable_sort(out.begin(), out.end(),
                   [](const Teammate& a, const Teammate& b) { return a.me && !b.me; });
  return out;
}

bool believe(const OpeningTools& tools, const std::string& account, const std::string& mark) {
  if (!hasTeam(tools) || !tools.vault) return false;
  for (const PersonKey& p : tools.store->teamSecrets()->people())
    if (p.account == account && markOfKey(p.key) == mark) {
      peopleKnownTo(tools).believe(account, p.key);
      return true;
    }
  return false;
}

void shareBundle(const OpeningTools& tools, Id credential, const std::set<std::string>& accounts) {
  if (!hasTeam(tools))
    throw Error(ErrorKind::Local, "these records have one person only")
        .withCure("Sharing needs a team's database: kettle store init");
  if (!canRead(tools)) throw Error(ErrorKind::Local, "kept passwords are locked");
  const auto bundle = keptBundle(tools, credential);
  if (!bundle || bundle->empty())
    throw Error(ErrorKind::Local, "nothing is kept here that could be shared")
        .withCure("Keep its password or key first.");
  publishDesk(tools);
  TeamSecrets& team = *tools.store->teamSecrets();
  const auto copies = team.copiesOf(ownerOf(credential));
  if (!copies.empty() && !openShared(tools, credential))
    throw Error(ErrorKind::Local, "others hold its secrets, and this computer does not")
        .withCure("Ask " + copies.front().account + " to share it with you.");
  std::set<std::string> all = accounts;
  all.insert(team.account());
  const std::vector<Holder> holders = computersOf(tools, all);
  for (const std::string& account : all)
    if (std::none_of(holders.begin(), holders.end(), [&](const Holder& h) { return h.account == account; }))
      throw Error(ErrorKind::Local, account + " has no computer that something could be sealed for", account)
          .withCure("They open these records once with their passwords unlocked; then it works.");
  if (all.size() == 1) {
    team.replaceCopies(ownerOf(credential), {});
    keepBundle(tools, credential, *bundle);
    return;
  }
  sealForAll(tools, credential, holders, kw::textOf(*bundle));
  tools.store->removeSecret(ownerOf(credential));
}

bool isStillKnown(const SecretBundle& before, const SecretBundle& after) {
  const auto kept = [](const Secret& old, const Secret& now) { return !old.empty() && old == now; };
  return kept(before.password, after.password) || kept(before.key, after.key) ||
         kept(before.codeSecret, after.codeSecret);
}

void markToBeChanged(Store& store, Credential& credential, const std::vector<std::string>& accounts) {
  std::string names;
  for (const std::string& account : accounts) names += (names.empty() ? "" : ", ") + account;
  credential.expires = nowText().substr(0, kDayLetters);
  store.commit("take " + credential.name + " away from " + names, [&](StoreWriter& w) { w.put(credential); });
}

std::string expiryAfterChange(const Credential& credential) {
  return credential.expires > nowText().substr(0, kDayLetters) ? credential.expires : std::string();
}

int copyShared(const OpeningTools& from, const OpeningTools& to) {
  if (!canRead(from)) return 0;
  int copied = 0;
  for (const auto& [id, credential] : from.store->load().credentials)
    if (const auto shared = keptForTeam(from, id)) {
      keepBundle(to, id, bundleFrom(shared->view()).value_or(SecretBundle{}));
      ++copied;
    }
  return copied;
}

std::optional<Secret> keptForTeam(const OpeningTools& tools, Id credential) {
  auto shared = openShared(tools, credential);
  return shared ? std::optional(std::move(shared->secrets)) : std::nullopt;
}

bool keepForTeam(const OpeningTools& tools, Id credential, const SecretBundle& bundle) {
  auto shared = openShared(tools, credential);
  if (!shared) return false;
  if (bundle.empty()) {
    tools.store->teamSecrets()->replaceCopies(ownerOf(credential), {});
    return true;
  }
  // Computers that came since are given it, too, where they are believed.
  std::set<std::string> accounts;
  for (const Holder& h : shared->holders) accounts.insert(h.account);
  sealForAll(tools, credential, computersOf(tools, accounts), kw::textOf(bundle));
  return true;
}

}  // namespace kw
