// The server's way through version, security and sign-in.
#include "rfb/rsa_aes.hpp"
#include "rfb/server.hpp"
#include "rfb/vnc_password.hpp"

namespace kw::rfb {

namespace {
Task<Bytes> readExactly(ByteStream& stream, std::size_t n) {
  Bytes out(n);
  for (std::size_t at = 0; at < n;) at += co_await stream.readSome(ByteSpan(out).subspan(at));
  co_return out;
}
Task<void> send(ByteStream& stream, ByteWriter message) { co_await stream.write(message.view()); }
}  // namespace

Task<void> Server::signInVisitor() {
  ByteWriter version;
  version.text("RFB 003.00" + std::to_string(options_.minorVersion) + "\n");
  co_await send(*stream_, std::move(version));
  const Bytes answer = co_await readExactly(*stream_, 12);
  const std::string text = textOf(answer);
  if (text.substr(0, 8) != "RFB 003." || text[11] != '\n')
    protocolBroken("ProtocolVersion", "the visitor said " + hex(answer));
  const int wanted = text[10] - '0';
  options_.minorVersion = std::min(options_.minorVersion, wanted >= 8 ? 8 : wanted == 7 ? 7 : 3);
  if (options_.minorVersion == 3) {
    co_await signInLegacy();
    co_return;
  }
  Security kind = options_.password.empty() ? Security::None : Security::VncPassword;
  if (options_.certificate || options_.anonymousTls || options_.plainSignIn) kind = Security::VeNCrypt;
  if (options_.rsaAesBits == 128)
    kind = options_.rsaAesSealAll ? Security::RsaAes128 : Security::RsaAes128Unsealed;
  if (options_.rsaAesBits == 256)
    kind = options_.rsaAesSealAll ? Security::RsaAes256 : Security::RsaAes256Unsealed;
  ByteWriter offer;
  offer.u8(1).u8(static_cast<unsigned>(kind));
  co_await send(*stream_, std::move(offer));
  const Bytes choice = co_await readExactly(*stream_, 1);
  if (choice[0] != static_cast<Byte>(kind)) protocolBroken("security choice", "was not offered");
  if (kind == Security::VeNCrypt) {
    co_await veNCrypt();
  } else if (kind == Security::VncPassword) {
    co_await checkVncPassword();
  } else if (kind == Security::None) {
    if (options_.minorVersion >= 8) co_await finishSecurity(true, {});
  } else {
    bool good = false;
    const auto gave = [this, &good](const RsaAesAnswer& a) {
      good = a.password == options_.password && a.user == options_.user;
    };
    stream_ = co_await rsaAesServer(std::move(stream_), options_.rsaAesBits, options_.rsaAesSealAll,
                                    !options_.user.empty(), gave);
    co_await finishSecurity(good, "wrong name or password");
  }
}

Task<void> Server::signInLegacy() {
  ByteWriter kind;
  kind.u32(options_.password.empty() ? 1 : 2);
  co_await send(*stream_, std::move(kind));
  if (!options_.password.empty()) co_await checkVncPassword();
}

Task<void> Server::checkVncPassword() {
  const Challenge challenge = randomChallenge();
  ByteWriter message;
  message.bytes(challenge);
  co_await send(*stream_, std::move(message));
  const Bytes answer = co_await readExactly(*stream_, 16);
  const Challenge right = answerChallenge(challenge, options_.password);
  co_await finishSecurity(std::equal(answer.begin(), answer.end(), right.begin()), "wrong password");
}

Task<void> Server::veNCrypt() {
  ByteWriter version;
  version.u8(0).u8(2);
  co_await send(*stream_, std::move(version));
  co_await readExactly(*stream_, 2);
  const bool tls = options_.certificate || options_.anonymousTls;
  const int base = !tls ? 256 : options_.anonymousTls ? 257 : 260;
  const int kind = options_.plainSignIn        ? (tls ? base + 2 : 256)
                   : options_.password.empty() ? base
                                               : base + 1;
  ByteWriter offer;
  offer.u8(0).u8(1).u32(static_cast<std::uint32_t>(kind));
  co_await send(*stream_, std::move(offer));
  const Bytes choice = co_await readExactly(*stream_, 4);
  if (loadBe32(choice.data()) != static_cast<std::uint32_t>(kind))
    protocolBroken("VeNCrypt choice", "was not offered");
  if (tls) {
    ByteWriter ready;
    ready.u8(1);
    co_await send(*stream_, std::move(ready));
    TlsServerOptions options;
    if (!options_.anonymousTls) options.certificatePem = options_.certificate->certificatePem;
    if (!options_.anonymousTls) options.keyPem = options_.certificate->keyPem;
    stream_ = co_await startTlsServer(std::move(stream_), std::move(options));
  }
  if (options_.plainSignIn) {
    co_await checkPlain();
  } else if (!options_.password.empty()) {
    co_await checkVncPassword();
  } else {
    co_await finishSecurity(true, {});
  }
}

Task<void> Server::checkPlain() {
  const Bytes sizes = co_await readExactly(*stream_, 8);
  const std::uint32_t userSize = loadBe32(sizes.data()), passwordSize = loadBe32(&sizes[4]);
  if (userSize > 1024 || passwordSize > 1024) protocolBroken("VeNCrypt Plain", "name or password too long");
  const Bytes user = co_await readExactly(*stream_, userSize);
  const Bytes password = co_await readExactly(*stream_, passwordSize);
  co_await finishSecurity(textOf(user) == options_.user && textOf(password) == options_.password,
                          "wrong name or password");
}

Task<void> Server::finishSecurity(bool good, const std::string& reason) {
  ByteWriter result;
  result.u32(good ? 0 : 1);
  if (!good && options_.minorVersion >= 8) result.u32(static_cast<std::uint32_t>(reason.size())).text(reason);
  co_await send(*stream_, std::move(result));
  if (!good) throw Error(ErrorKind::SignInFailed, reason, stream_->peer());
}

}  // namespace kw::rfb
