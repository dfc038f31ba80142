// Secrets sealed with XChaCha20-Poly1305 under one vault key. The key lies in a file of the user's
// configuration folder (mode 0600), itself sealed by a passphrase (Argon2id) when the user sets one.
#pragma once
#include <filesystem>
#include <memory>
#include <optional>
#include <string>

#include "base/bytes.hpp"
#include "base/secret.hpp"

namespace kw {

/// Thread-safe.
class Vault {
 public:
  virtual ~Vault() = default;
  /// False while a passphrase is needed.
  [[nodiscard]] virtual bool isOpen() const = 0;
  /// False when the passphrase is wrong.
  virtual bool open(const std::string& passphrase) = 0;
  /// Sets, changes or (empty) removes the passphrase. The vault must be open.
  virtual void setPassphrase(const std::string& passphrase) = 0;
  [[nodiscard]] virtual bool hasPassphrase() const = 0;
  /// Wipes the key from memory until open(); false, and nothing done, where no passphrase would open it
  /// again.
  virtual bool lock() = 0;
  /// Where its key lies: the user's own folder.
  [[nodiscard]] virtual std::filesystem::path folder() const = 0;
  /// `about` names what the secret belongs to and is authenticated with it. Throws Error{Local} when not
  /// open.
  [[nodiscard]] virtual Bytes seal(std::string_view secret, const std::string& about) = 0;
  /// Nothing when the text was altered, belongs to something else or to another vault.
  [[nodiscard]] virtual std::optional<Secret> unseal(const Bytes& sealedText, const std::string& about) = 0;

  // Between desks (X25519, XSalsa20-Poly1305): the key pair follows from the vault key. All throw
  // Error{Local} when not open.
  /// 32 bytes.
  [[nodiscard]] virtual Bytes publicKey() = 0;
  /// Only whoever has the other half of `theirs` can open it, and can tell that this desk sealed it.
  [[nodiscard]] virtual Bytes sealFor(const Bytes& theirs, std::string_view secret,
                                      const std::string& about) = 0;
  /// What the desk with the key `theirs` sealed for this one; nothing when it was altered or is about
  /// something else.
  [[nodiscard]] virtual std::optional<Secret> unsealFrom(const Bytes& theirs, const Bytes& sealedText,
                                                         const std::string& about) = 0;
};

/// Opens the vault of this folder, making the key file when there is none. Throws Error{Local} on a damaged
/// file.
std::unique_ptr<Vault> openVault(const std::filesystem::path& folder);

}  // namespace kw
