// Coming back to a session after a cut (MS-RDPBCGR 2.2.4, 5.5): the service hands out a secret, and who
// proves it on the next connection is let in again without a password.
#pragma once
#include <map>
#include <optional>

#include "rdp/ntlm.hpp"

namespace kw::rdp {

/// 2.2.4.2 ARC_SC_PRIVATE_PACKET
struct ComeBackCookie {
  std::uint32_t logonId = 0;
  Bytes random;  ///< 16 bytes, secret
};
Bytes writeComeBackCookie(const ComeBackCookie& cookie);
/// Throws Error{ProtocolBroken}.
ComeBackCookie readComeBackCookie(ByteView bytes);

/// 2.2.4.3 ARC_CS_PRIVATE_PACKET: proves the cookie. `clientRandom`: of standard security; empty counts as
/// zeros.
Bytes proofOfCookie(const ComeBackCookie& cookie, ByteView clientRandom);
/// Which session somebody wants back; throws Error{ProtocolBroken}.
std::uint32_t logonIdIn(ByteView proof);

/// The sessions of a service that can be come back to, with who they belong to. Not thread-safe.
class ComeBackBook {
 public:
  ComeBackCookie begin(const NtlmAccount& account);
  /// Whose session it is; nothing when the proof is wrong. Counts once: the next cookie is a new one.
  std::optional<NtlmAccount> take(ByteView proof, ByteView clientRandom);

 private:
  struct Held {
    ComeBackCookie cookie;
    NtlmAccount account;
  };
  std::map<std::uint32_t, Held> held_;
  std::uint32_t next_ = 1;
};

}  // namespace kw::rdp
