// What proves an account inside CredSSP (MS-CSSP 3.1.5): messages back and forth until both sides share a
// key, and sealing with it. NTLM and Kerberos are two of them. One object a sign-in; not thread-safe unless
// said.
#pragma once
#include <functional>
#include <memory>
#include <string>

#include "base/secret.hpp"
#include "base/task.hpp"
#include "rdp/ntlm.hpp"

namespace kw::rdp {

/// The visitor's side.
class Proof {
 public:
  virtual ~Proof() = default;
  /// The next message for the other side; `theirs` is empty the first time. Throws Error{SignInFailed} with
  /// the reason, {Unreachable} when who vouches for accounts cannot be asked, {ProtocolBroken}, {Cancelled}.
  virtual Task<Bytes> next(Bytes theirs) = 0;
  /// No further message of the other side is needed.
  [[nodiscard]] virtual bool complete() const = 0;
  virtual Bytes seal(ByteView plain) = 0;
  /// Throws Error{ProtocolBroken} when it was altered.
  virtual Bytes open(ByteView sealedText) = 0;
  /// Ends a next() that waits, from the same strand.
  virtual void giveUp() {}
  [[nodiscard]] virtual std::string name() const = 0;
};

std::shared_ptr<Proof> ntlmProof(NtlmAccount account, std::string workstation);

/// The service's side, for the lab and for tests.
class ProofCheck {
 public:
  virtual ~ProofCheck() = default;
  /// The answer to a visitor's message, which may be empty. Throws Refused.
  virtual Bytes next(ByteView theirs) = 0;
  [[nodiscard]] virtual bool complete() const = 0;
  /// Who signs in; the password is not known here.
  [[nodiscard]] virtual NtlmAccount account() const = 0;
  virtual Bytes seal(ByteView plain) = 0;
  virtual Bytes open(ByteView sealedText) = 0;
};
/// What a service answers instead of letting somebody in: an NTSTATUS (MS-ERREF 2.3).
struct Refused {
  std::uint32_t status;
};

/// The password of a name, or an NTSTATUS that is sent back instead.
struct KnownAccount {
  Secret password;
  std::uint32_t refusal = 0;
};
using AccountBook = std::function<KnownAccount(const NtlmAccount&)>;
std::unique_ptr<ProofCheck> ntlmCheck(std::string serviceName, AccountBook accounts);

}  // namespace kw::rdp
