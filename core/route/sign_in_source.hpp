// Where a way in takes its sign-in from: what is kept for it, a credential with a name, a command, or nothing
// (then somebody is asked). Settings "signin.*".
#pragma once
#include "credential/secret_bundle.hpp"
#include "route/opening.hpp"

namespace kw {

class SignInSource {
 public:
  /// Reads the settings now; secrets when they are wanted.
  SignInSource(OpeningTools tools, Owner owner, const Address& to, const SettingReader& setting);

  /// Who signs in; empty when only the person in front of it knows.
  [[nodiscard]] const std::string& user() const { return user_; }
  /// The named credential's name; empty: none is taken.
  [[nodiscard]] const std::string& credential() const { return credentialName_; }
  [[nodiscard]] bool hasCommand() const { return !command_.empty(); }

  /// A password that may answer this use.
  [[nodiscard]] std::optional<SignIn> find(SecretUse use) const;
  /// The command's first line, and who it is for. Throws Error{SignInFailed} when it prints none or takes
  /// long.
  [[nodiscard]] Task<std::optional<SignIn>> fetch() const;
  /// Into the named credential, or for the way in itself.
  void keep(const SignIn& signIn) const;
  /// Key, passphrase and code secret of the named credential; empty without one.
  [[nodiscard]] SecretBundle bundle() const;

 private:
  OpeningTools tools_;
  Owner owner_;
  bool mayFind_ = true;
  std::string user_, domain_, credentialName_;
  Id credential_ = 0;
  std::vector<std::string> command_;
};

/// The secrets of a named credential, sealed. Throws Error{Local} when the vault is locked or the store says
/// no.
void keepBundle(const OpeningTools& tools, Id credential, const SecretBundle& bundle);
/// Nothing when there are none, or they were sealed elsewhere.
std::optional<SecretBundle> keptBundle(const OpeningTools& tools, Id credential);
/// How many ways in take the named credential.
int usersOfCredential(const Snapshot& records, const std::string& name);

}  // namespace kw
