// A named credential's secrets in a team's database, held by several people: sealed anew for each of their
// computers, by a computer that the reader knows. The list of those who hold them lies inside the seal, so
// that nobody is added by writing to the database. Keys are believed when they are seen first or when
// somebody who is believed lists them; another key of a person who is known waits until somebody at this desk
// says that it is theirs.
#pragma once
#include <set>

#include "credential/secret_bundle.hpp"
#include "route/opening.hpp"

namespace kw {

struct Teammate {
  std::string account;
  bool me = false;
  bool holds = false;   ///< one of their computers at least can open it
  int desks = 0;        ///< their computers
  int without = 0;      ///< those that cannot open it, though others of theirs do
  std::string newDesk;  ///< a computer that is not believed to be theirs yet; usually empty
  std::string mark;     ///< of the key of that computer, or else of their first: to be compared
};

/// Whether secrets of these records can be shared at all.
bool hasTeam(const OpeningTools& tools);
/// Tells the team which key this desk has; nothing for a file or while the vault is locked. Throws what the
/// store throws.
void publishDesk(const OpeningTools& tools);
/// The mark of this desk's own key; empty where there is no team or the vault is locked.
std::string ownMark(const OpeningTools& tools);
/// Everybody who opened these records once, oneself first, then by name. Throws what the store throws.
std::vector<Teammate> teammatesOf(const OpeningTools& tools, Id credential);
/// The computer of this mark is theirs, and no other that came with it. False when they have none.
bool believe(const OpeningTools& tools, const std::string& account, const std::string& mark);

/// From now on these people hold it besides oneself; with nobody else it is one's own again. Throws
/// Error{Local} when nothing is kept, one of them is not known to the database, or the vault is locked.
void shareBundle(const OpeningTools& tools, Id credential, const std::set<std::string>& accounts);

/// Whether anything that was kept before still is, so that whoever knew it does.
bool isStillKnown(const SecretBundle& before, const SecretBundle& after);
/// These people knew it who shall not any more: it is to be changed by today. Throws what a commit throws.
void markToBeChanged(Store& store, Credential& credential, const std::vector<std::string>& accounts);
/// The day by which a credential is to be changed again, now that it was: none once that day is over.
std::string expiryAfterChange(const Credential& credential);

/// Copies what others share with this desk between two stores whose records are the same, as one's own; how
/// many.
int copyShared(const OpeningTools& from, const OpeningTools& to);

/// For sign_in_source.hpp: what others share with this desk, and a change of it for all who hold it. False
/// when this desk does not hold it.
std::optional<Secret> keptForTeam(const OpeningTools& tools, Id credential);
bool keepForTeam(const OpeningTools& tools, Id credential, const SecretBundle& bundle);

}  // namespace kw
