// From a record (or a bare address) to a session: resolves settings, finds kept passwords and pins.
#pragma once
#include <memory>

#include "credential/vault.hpp"
#include "record/address.hpp"
#include "record/store.hpp"
#include "session/vnc_session.hpp"

namespace kw {

/// What opening needs besides the record; vault and store may be null (nothing kept then).
struct OpeningTools {
  std::shared_ptr<Store> store;
  std::shared_ptr<Vault> vault;
  std::shared_ptr<Clock> clock = systemClock();
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

/// True when this program has an engine for the scheme now.
bool canOpen(const std::string& scheme);

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
