// From a record (or a bare address) to a session: resolves settings, finds kept passwords and pins.
#pragma once
#include <memory>

#include "credential/vault.hpp"
#include "record/address.hpp"
#include "record/store.hpp"
#include "route/ssh_pool.hpp"
#include "session/text_session.hpp"
#include "session/vnc_session.hpp"

namespace kw {

/// What opening needs besides the record; vault and store may be null (nothing kept then).
struct OpeningTools {
  std::shared_ptr<Store> store;
  std::shared_ptr<Vault> vault;
  std::shared_ptr<Clock> clock = systemClock();
  std::shared_ptr<SshPool> ssh = nullptr;       ///< needed for SSH and for routes through it
  std::optional<std::string> sshPassword = {};  ///< given beforehand, instead of kept ones
  std::string via = {};                         ///< jumps that go before all settings
};

/// The value in force of one setting, by key.
using SettingReader = std::function<std::string(const std::string& key)>;
SettingReader builtInSettings();
/// The snapshot must outlive the reader.
SettingReader settingsOf(const Snapshot& snapshot, Owner owner);

/// Throws Error{Unsupported} for schemes without an engine.
VncConfig vncConfig(const Address& address, const std::string& label, const SettingReader& setting);
/// Adds kept sign-ins and pins of a way in.
void useRecords(VncConfig& config, const OpeningTools& tools, Owner owner);

/// Last changes to what the settings say; either may be empty.
struct SessionChanges {
  std::function<void(VncConfig&)> vnc;
  std::function<void(TextConfig&)> text;
};

/// A session for the address, whatever its kind. Throws
/// Error{Unsupported} for schemes without an engine and {Local} for settings that make no sense.
std::shared_ptr<Session> makeSession(const Executor& strand, const Address& address, const std::string& label,
                                     const SettingReader& setting, const OpeningTools& tools, Owner owner,
                                     const SessionChanges& changes = {});

/// True when this program has an engine for the scheme now.
bool canOpen(const std::string& scheme);
bool isPictureScheme(const std::string& scheme);

/// Keeps or forgets the sealed sign-in of an owner ("user\0password" inside).
void keepSignIn(const OpeningTools& tools, Owner owner, const rfb::SignIn& signIn);
std::optional<rfb::SignIn> keptSignIn(const OpeningTools& tools, Owner owner);

/// quality and compression levels for the words of "screen.quality".
struct QualityLevels {
  int quality, compression;
};
QualityLevels qualityLevels(const std::string& word);

/// Pins in the store.
std::shared_ptr<TrustStore> trustIn(std::shared_ptr<Store> store);

}  // namespace kw
