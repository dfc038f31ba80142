// From the first byte to the client info: negotiation, TLS, CredSSP, MCS and its channels.
#include <boost/asio/ip/address.hpp>

#include "rdp/client.hpp"
#include "rdp/credssp.hpp"
#include "rdp/kerberos.hpp"

namespace kw::rdp {

namespace {

/// Splits DOMAIN\name; name@domain stays whole, as the service wants it.
NtlmAccount accountOf(const SignIn& signIn, const std::string& domain) {
  NtlmAccount out{signIn.user, signIn.domain.empty() ? domain : signIn.domain, signIn.password};
  if (const auto slash = signIn.user.find('\\'); slash != std::string::npos) {
    out.domain = signIn.user.substr(0, slash);
    out.user = signIn.user.substr(slash + 1);
  }
  if (out.user.find('@') != std::string::npos) out.domain.clear();
  if (out.domain == ".") out.domain.clear();
  return out;
}

bool isNumber(const std::string& host) {
  boost::system::error_code notOne;
  asio::ip::make_address(host, notOne);
  return !notOne;
}

/// MS-RDPEPS 2.2.1: version 2 for names, version 1 for plain numbers below 2^32 (both say a number in version
/// 1).
Bytes preConnection(const std::string& id) {
  const bool number =
      !id.empty() && id.size() < 10 && id.find_first_not_of("0123456789") == std::string::npos;
  LittleWriter out;
  if (number) {
    out.u32(16).u32(0).u32(1).u32(static_cast<std::uint32_t>(std::stoul(id)));
    return out.take();
  }
  const Bytes text = utf8ToUtf16(id);
  const std::size_t units = text.size() / 2 + 1;
  out.u32(static_cast<std::uint32_t>(18 + units * 2)).u32(0).u32(2).u32(0).u16(static_cast<unsigned>(units));
  out.bytes(text).u16(0);
  return out.take();
}

std::uint32_t protocolsFor(SignInKind kind) {
  switch (kind) {
    case SignInKind::Legacy: return protocol::kRdp;
    case SignInKind::Tls: return protocol::kSsl;
    case SignInKind::Network: return protocol::kHybrid | protocol::kHybridEx;
    case SignInKind::Strongest: break;
  }
  return protocol::kSsl | protocol::kHybrid | protocol::kHybridEx;
}

constexpr std::uint32_t kOnlyOldSecurity = 2, kNoCertificate = 3;

}  // namespace

/// One TPKT packet, not a byte more, so that TLS can take over the stream at any point.
Task<Bytes> Client::readPacket() {
  Bytes packet(4);
  for (std::size_t at = 0; at < 4;) at += co_await stream_->readSome(ByteSpan(packet).subspan(at));
  if (packet[0] != 3) protocolBroken("TPKT", "the other side does not speak RDP");
  const std::size_t length = loadBe16(&packet[2]);
  if (length < 7) protocolBroken("TPKT", "a packet of " + std::to_string(length) + " bytes");
  packet.resize(length);
  for (std::size_t at = 4; at < length;) at += co_await stream_->readSome(ByteSpan(packet).subspan(at));
  co_return packet;
}

Task<Bytes> Client::readPayload() {
  const Bytes packet = co_await readPacket();
  const ByteView payload = payloadOfData(packet);
  co_return Bytes(payload.begin(), payload.end());
}

Task<void> Client::connect(Dial& dial) {
  std::uint32_t protocols = protocolsFor(options_.signIn);
  for (int attempt = 0;; ++attempt) {
    stream_ = co_await dial();
    peer_ = stream_->peer();
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    std::optional<Error> failure;
    try {
      co_await negotiate(protocols);
    } catch (const Error& e) {
      failure = e;
    }
    if (!failure) break;
    // An old service that knows no TLS: once more in its own way, unless the settings forbid it.
    const bool old = errorInfo_ == kOnlyOldSecurity || errorInfo_ == kNoCertificate;
    if (!old || attempt > 0 || options_.signIn != SignInKind::Strongest || options_.sealedOnly)
      throw *failure;
    errorInfo_ = 0;
    protocols = protocol::kRdp;
    stream_->close();
  }
  errorInfo_ = 0;
  co_await sealStream();
  co_await signIn();
  co_await joinChannels();
}

/// 2.2.1.1, 2.2.1.2
Task<void> Client::negotiate(std::uint32_t protocols) {
  if (!options_.machineId.empty()) {
    const Bytes first = preConnection(options_.machineId);
    co_await stream_->write(first);
  }
  ConnectRequest request;
  request.protocols = protocols;
  request.cookie = options_.user.substr(0, 9);
  request.routingToken = options_.routingToken;
  const Bytes message = writeConnectRequest(request);
  co_await stream_->write(message);
  std::optional<Error> hungUp;
  Bytes answer;
  try {
    answer = co_await readPacket();
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::ClosedByPeer || options_.machineId.empty()) throw;
    hungUp = e;
  }
  if (hungUp)
    throw Error(ErrorKind::Refused, "the host knows no machine with this ID, or the machine is off", peer_)
        .withCure(
            "Look up the machine's ID on its host: it is another one after a move or when the machine was "
            "made anew.");
  const ConnectConfirm confirm = readConnectConfirm(answer);
  if (confirm.failure != 0) {
    errorInfo_ = confirm.failure;
    throw Error(ErrorKind::Unsupported, wordsForNegotiationFailure(confirm.failure), peer_);
  }
  selected_ = confirm.negotiated ? confirm.chosen : protocol::kRdp;
  if (selected_ != protocol::kRdp && (selected_ & protocols) == 0)
    protocolBroken("X.224 confirm", "a kind of security was chosen that was not offered");
  if (selected_ == protocol::kRdp &&
      (options_.sealedOnly || options_.signIn == SignInKind::Network || options_.signIn == SignInKind::Tls))
    throw Error(ErrorKind::Unsupported,
                "this machine's settings want a sealed session, and the service offers old RDP security only",
                peer_);
}

Task<void> Client::sealStream() {
  if (selected_ == protocol::kRdp) {
    agreed_ = {"old RDP security", false};
    const bool on = co_await events_.plain(agreed_.security);
    if (!on)
      throw Error(ErrorKind::NotTrusted,
                  "the line was sealed before and is not now (" + agreed_.security + ")", peer_);
    co_return;
  }
  TlsClientOptions options;
  options.hostName = options_.host;
  options.authorityFile = options_.authorityFile;
  options.decide = [this](PeerCertificate certificate) {
    serverPublicKey_ = certificate.publicKey;
    return events_.trust(std::move(certificate));
  };
  stream_ = co_await startTls(std::move(stream_), std::move(options));
  agreed_ = {"TLS", true};
}

Task<void> Client::signIn() {
  const bool network = selected_ == protocol::kHybrid || selected_ == protocol::kHybridEx;
  SignInRequest request;
  request.user = options_.user;
  request.canBeLeftOut = !network;
  request.use = agreed_.sealed ? SecretUse::Proved : SecretUse::Clear;
  account_ = co_await events_.signIn(request);
  if (!account_ && network) throw Error(ErrorKind::SignInFailed, "no password was given", peer_);
  if (network) co_await proveAccount();
}

/// What the account is proved with from the first message on. Kerberos that cannot be had is told, and NTLM
/// is used, unless Kerberos alone is wanted.
Task<Bytes> Client::beginProof(const NtlmAccount& account) {
  const Bytes nothing;
  const std::string realm = realmOf(account);
  const bool fits = !isNumber(options_.host) && isRealmKnownHere(realm);
  const bool only = options_.proof == ProofKind::Kerberos;
  if (only && realm.empty())
    throw Error(ErrorKind::SignInFailed, "Kerberos needs the account's realm")
        .withCure("Give the name as name@realm, or the realm as its domain.");
  if (only && isNumber(options_.host))
    throw Error(ErrorKind::SignInFailed, "Kerberos needs the machine's name; its number is in no ticket")
        .withCure("Put the name that its realm knows into the address.");
  if (only || (fits && options_.proof == ProofKind::Fitting)) {
    proof_ = kerberosProof(account, options_.host);
    try {
      co_return co_await proof_->next(nothing);
    } catch (const Error& e) {
      if (only || e.kind() != ErrorKind::Unreachable) throw;
      events_.told("signed in with NTLM, since " + e.detail());
    }
  }
  proof_ = ntlmProof(account, options_.clientName);
  co_return co_await proof_->next(nothing);
}

Task<void> Client::proveAccount() {
  const NtlmAccount account = accountOf(*account_, options_.domain);
  const Bytes first = co_await beginProof(account);
  const std::uint32_t version = co_await credSspClient(*stream_, proof_, first, account, serverPublicKey_);
  agreed_.security =
      "TLS, network level authentication (" + proof_->name() + ", CredSSP " + std::to_string(version) + ")";
  proof_.reset();
  if (selected_ != protocol::kHybridEx) co_return;
  // 2.2.10.2 Early User Authorization Result
  Bytes result(4);
  for (std::size_t at = 0; at < 4;) at += co_await stream_->readSome(ByteSpan(result).subspan(at));
  if (loadLe32(result.data()) != 0)
    throw Error(ErrorKind::SignInFailed, "this account may not sign in from afar", peer_);
}

/// 2.2.1.3 to 2.2.1.9, and the security exchange of old services
Task<void> Client::joinChannels() {
  ClientCore core;
  core.width = options_.size.width;
  core.height = options_.size.height;
  core.colours = options_.colours;
  core.scale = options_.scale;
  core.keyboardLayout = options_.keyboardLayout;
  core.clientName = options_.clientName;
  core.selectedProtocol = selected_;
  core.administrative = options_.administrative;
  if (selected_ == protocol::kRdp)
    core.encryptionMethods = encryption::k40 | encryption::k56 | encryption::k128 | encryption::kFips;
  channels_.clear();
  channels_.push_back({"drdynvc", 0x80000000, 0});
  if (options_.clipboard) channels_.push_back({"cliprdr", 0x80000000 | 0x00200000, 0});
  channels_.push_back({kSoundChannel, 0x80000000, 0});
  core.graphicsPipeline = options_.codecs.pipeline && options_.colours == 32;
  core.channels = channels_;
  const Bytes initial = writeConnectInitial(core);
  co_await stream_->write(initial);
  const Bytes response = co_await readPayload();
  const ServerCore server = readConnectResponse(response);
  for (std::size_t i = 0; i < channels_.size() && i < server.channelIds.size(); ++i)
    channels_[i].id = server.channelIds[i];
  ioChannel_ = server.ioChannel;
  messageChannel_ = server.messageChannel;
  legacy_ = selected_ == protocol::kRdp;
  const Bytes erect = erectDomain(), attach = attachUserRequest();
  co_await stream_->write(erect);
  co_await stream_->write(attach);
  const Bytes attached = co_await readPayload();
  user_ = readAttachUserConfirm(attached);
  std::vector<unsigned> join{user_, ioChannel_};
  if (messageChannel_ != 0) join.push_back(messageChannel_);
  for (const StaticChannel& c : channels_)
    if (c.id != 0) join.push_back(c.id);
  for (unsigned id : join) {
    const Bytes request = channelJoinRequest(user_, id);
    co_await stream_->write(request);
    const Bytes confirm = co_await readPayload();
    readChannelJoinConfirm(confirm, id);
  }
  co_await exchangeKeys(server);
  sendClientInfo();
}

/// 5.3.4: the client's random, sealed with the service's key
Task<void> Client::exchangeKeys(const ServerCore& core) {
  security_ = StandardSecurity();
  clientRandom_.clear();
  if (core.encryptionMethod == 0) co_return;
  clientRandom_ = randomBytes(32);
  const Bytes sealedText = rsaEncrypt(keyInServerCertificate(core.certificate), clientRandom_);
  LittleWriter out;
  out.u16(sec::kExchange).u16(0).u32(static_cast<std::uint32_t>(sealedText.size())).bytes(sealedText);
  const Bytes packet = sendData(true, user_, ioChannel_, out.view());
  co_await stream_->write(packet);
  security_ = StandardSecurity(core.encryptionMethod, clientRandom_, core.random, true);
}

void Client::sendClientInfo() {
  ClientInfo info;
  info.performanceFlags = options_.performanceFlags;
  info.program = options_.program;
  info.folder = options_.folder;
  info.sound = !options_.soundThere;
  info.soundThere = options_.soundThere;
  info.packing = options_.packing;
  info.address = "127.0.0.1";
  info.user = options_.user;
  info.domain = options_.domain;
  if (account_) {
    const NtlmAccount account = accountOf(*account_, options_.domain);
    info.user = account.user;
    info.domain = account.domain;
    info.password = account.password;
    info.autoLogon = !account.password.empty();
  }
  if (options_.comeBack) info.reconnectCookie = proofOfCookie(*options_.comeBack, clientRandom_);
  licensing_ = Licensing(info.user, options_.clientName);
  const Bytes body = writeClientInfo(info);
  sendOn(ioChannel_, body, sec::kInfo, true);
}

}  // namespace kw::rdp
