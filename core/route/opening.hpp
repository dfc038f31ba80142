// From a record (or a bare address) to a session: settings, kept passwords and pins, the way there.
#pragma once
#include <functional>
#include <memory>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "base/secret.hpp"
#include "credential/sign_in.hpp"
#include "credential/vault.hpp"
#include "record/address.hpp"
#include "record/store.hpp"
#include "route/ssh_pool.hpp"
#include "session/sign_in_turns.hpp"
#include "session/way.hpp"

namespace kw {

/// What opening needs besides the record; vault and store may be null (nothing kept then).
struct OpeningTools {
  std::shared_ptr<Store> store;
  std::shared_ptr<Vault> vault;
  std::shared_ptr<Clock> clock = systemClock();
  std::shared_ptr<SshPool> ssh = nullptr;    ///< needed for SSH and for routes through it
  std::optional<Secret> givenPassword = {};  ///< for the address itself, instead of kept ones
  std::string givenUser = {};                ///< likewise
  std::string via = {};                      ///< jumps that go before all settings
  std::string givenKeyFile = {};             ///< tried before all others, for the address itself
  /// Nothing that this desk has signs in on the address itself: no kept password, key, agent or command. For
  /// visitors who are to know the machine's own password.
  bool onlyGiven = false;
  /// The records as they were when opening began, for jumps that are named; without them the store is read,
  /// once.
  std::shared_ptr<const Snapshot> records = nullptr;
};

/// The value in force of one setting, by key. Never throws; always a value that the setting allows.
using SettingReader = std::function<std::string(const std::string& key)>;
SettingReader builtInSettings();
/// The snapshot must outlive the reader.
SettingReader settingsOf(const Snapshot& snapshot, Owner owner);
/// `below`, with some values laid over it.
SettingReader overlaid(SettingReader below, std::map<std::string, std::string> over);
/// Of a Whole setting; of a Switch.
int wholeOf(const SettingReader& setting, const std::string& key);
bool isOn(const SettingReader& setting, const std::string& key);

/// A session for the address, whatever its kind. Throws
/// Error{Unsupported} for schemes without an engine and {Local} for settings that make no sense.
std::shared_ptr<Session> makeSession(const Executor& strand, const Address& address, const std::string& label,
                                     const SettingReader& setting, const OpeningTools& tools, Owner owner);

/// The way to an address over its jumps. Throws Error{Local} for a route that cannot be.
std::shared_ptr<Way> wayTo(const Address& address, const SettingReader& setting, const OpeningTools& tools);
/// quality and compression levels for the words of "screen.quality".
struct QualityLevels {
  int quality, compression;
};
QualityLevels qualityLevels(const std::string& word);
/// The first jump of a way in, as far as the records say it; nothing when it is reached directly or the route
/// cannot be read (that is told of when it is opened). Never throws.
std::optional<Address> nearestJump(const Snapshot& records, Id wayIn);
/// What a person may do with a session, as the settings say.
Policy policyOf(const SettingReader& setting);
/// "vnc", or for serial lines their settings: "9600 8N1".
std::string kindOf(const Address& address, const SettingReader& setting);

/// True when this program has an engine for the scheme now.
bool canOpen(const std::string& scheme);

/// Keeps or forgets the sealed sign-in of an owner.
void keepSignIn(const OpeningTools& tools, Owner owner, const SignIn& signIn);
std::optional<SignIn> keptSignIn(const OpeningTools& tools, Owner owner);
/// What is kept for a way in, is taken from elsewhere as its settings say (sign_in_source.hpp), or was given
/// beforehand.
KeptSignIns keptSignInsOf(const OpeningTools& tools, Owner owner, const Address& address,
                          const SettingReader& setting);

ReconnectPolicy reconnectPolicy(const SettingReader& setting);

/// Pins in the store; null without one.
std::shared_ptr<TrustStore> trustIn(std::shared_ptr<Store> store);

}  // namespace kw
