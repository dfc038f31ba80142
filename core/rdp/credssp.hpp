// CredSSP (MS-CSSP) over a TLS stream: network level authentication. The server's key is bound to the sign-in
// before anything of the password leaves; both sides.
#pragma once
#include <functional>
#include <string>

#include "rdp/ntlm.hpp"
#include "wire/stream.hpp"

namespace kw::rdp {

struct CredSspRequest {  // 2.2.1 TSRequest
  std::uint32_t version = 6;
  Bytes token, authInfo, pubKeyAuth, clientNonce;
  std::uint32_t errorCode = 0;
};
Bytes writeTsRequest(const CredSspRequest& request);
/// Throws Error{ProtocolBroken}.
CredSspRequest readTsRequest(ByteView bytes);

/// Signs in; returns the version spoken. Throws Error{SignInFailed} with the reason in words, {NotTrusted}
/// when the server does not own the key that TLS showed.
Task<std::uint32_t> credSspClient(ByteStream& stream, NtlmAccount account, std::string workstation,
                                  Bytes serverPublicKey);

struct CredSspVisitor {
  bool good = false;
  NtlmAccount account;  ///< name and domain always, the password when good
};
/// `account` gives the password of a name, or an NTSTATUS that is sent back instead.
struct CredSspAnswer {
  std::string password;
  std::uint32_t refusal = 0;
};
Task<CredSspVisitor> credSspServer(ByteStream& stream, std::string name, Bytes publicKey,
                                   std::function<CredSspAnswer(const NtlmAccount&)> account);

/// A sentence for an NTSTATUS of a failed sign-in: "the password has expired".
std::string wordsForStatus(std::uint32_t status);

}  // namespace kw::rdp
