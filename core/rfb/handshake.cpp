#include "rfb/handshake.hpp"

#include <openssl/crypto.h>

#include "rfb/rsa_aes.hpp"
#include "rfb/sasl.hpp"
#include "rfb/vnc_password.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

namespace {

/// Reads exactly what it needs and never ahead, so that TLS can take over the stream at any point.
class Plain {
 public:
  explicit Plain(ByteStream& stream) : stream_(stream) {}
  Task<Bytes> read(std::size_t n) {
    Bytes out(n);
    for (std::size_t at = 0; at < n;) at += co_await stream_.readSome(ByteSpan(out).subspan(at));
    co_return out;
  }
  Task<unsigned> u8() {
    const Bytes b = co_await read(1);
    co_return b[0];
  }
  Task<std::uint32_t> u32() {
    const Bytes b = co_await read(4);
    co_return loadBe32(b.data());
  }
  Task<void> write(ByteWriter message) { co_await stream_.write(message.view()); }

 private:
  ByteStream& stream_;
};

Task<std::string> readReason(Plain& in) {
  const std::uint32_t length = co_await in.u32();
  if (length > kMostReason)
    protocolBroken("failure reason", "announces " + std::to_string(length) + " bytes");
  const Bytes text = co_await in.read(length);
  co_return cleanUtf8(textOf(text));
}

/// RFC 6143 7.1.1. Versions that nobody published count as the nearest below.
Task<int> agreeVersion(Plain& in) {
  const Bytes b = co_await in.read(12);
  const std::string text = textOf(b);
  const auto digits = [&](std::size_t at) {
    int v = 0;
    for (std::size_t i = at; i < at + 3; ++i) {
      if (text[i] < '0' || text[i] > '9') return -1;
      v = v * 10 + (text[i] - '0');
    }
    return v;
  };
  const int major = digits(4), minor = digits(8);
  if (text.substr(0, 4) != "RFB " || text[7] != '.' || text[11] != '\n' || major < 0 || minor < 0)
    protocolBroken("ProtocolVersion", "the other side does not speak RFB: it said \"" + hex(b) + "\"");
  if (major < 3) throw Error(ErrorKind::Unsupported, "the server speaks RFB " + text.substr(4, 7));
  const int agreed = major > 3 || minor >= 8 ? 8 : minor == 7 ? 7 : 3;
  ByteWriter answer;
  answer.text("RFB 003.00" + std::to_string(agreed) + "\n");
  co_await in.write(std::move(answer));
  co_return agreed;
}

class SignInWalk {
 public:
  SignInWalk(StreamPtr stream, std::string host, SecurityPolicy policy, HandshakeQuestions& questions)
      : stream_(std::move(stream)),
        host_(std::move(host)),
        policy_(std::move(policy)),
        questions_(questions) {}

  Task<HandshakeResult> run() {
    HandshakeResult result;
    {
      Plain in(*stream_);
      minor_ = co_await agreeVersion(in);
    }
    const Security chosen = co_await chooseSecurity();
    co_await sign(chosen);
    if (minor_ >= 8 || asksPassword_) co_await securityResult();
    if (sealAfterwards_) stream_ = sealAfterwards_(std::move(stream_));
    result.stream = std::move(stream_);
    result.minorVersion = minor_;
    result.security = name_;
    co_return result;
  }

 private:
  /// Sealed kinds first, then those that ask a password, then none.
  [[nodiscard]] std::vector<Security> preference() const {
    std::vector<Security> order{Security::VeNCrypt, Security::RsaAes256, Security::RsaAes128};
    if (!policy_.sealedOnly)
      for (Security s : {Security::RsaAes256Unsealed, Security::RsaAes128Unsealed, Security::Sasl,
                         Security::VncPassword, Security::None})
        order.push_back(s);
    return order;
  }

  Task<Security> chooseSecurity() {
    Plain in(*stream_);
    std::vector<std::uint32_t> offered;
    if (minor_ == 3) {
      const std::uint32_t only = co_await in.u32();
      if (only != 0) offered.push_back(only);
    } else {
      const unsigned count = co_await in.u8();
      const Bytes list = co_await in.read(count);
      offered.assign(list.begin(), list.end());
    }
    if (offered.empty()) {
      const std::string reason = co_await readReason(in);
      throw Error(ErrorKind::SignInFailed, "the server turned us away: " + reason, stream_->peer());
    }
    for (Security s : preference()) {
      if (std::find(offered.begin(), offered.end(), static_cast<std::uint32_t>(s)) == offered.end()) continue;
      if (minor_ > 3) {
        ByteWriter choice;
        choice.u8(static_cast<unsigned>(s));
        co_await in.write(std::move(choice));
      }
      co_return s;
    }
    std::string list;
    for (std::uint32_t s : offered) list += (list.empty() ? "" : ", ") + std::to_string(s);
    throw Error(ErrorKind::Unsupported,
                policy_.sealedOnly
                    ? "this machine's settings want a sealed session, and the server offers none "
                      "(security kinds " +
                          list + ")"
                    : "the server offers only security kinds this program does not have: " + list,
                stream_->peer());
  }

  /// Nothing of the sign-in leaves before this returns.
  Task<void> goOnPlain(std::string method) {
    const bool on = co_await questions_.plain(method);
    if (!on)
      throw Error(ErrorKind::NotTrusted, "the line was sealed before and is not now (" + method + ")",
                  stream_->peer());
  }

  Task<void> goOnUnproved(std::string method) {
    const bool on = co_await questions_.unproved(method);
    if (!on)
      throw Error(ErrorKind::NotTrusted,
                  "it showed a trusted certificate before and shows none now (" + method + ")",
                  stream_->peer());
  }

  Task<void> sign(Security chosen) {
    switch (chosen) {
      case Security::None:
        name_ = "none";
        co_await goOnPlain("no password");
        break;
      case Security::VncPassword:
        name_ = "VNC password";
        co_await goOnPlain(name_);
        co_await vncPassword();
        break;
      case Security::VeNCrypt: co_await veNCrypt(); break;
      case Security::Sasl:
        co_await goOnPlain("SASL");
        co_await saslWalk(false);
        break;
      case Security::RsaAes128: co_await rsaAes(128, true); break;
      case Security::RsaAes256: co_await rsaAes(256, true); break;
      case Security::RsaAes128Unsealed:
        co_await goOnPlain("RSA-AES for the sign-in only");
        co_await rsaAes(128, false);
        break;
      case Security::RsaAes256Unsealed:
        co_await goOnPlain("RSA-AES for the sign-in only");
        co_await rsaAes(256, false);
        break;
      case Security::Invalid: break;
    }
  }

  Task<void> vncPassword() {
    asksPassword_ = true;
    Plain in(*stream_);
    const Bytes bytes = co_await in.read(16);
    SignInRequest request;
    request.eightCharacters = true;
    request.method = name_;
    request.use = sealedUse_ == SecretUse::Clear ? SecretUse::Challenge : sealedUse_;
    SignIn answer = co_await questions_.signIn(request);
    Challenge challenge;
    std::copy(bytes.begin(), bytes.end(), challenge.begin());
    const Challenge response = answerChallenge(challenge, answer.password);
    ByteWriter message;
    message.bytes(response);
    co_await in.write(std::move(message));
  }

  Task<void> rsaAes(int bits, bool sealAll) {
    asksPassword_ = true;
    name_ = "RSA-AES " + std::to_string(bits) + (sealAll ? "" : " for the sign-in only");
    auto trust = [this](std::string fingerprint) -> Task<bool> {
      PeerCertificate key;
      key.subject = "RSA key of " + host_;
      key.issuer = "itself";
      key.sha256 = std::move(fingerprint);
      key.problem = "no authority vouches for such a key";
      return questions_.trust(std::move(key));
    };
    auto ask = [this](RsaAesSignIn wanted) -> Task<RsaAesAnswer> {
      SignInRequest request;
      request.wantsUser = wanted.wantsUser;
      request.method = name_;
      request.use = SecretUse::Proved;  // encrypted to the key that was just trusted
      SignIn answer = co_await questions_.signIn(request);
      RsaAesAnswer out;
      out.user = std::move(answer.user);
      out.password = std::move(answer.password);
      co_return out;
    };
    stream_ = co_await rsaAesClient(std::move(stream_), bits, sealAll, trust, ask);
  }

  Task<void> saslWalk(bool overCertificate) {
    asksPassword_ = true;
    const std::string before = name_.empty() ? "SASL" : name_;
    auto ask = [this, before](const std::string mechanism) -> Task<SignIn> {
      SignInRequest request;
      request.wantsUser = true;
      request.method = before + " " + mechanism;
      const bool shows = mechanism == "PLAIN" || mechanism == "LOGIN";
      request.use = sealedUse_ == SecretUse::Clear && !shows ? SecretUse::Challenge : sealedUse_;
      co_return co_await questions_.signIn(request);
    };
    SaslOutcome outcome = co_await saslSignIn(*stream_, host_, overCertificate, ask);
    name_ = before + " " + outcome.mechanism;
    sealAfterwards_ = std::move(outcome.seal);
  }

  // Registry, VeNCrypt: version 0.2, then a list of 32-bit sub-types.
  Task<void> veNCrypt() {
    Plain in(*stream_);
    const Bytes version = co_await in.read(2);
    if (version[0] == 0 && version[1] < 2)
      throw Error(ErrorKind::Unsupported, "the server's VeNCrypt is older than version 0.2", stream_->peer());
    ByteWriter ours;
    ours.u8(0).u8(2);
    co_await in.write(std::move(ours));
    if (co_await in.u8() != 0) protocolBroken("VeNCrypt", "the server does not take version 0.2");
    const unsigned count = co_await in.u8();
    const Bytes list = co_await in.read(std::size_t{4} * count);
    std::vector<VeNCrypt> offered;
    for (unsigned i = 0; i < count; ++i)
      offered.push_back(static_cast<VeNCrypt>(loadBe32(&list[std::size_t{4} * i])));
    const VeNCrypt chosen = chooseSubType(offered);
    ByteWriter choice;
    choice.u32(static_cast<std::uint32_t>(chosen));
    co_await in.write(std::move(choice));
    co_await runSubType(chosen);
  }

  [[nodiscard]] VeNCrypt chooseSubType(const std::vector<VeNCrypt>& offered) const {
    std::vector<VeNCrypt> order{VeNCrypt::X509Sasl, VeNCrypt::X509Plain, VeNCrypt::X509Vnc,
                                VeNCrypt::X509None};
    if (policy_.allowAnonymousTls)
      for (VeNCrypt v : {VeNCrypt::TlsSasl, VeNCrypt::TlsPlain, VeNCrypt::TlsVnc, VeNCrypt::TlsNone})
        order.push_back(v);
    if (!policy_.sealedOnly) order.push_back(VeNCrypt::Plain);
    for (VeNCrypt v : order)
      if (std::find(offered.begin(), offered.end(), v) != offered.end()) return v;
    std::string list;
    for (VeNCrypt v : offered)
      list += (list.empty() ? "" : ", ") + std::to_string(static_cast<std::uint32_t>(v));
    throw Error(ErrorKind::Unsupported, "no VeNCrypt kind in common; the server offers " + list,
                stream_->peer());
  }

  Task<void> runSubType(VeNCrypt kind) {
    static constexpr const char* names[] = {"Plain",   "TlsNone",   "TlsVnc",  "TlsPlain", "X509None",
                                            "X509Vnc", "X509Plain", "TlsSasl", "X509Sasl"};
    name_ = std::string("VeNCrypt ") + names[static_cast<std::uint32_t>(kind) - 256];
    const bool sasl = kind == VeNCrypt::TlsSasl || kind == VeNCrypt::X509Sasl;
    bool certificate = false;
    if (kind == VeNCrypt::Plain) {
      co_await goOnPlain(name_);
    } else {
      const bool anonymous =
          kind == VeNCrypt::TlsNone || kind == VeNCrypt::TlsVnc || kind == VeNCrypt::TlsPlain;
      unsigned ready = 0;
      {
        Plain in(*stream_);
        ready = co_await in.u8();
      }
      if (ready != 1)
        throw Error(ErrorKind::ProtocolBroken, "the server could not start TLS", stream_->peer());
      TlsClientOptions options;
      options.hostName = host_;
      options.anonymous = anonymous;
      // Servers do not agree which number of the two means a certificate; what the server does counts.
      options.anonymousToo = sasl && policy_.allowAnonymousTls;
      options.authorityFile = policy_.authorityFile;
      options.decide = [this, &certificate](PeerCertificate shown) {
        certificate = true;
        return questions_.trust(std::move(shown));
      };
      stream_ = co_await startTls(std::move(stream_), std::move(options));
      sealedUse_ = certificate ? SecretUse::Proved : SecretUse::Sealed;
      if (!certificate) co_await goOnUnproved(name_);
      if (sasl) name_ = certificate ? "VeNCrypt X509Sasl" : "VeNCrypt TlsSasl";
    }
    const bool none = kind == VeNCrypt::TlsNone || kind == VeNCrypt::X509None;
    const bool vnc = kind == VeNCrypt::TlsVnc || kind == VeNCrypt::X509Vnc;
    if (sasl) {
      // Without a certificate anybody may be at the other end, so the mechanism must seal the session as
      // well.
      co_await saslWalk(certificate);
      co_return;
    }
    if (vnc) co_await vncPassword();
    if (!none && !vnc) co_await plainSignIn();
  }

  Task<void> plainSignIn() {
    asksPassword_ = true;
    SignInRequest request;
    request.wantsUser = true;
    request.method = name_;
    request.use = sealedUse_;
    SignIn answer = co_await questions_.signIn(request);
    ByteWriter message;
    message.u32(static_cast<std::uint32_t>(answer.user.size()))
        .u32(static_cast<std::uint32_t>(answer.password.size()));
    message.text(answer.user).text(answer.password);
    co_await stream_->write(message.view());
    OPENSSL_cleanse(message.raw().data(), message.size());
  }

  // RFC 6143 7.1.3
  Task<void> securityResult() {
    Plain in(*stream_);
    const std::uint32_t result = co_await in.u32();
    if (result == 0) co_return;
    std::string reason = result == 2 ? "too many attempts; wait a while" : "wrong password";
    if (minor_ >= 8) {
      try {
        const std::string told = co_await readReason(in);
        if (!told.empty()) reason = told;
      } catch (const Error& e) {
        // Some servers hang up without the reason they owe.
        if (e.kind() != ErrorKind::ClosedByPeer) throw;
      }
    }
    throw Error(ErrorKind::SignInFailed, reason, stream_->peer());
  }

  StreamPtr stream_;
  std::string host_;
  SecurityPolicy policy_;
  HandshakeQuestions& questions_;
  int minor_ = 8;
  bool asksPassword_ = false;
  SecretUse sealedUse_ = SecretUse::Clear;              ///< what the line now does with what is sent over it
  std::function<StreamPtr(StreamPtr)> sealAfterwards_;  ///< what a sign-in puts over the stream from here on
  std::string name_;
};

}  // namespace

Task<HandshakeResult> shakeHands(StreamPtr stream, std::string host, SecurityPolicy policy,
                                 HandshakeQuestions& questions) {
  SignInWalk walk(std::move(stream), std::move(host), std::move(policy), questions);
  co_return co_await walk.run();
}

}  // namespace kw::rfb
