// NTLMv2 (MS-NLMP), both sides: the client proves a password without showing it; the server side is for the
// lab and for tests. Not thread-safe; one object a sign-in.
#pragma once
#include <optional>
#include <string>

#include "base/secret.hpp"
#include "rdp/crypto.hpp"

namespace kw::rdp {

struct NtlmAccount {
  std::string user, domain;
  Secret password;
};

/// MS-NLMP 3.3.2 NTOWFv2: the key made of password, name and domain.
Bytes ntowfV2(const NtlmAccount& account);

/// The sealing and signing of messages once signed in (MS-NLMP 3.4), one direction each.
class NtlmSeal {
 public:
  NtlmSeal() = default;
  /// `fromClient`: messages of the client, else of the server.
  NtlmSeal(ByteView exportedSessionKey, bool fromClient);
  /// Signature (16 bytes) and sealed text.
  Bytes wrap(ByteView plain);
  /// Throws Error{ProtocolBroken} when the signature does not fit.
  Bytes unwrap(ByteView sealedText);

 private:
  Bytes signature(ByteView plain);
  Bytes signKey_;
  Rc4 cipher_;
  std::uint32_t sequence_ = 0;
};

class NtlmClient {
 public:
  /// Time and random values can be set by tests.
  struct Chosen {
    Bytes clientChallenge = randomBytes(8), sessionKey = randomBytes(16);
    std::optional<std::uint64_t> time;  ///< 100 ns since 1601; the server's, when it tells one
  };
  NtlmClient(NtlmAccount account, std::string workstation);
  NtlmClient(NtlmAccount account, std::string workstation, Chosen chosen);

  Bytes negotiate();
  /// Throws Error{ProtocolBroken}.
  Bytes authenticate(ByteView challenge);
  [[nodiscard]] NtlmSeal& outgoing() { return outgoing_; }
  [[nodiscard]] NtlmSeal& incoming() { return incoming_; }

 private:
  NtlmAccount account_;
  std::string workstation_;
  Chosen chosen_;
  Bytes negotiate_;
  NtlmSeal outgoing_, incoming_;
};

class NtlmServer {
 public:
  explicit NtlmServer(std::string name) : name_(std::move(name)) {}
  Bytes challenge(ByteView negotiate);
  /// Who signs in, with his domain, before the password is known.
  [[nodiscard]] NtlmAccount nameIn(ByteView authenticate) const;
  /// False: wrong password, or the messages were altered.
  bool check(ByteView authenticate, const NtlmAccount& account);
  [[nodiscard]] NtlmSeal& outgoing() { return outgoing_; }
  [[nodiscard]] NtlmSeal& incoming() { return incoming_; }

 private:
  std::string name_;
  Bytes negotiate_, challenge_, serverChallenge_;
  NtlmSeal outgoing_, incoming_;
};

}  // namespace kw::rdp
