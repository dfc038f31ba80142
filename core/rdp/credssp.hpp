// CredSSP (MS-CSSP) over a TLS stream: network level authentication. The server's key is bound to the sign-in
// before anything of the password leaves; both sides.
#pragma once
#include <functional>
#include <string>

#include "rdp/proof.hpp"
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

/// Signs in; returns the version spoken. `first` is what `proof` began with. Throws Error{SignInFailed} with
/// the reason in words, {NotTrusted} when the server does not own the key that TLS showed, and what the proof
/// throws.
Task<std::uint32_t> credSspClient(ByteStream& stream, std::shared_ptr<Proof> proof, Bytes first,
                                  NtlmAccount account, Bytes serverPublicKey);

struct CredSspVisitor {
  bool good = false;
  NtlmAccount account;  ///< name and domain always, the password when good
};
Task<CredSspVisitor> credSspServer(ByteStream& stream, std::unique_ptr<ProofCheck> check, Bytes publicKey);

/// A sentence for an NTSTATUS of a failed sign-in: "the password has expired".
std::string wordsForStatus(std::uint32_t status);

}  // namespace kw::rdp
