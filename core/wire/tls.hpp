// TLS over any ByteStream, started whenever the protocol says so. The peer's certificate is handed up for a
// decision; nothing is trusted here but what the system's authorities vouch for.
#pragma once
#include <functional>
#include <optional>

#include "wire/stream.hpp"

namespace kw {

struct PeerCertificate {
  std::string subject, issuer;      ///< "CN=fernery"
  std::string notBefore, notAfter;  ///< ISO 8601, UTC
  std::string sha256;               ///< "ab:cd:…" of the DER form
  bool vouched = false;             ///< a known authority signed it, it is in date, and it is for this host
  std::string problem;              ///< why it is not vouched for; empty when it is
  Bytes publicKey;                  ///< the subjectPublicKey of its DER form; sign-ins are bound to it
};

struct TlsClientOptions {
  std::string hostName;       ///< checked against the certificate; sent as SNI when it is a name
  bool anonymous = false;     ///< Diffie-Hellman without certificates (VeNCrypt's "TLS*" types)
  bool anonymousToo = false;  ///< either way, as the server has it; a certificate it shows is asked about
  std::string authorityFile;  ///< an additional PEM file of authorities; may be empty
  /// Called for every certificate (never for anonymous). Returns true to go on.
  std::function<Task<bool>(PeerCertificate)> decide;
};

struct TlsServerOptions {
  std::string certificatePem, keyPem;  ///< empty for anonymous
};

/// `early` are bytes that were read from `below` already. Throws Error{NotTrusted} when decide() says no and
/// Error{ProtocolBroken} when the handshake fails.
Task<StreamPtr> startTls(StreamPtr below, TlsClientOptions options, Bytes early = {});
Task<StreamPtr> startTlsServer(StreamPtr below, TlsServerOptions options, Bytes early = {});

/// A server's certificate, read once for all who come. Immutable; may be used by several threads.
struct TlsIdentity;
/// Throws Error{Local} when certificate or key cannot be used.
std::shared_ptr<const TlsIdentity> tlsIdentity(const TlsServerOptions& options);
Task<StreamPtr> startTlsServer(StreamPtr below, std::shared_ptr<const TlsIdentity> identity,
                               Bytes early = {});

struct MadeCertificate {
  std::string certificatePem, keyPem;
};
/// A self-signed ECDSA P-256 certificate for the lab and for tests.
/// It counts from `fromSeconds` from now on, for `days` after now.
MadeCertificate makeSelfSigned(const std::string& commonName, int days = 365, long fromSeconds = -3600);
/// The subjectPublicKey of a certificate in PEM form. Throws Error{Local}.
Bytes publicKeyOfPem(const std::string& text);
/// "ab:cd:…" of the first certificate of a PEM text.
std::string sha256OfPem(const std::string& pem);

}  // namespace kw
