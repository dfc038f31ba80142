#include "wire/tls.hpp"

#include <openssl/bio.h>
#include <openssl/bn.h>
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <openssl/ssl.h>
#include <openssl/x509v3.h>

#include "base/error.hpp"
#include "base/freer.hpp"
#include "base/iso_time.hpp"
#include "base/runtime.hpp"

namespace kw {

namespace {

using SslContext = std::unique_ptr<SSL_CTX, Freer<SSL_CTX_free>>;
using SslHandle = std::unique_ptr<SSL, Freer<SSL_free>>;
using CertificateHandle = std::unique_ptr<X509, Freer<X509_free>>;
using KeyHandle = std::unique_ptr<EVP_PKEY, Freer<EVP_PKEY_free>>;
using BioHandle = std::unique_ptr<BIO, Freer<BIO_free>>;

std::string lastOpenSslError() {
  const unsigned long code = ERR_get_error();
  ERR_clear_error();
  if (code == 0) return "the other side ended it";
  const char* reason = ERR_reason_error_string(code);
  return reason != nullptr ? reason : "unknown reason";
}

class TlsStream : public ByteStream {
 public:
  TlsStream(StreamPtr below, SSL_CTX* context, bool server)
      : below_(std::move(below)), ssl_(SSL_new(context)) {
    if (!ssl_) throw Error(ErrorKind::Local, "no memory for TLS");
    SSL_set_mode(ssl_.get(), SSL_MODE_RELEASE_BUFFERS);
    in_ = BIO_new(BIO_s_mem());
    out_ = BIO_new(BIO_s_mem());
    BIO_set_mem_eof_return(in_, -1);
    SSL_set_bio(ssl_.get(), in_, out_);
    server ? SSL_set_accept_state(ssl_.get()) : SSL_set_connect_state(ssl_.get());
  }

  SSL* ssl() { return ssl_.get(); }
  void feed(ByteView bytes) {
    if (!bytes.empty()) BIO_write(in_, bytes.data(), static_cast<int>(bytes.size()));
  }

  Task<void> handshake() {
    for (;;) {
      ERR_clear_error();
      const int result = SSL_do_handshake(ssl_.get());
      const int state = SSL_get_error(ssl_.get(), result);
      const std::string reason = result == 1 || state == SSL_ERROR_WANT_READ ? "" : lastOpenSslError();
      co_await flush();
      if (result == 1) co_return;
      if (state != SSL_ERROR_WANT_READ)
        throw Error(ErrorKind::ProtocolBroken, "TLS handshake failed: " + reason, peer());
      co_await fetch();
    }
  }

  Task<std::size_t> readSome(ByteSpan into) override {
    for (;;) {
      ERR_clear_error();
      std::size_t got = 0;
      const int result = SSL_read_ex(ssl_.get(), into.data(), into.size(), &got);
      if (result == 1) co_return got;
      const int state = SSL_get_error(ssl_.get(), result);
      if (state == SSL_ERROR_ZERO_RETURN)
        throw Error(ErrorKind::ClosedByPeer, "closed by the other side", peer());
      if (state != SSL_ERROR_WANT_READ)
        throw Error(ErrorKind::ProtocolBroken, "TLS: " + lastOpenSslError(), peer());
      co_await flush();  // answers to key updates and the like
      co_await fetch();
    }
  }

  Task<void> write(ByteView bytes) override {
    // SSL_write into a memory BIO never wants anything; it takes all.
    if (bytes.empty()) co_return;
    ERR_clear_error();
    std::size_t taken = 0;
    if (SSL_write_ex(ssl_.get(), bytes.data(), bytes.size(), &taken) != 1)
      throw Error(ErrorKind::ClosedByPeer, "TLS: " + lastOpenSslError(), peer());
    co_await flush();
  }

  void close() noexcept override { below_->close(); }
  [[nodiscard]] bool sealed() const override { return true; }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }

 private:
  Task<void> fetch() {
    const std::size_t got = co_await below_->readSome(ByteSpan(chunk_.data(), chunk_.size()));
    feed(ByteView(chunk_.data(), got));
    if (got == chunk_.size() && got < kLargestChunk) chunk_.resize(2 * got);
  }

  /// Sends what OpenSSL has produced. The reader may come here while the writer is busy: then the writer,
  /// which loops until nothing is left, sends the reader's part too.
  Task<void> flush() {
    if (flushing_) co_return;
    flushing_ = true;
    try {
      Byte* data = nullptr;
      for (long n = BIO_get_mem_data(out_, &data); n > 0; n = BIO_get_mem_data(out_, &data)) {
        Bytes record(data, data + n);
        // A memory BIO keeps the room of the largest message it ever held.
        if (n > kLargestChunk)
          BIO_set_mem_buf(out_, BUF_MEM_new(), BIO_CLOSE);
        else
          BIO_reset(out_);
        co_await below_->write(record);
      }
    } catch (...) {
      flushing_ = false;
      throw;
    }
    flushing_ = false;
  }

  static constexpr long kLargestChunk = 32768;
  StreamPtr below_;
  SslHandle ssl_;  ///< holds its context, too
  BIO* in_;
  BIO* out_;
  bool flushing_ = false;
  Bytes chunk_ = Bytes(1024);  ///< grows with what comes
};

std::string nameText(const X509_NAME* name) {
  BioHandle bio(BIO_new(BIO_s_mem()));
  X509_NAME_print_ex(bio.get(), name, 0, XN_FLAG_ONELINE & ~ASN1_STRFLGS_ESC_MSB & ~XN_FLAG_SPC_EQ);
  char* data = nullptr;
  const long n = BIO_get_mem_data(bio.get(), &data);
  return cleanUtf8(std::string_view(data, static_cast<std::size_t>(std::max(n, 0L))));
}

std::string timeText(const ASN1_TIME* time) {
  std::tm parts{};
  if (ASN1_TIME_to_tm(time, &parts) != 1) return "unknown";
  return isoText(parts);
}

std::string fingerprint(const X509* certificate) {
  Byte digest[EVP_MAX_MD_SIZE];
  unsigned length = 0;
  X509_digest(certificate, EVP_sha256(), digest, &length);
  return hex(ByteView(digest, length), ":");
}

/// This desk's own list of authorities. Reading it takes longer than a handshake, so it is read once; what is
/// added to it later counts after a restart.
X509_STORE* usualAuthorities() {
  static const std::unique_ptr<X509_STORE, Freer<X509_STORE_free>> store = [] {
    std::unique_ptr<X509_STORE, Freer<X509_STORE_free>> made(X509_STORE_new());
    X509_STORE_set_default_paths(made.get());
    return made;
  }();
  return store.get();
}

PeerCertificate describe(SSL* ssl) {
  PeerCertificate out;
  CertificateHandle certificate(SSL_get1_peer_certificate(ssl));
  if (!certificate) {
    out.problem = "no certificate was shown";
    return out;
  }
  out.subject = nameText(X509_get_subject_name(certificate.get()));
  out.issuer = nameText(X509_get_issuer_name(certificate.get()));
  out.notBefore = timeText(X509_get0_notBefore(certificate.get()));
  out.notAfter = timeText(X509_get0_notAfter(certificate.get()));
  out.sha256 = fingerprint(certificate.get());
  if (const ASN1_BIT_STRING* key = X509_get0_pubkey_bitstr(certificate.get()); key != nullptr)
    out.publicKey.assign(ASN1_STRING_get0_data(key), ASN1_STRING_get0_data(key) + ASN1_STRING_length(key));
  const long verdict = SSL_get_verify_result(ssl);
  out.vouched = verdict == X509_V_OK;
  if (!out.vouched) out.problem = X509_verify_cert_error_string(verdict);
  return out;
}

bool isNumericAddress(const std::string& host) {
  return host.find(':') != std::string::npos || host.find_first_not_of("0123456789.") == std::string::npos;
}

void allowAnonymous(SSL_CTX* context) {
  // Anonymous Diffie-Hellman ended with TLS 1.2 and needs security level 0.
  SSL_CTX_set_max_proto_version(context, TLS1_2_VERSION);
  SSL_CTX_set_security_level(context, 0);
  SSL_CTX_set_cipher_list(context, "ADH:AECDH:@SECLEVEL=0");
}

}  // namespace

Task<StreamPtr> startTls(StreamPtr below, TlsClientOptions options, Bytes early) {
  SslContext context(SSL_CTX_new(TLS_client_method()));
  SSL_CTX_set_min_proto_version(context.get(), TLS1_2_VERSION);
  if (options.anonymous) {
    allowAnonymous(context.get());
  } else {
    if (options.anonymousToo) {
      // A server without a certificate takes what stands first and fails on what needs one, so anonymous
      // kinds stand first and TLS 1.3 is left out; a server with a certificate does not know the anonymous
      // kinds.
      SSL_CTX_set_max_proto_version(context.get(), TLS1_2_VERSION);
      SSL_CTX_set_cipher_list(context.get(), "ADH:AECDH:HIGH:!kRSA:@SECLEVEL=0");
    }
    if (options.authorityFile.empty())
      SSL_CTX_set1_cert_store(context.get(), usualAuthorities());
    else if (SSL_CTX_set_default_verify_paths(context.get()) != 1 ||
             SSL_CTX_load_verify_locations(context.get(), options.authorityFile.c_str(), nullptr) != 1)
      throw Error(ErrorKind::Local, "cannot read this file of authorities", options.authorityFile);
  }
  auto stream = std::make_unique<TlsStream>(std::move(below), context.get(), false);
  if (!options.anonymous && !options.hostName.empty()) {
    X509_VERIFY_PARAM* check = SSL_get0_param(stream->ssl());
    if (isNumericAddress(options.hostName)) {
      X509_VERIFY_PARAM_set1_ip_asc(check, options.hostName.c_str());
    } else {
      X509_VERIFY_PARAM_set1_host(check, options.hostName.c_str(), 0);
      SSL_set_tlsext_host_name(stream->ssl(), options.hostName.c_str());
    }
  }
  stream->feed(early);
  co_await stream->handshake();
  if (!options.anonymous && SSL_get0_peer_certificate(stream->ssl()) == nullptr && !options.anonymousToo)
    throw Error(ErrorKind::NotTrusted, "the server shows no certificate", stream->peer());
  if (!options.anonymous && SSL_get0_peer_certificate(stream->ssl()) != nullptr) {
    const PeerCertificate shown = describe(stream->ssl());
    bool goOn = shown.vouched;
    if (options.decide) goOn = co_await options.decide(shown);
    if (!goOn) {
      stream->close();
      throw Error(ErrorKind::NotTrusted, "the certificate is not trusted (" + shown.problem + ")",
                  stream->peer());
    }
  }
  co_return stream;
}

struct TlsIdentity {
  SslContext context;
};

std::shared_ptr<const TlsIdentity> tlsIdentity(const TlsServerOptions& options) {
  const auto made = std::make_shared<TlsIdentity>();
  SslContext& context = made->context;
  context.reset(SSL_CTX_new(TLS_server_method()));
  // Tickets need no memory here; a list of sessions would.
  SSL_CTX_set_session_cache_mode(context.get(), SSL_SESS_CACHE_OFF);
  SSL_CTX_set_min_proto_version(context.get(), TLS1_2_VERSION);
  if (options.certificatePem.empty()) {
    allowAnonymous(context.get());
    SSL_CTX_set_dh_auto(context.get(), 1);
  } else {
    BioHandle certificateText(
        BIO_new_mem_buf(options.certificatePem.data(), static_cast<int>(options.certificatePem.size())));
    BioHandle keyText(BIO_new_mem_buf(options.keyPem.data(), static_cast<int>(options.keyPem.size())));
    CertificateHandle certificate(PEM_read_bio_X509(certificateText.get(), nullptr, nullptr, nullptr));
    KeyHandle key(PEM_read_bio_PrivateKey(keyText.get(), nullptr, nullptr, nullptr));
    if (!certificate || !key || SSL_CTX_use_certificate(context.get(), certificate.get()) != 1 ||
        SSL_CTX_use_PrivateKey(context.get(), key.get()) != 1)
      throw Error(ErrorKind::Local, "the server's certificate or key cannot be used: " + lastOpenSslError());
  }
  return made;
}

Task<StreamPtr> startTlsServer(StreamPtr below, TlsServerOptions options, Bytes early) {
  auto identity = tlsIdentity(options);
  co_return co_await startTlsServer(std::move(below), std::move(identity), std::move(early));
}

Task<StreamPtr> startTlsServer(StreamPtr below, std::shared_ptr<const TlsIdentity> identity, Bytes early) {
  auto stream = std::make_unique<TlsStream>(std::move(below), identity->context.get(), true);
  stream->feed(early);
  co_await stream->handshake();
  co_return stream;
}

MadeCertificate makeSelfSigned(const std::string& commonName, int days, long fromSeconds) {
  KeyHandle key(EVP_EC_gen("P-256"));
  CertificateHandle certificate(X509_new());
  if (!key || !certificate) throw Error(ErrorKind::Local, "no key could be made: " + lastOpenSslError());
  X509_set_version(certificate.get(), 2);
  if (BIGNUM* number = BN_new(); number != nullptr) {
    BN_rand(number, 63, BN_RAND_TOP_ANY, BN_RAND_BOTTOM_ANY);
    BN_to_ASN1_INTEGER(number, X509_get_serialNumber(certificate.get()));
    BN_free(number);
  }
  X509_gmtime_adj(X509_getm_notBefore(certificate.get()), fromSeconds);
  X509_gmtime_adj(X509_getm_notAfter(certificate.get()), 86400L * days);
  X509_set_pubkey(certificate.get(), key.get());
  X509_NAME* name = X509_get_subject_name(certificate.get());
  X509_NAME_add_entry_by_txt(name, "CN", MBSTRING_UTF8, reinterpret_cast<const Byte*>(commonName.c_str()), -1,
                             -1, 0);
  X509_set_issuer_name(certificate.get(), name);
  const std::string names = "DNS:" + commonName + ",IP:127.0.0.1";
  X509_EXTENSION* alternative = X509V3_EXT_conf_nid(nullptr, nullptr, NID_subject_alt_name, names.c_str());
  if (alternative != nullptr) {
    X509_add_ext(certificate.get(), alternative, -1);
    X509_EXTENSION_free(alternative);
  }
  X509_sign(certificate.get(), key.get(), EVP_sha256());
  const auto pem = [](auto write) {
    BioHandle bio(BIO_new(BIO_s_mem()));
    write(bio.get());
    char* data = nullptr;
    const long n = BIO_get_mem_data(bio.get(), &data);
    return std::string(data, static_cast<std::size_t>(n));
  };
  return {pem([&](BIO* bio) { PEM_write_bio_X509(bio, certificate.get()); }), pem([&](BIO* bio) {
            PEM_write_bio_PrivateKey(bio, key.get(), nullptr, nullptr, 0, nullptr, nullptr);
          })};
}

Bytes publicKeyOfPem(const std::string& text) {
  BioHandle bio(BIO_new_mem_buf(text.data(), static_cast<int>(text.size())));
  CertificateHandle certificate(PEM_read_bio_X509(bio.get(), nullptr, nullptr, nullptr));
  if (!certificate) throw Error(ErrorKind::Local, "not a certificate in PEM form");
  const ASN1_BIT_STRING* key = X509_get0_pubkey_bitstr(certificate.get());
  return {ASN1_STRING_get0_data(key), ASN1_STRING_get0_data(key) + ASN1_STRING_length(key)};
}

std::string sha256OfPem(const std::string& text) {
  BioHandle bio(BIO_new_mem_buf(text.data(), static_cast<int>(text.size())));
  CertificateHandle certificate(PEM_read_bio_X509(bio.get(), nullptr, nullptr, nullptr));
  if (!certificate) throw Error(ErrorKind::Local, "not a certificate in PEM form");
  return fingerprint(certificate.get());
}

}  // namespace kw
