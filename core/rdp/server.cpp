#include "rdp/server.hpp"

#include <algorithm>

#include "rdp/licensing.hpp"

namespace kw::rdp {

namespace {

constexpr std::size_t kMostOutgoing = 64 << 20;
constexpr const char* kDisplayControl = "Microsoft::Windows::RDS::DisplayControl";

}  // namespace

Server::Server(const Executor& strand, std::shared_ptr<Framebuffer> picture, ServerOptions options,
               ServerEvents& events)
    : strand_(strand),
      picture_(std::move(picture)),
      options_(std::move(options)),
      events_(events),
      clipboard_(strand, {[this](Bytes message) { sendChannel("cliprdr", message); },
                          [this](std::shared_ptr<Clip> clip) { events_.clipCame(std::move(clip)); }}),
      dynamic_([this](Bytes message) { sendChannel("drdynvc", message); }, DynamicChannels::End::Service),
      work_(strand) {}

Server::~Server() = default;

Task<void> Server::run(StreamPtr stream) {
  stream_ = std::move(stream);
  co_await negotiate();
  co_await joinChannels();
  in_ = std::make_unique<WireReader>(*stream_);
  co_await firstOf(readMessages(), writeMessages());
}

void Server::close() {
  closed_ = true;
  work_.notify();
  if (stream_) stream_->close();
}

Task<Bytes> Server::readPacket() {
  Bytes packet(4);
  for (std::size_t at = 0; at < 4;) at += co_await stream_->readSome(ByteSpan(packet).subspan(at));
  const std::size_t length = loadBe16(&packet[2]);
  if (packet[0] != 3 || length < 7) protocolBroken("TPKT", "the visitor does not speak RDP");
  packet.resize(length);
  for (std::size_t at = 4; at < length;) at += co_await stream_->readSome(ByteSpan(packet).subspan(at));
  co_return packet;
}

Task<Bytes> Server::readPayload() {
  const Bytes packet = co_await readPacket();
  const ByteView payload = payloadOfData(packet);
  co_return Bytes(payload.begin(), payload.end());
}

Task<void> Server::negotiate() {
  const Bytes first = co_await readPacket();
  const ConnectRequest request = readConnectRequest(first);
  ConnectConfirm confirm;
  confirm.negotiated = true;
  if (options_.network && (request.protocols & (protocol::kHybrid | protocol::kHybridEx)) != 0)
    confirm.chosen = (request.protocols & protocol::kHybridEx) != 0 ? protocol::kHybridEx : protocol::kHybrid;
  else if (options_.tls && (request.protocols & protocol::kSsl) != 0)
    confirm.chosen = protocol::kSsl;
  else if (options_.legacy)
    request.protocols == protocol::kRdp ? void(confirm.negotiated = false) : void(confirm.failure = 2);
  else
    confirm.failure = options_.network ? 5 : 1;
  selected_ = confirm.chosen;
  const Bytes answer = writeConnectConfirm(confirm);
  co_await stream_->write(answer);
  if (confirm.failure != 0) throw Error(ErrorKind::Unsupported, "no kind of security in common");
  if (selected_ == protocol::kRdp) co_return;
  TlsServerOptions tls{options_.certificate.certificatePem, options_.certificate.keyPem};
  stream_ = co_await startTlsServer(std::move(stream_), std::move(tls));
  if (selected_ == protocol::kSsl) co_return;
  std::unique_ptr<ProofCheck> check =
      options_.check ? options_.check() : ntlmCheck(options_.name, options_.account);
  const CredSspVisitor visitor =
      co_await credSspServer(*stream_, std::move(check), publicKeyOfPem(options_.certificate.certificatePem));
  if (!visitor.good) throw Error(ErrorKind::SignInFailed, "wrong name or password");
  account_ = visitor.account;
  if (selected_ == protocol::kHybridEx) {
    const Bytes result(4, 0);
    co_await stream_->write(result);
  }
}

Task<void> Server::joinChannels() {
  Bytes payload = co_await readPayload();
  client_ = readConnectInitial(payload);
  channels_ = client_.channels;
  ServerCore core;
  core.ioChannel = kIo;
  for (std::size_t i = 0; i < channels_.size(); ++i) {
    channels_[i].id = kFirstChannel + static_cast<unsigned>(i);
    core.channelIds.push_back(channels_[i].id);
  }
  if (client_.messageChannel) core.messageChannel = messageChannel_ = kMessages;
  if (selected_ == protocol::kRdp) {
    legacyKey_ = makeRsaPair();
    core.encryptionMethod = options_.fips ? encryption::kFips : encryption::k128;
    core.encryptionLevel = options_.fips ? 4 : 2;  // 5.3.1
    core.random = randomBytes(32);
    core.certificate = ownCertificate(legacyKey_);
  }
  Bytes out = writeConnectResponse(core, client_.selectedProtocol);
  co_await stream_->write(out);
  co_await readPayload();  // erect domain
  co_await readPayload();  // attach user
  out = attachUserConfirm(kUser);
  co_await stream_->write(out);
  for (std::size_t i = 0; i < channels_.size() + (messageChannel_ != 0 ? 3 : 2); ++i) {
    payload = co_await readPayload();
    out = channelJoinConfirm(kUser, readChannelJoinRequest(payload));
    co_await stream_->write(out);
  }
  if (selected_ != protocol::kRdp) co_return;
  payload = co_await readPayload();
  const auto message = readSendData(payload);
  LittleReader in(message ? message->payload : ByteView(), "security exchange");
  in.skip(4);
  const Bytes random = rsaDecrypt(legacyKey_, in.bytes(std::min<std::size_t>(in.u32(), in.left())));
  if (random.size() < 32) protocolBroken("security exchange", "a short random");
  clientRandom_.assign(random.begin(), random.begin() + 32);
  security_ = StandardSecurity(core.encryptionMethod, clientRandom_, core.random, false);
}

Task<void> Server::readMessages() {
  for (;;) {
    co_await in_->need(2);
    const Byte* p = in_->peek();
    if (p[0] == 3) {
      co_await in_->need(4);
      const std::size_t length = loadBe16(in_->peek() + 2);
      if (length < 7) protocolBroken("TPKT", "a packet of " + std::to_string(length) + " bytes");
      co_await in_->need(length);
      const auto message = readSendData(payloadOfData(in_->take(length)));
      if (!message) throw Error(ErrorKind::ClosedByPeer, "the visitor left");
      if (message->channelId == kIo) {
        ioMessage(message->payload);
      } else if (message->channelId == messageChannel_) {
        lineMessage(message->payload);
      } else {
        for (const StaticChannel& c : channels_) {
          if (c.id != message->channelId) continue;
          Bytes body(message->payload.begin(), message->payload.end());
          ByteView chunk = body;
          if (security_.active()) {
            if (body.size() < 4) protocolBroken("security header", "it is cut short");
            chunk = security_.opened(ByteSpan(body).subspan(4), false);
          }
          const auto whole = chunks_[c.id].take(chunk);
          if (whole && c.name == "cliprdr") clipboard_.take(*whole);
          if (whole && c.name == "drdynvc") dynamic_.take(*whole);
        }
      }
      continue;
    }
    std::size_t head = 2, length = p[1];
    if ((p[1] & 0x80) != 0) {
      co_await in_->need(3);
      p = in_->peek();
      length = ((p[1] & 0x7fU) << 8) | p[2];
      head = 3;
    }
    const unsigned first = p[0];
    if ((first & 3) != 0 || length < head) protocolBroken("fast-path", "an unknown kind of packet");
    co_await in_->need(length);
    const ByteView packet = in_->take(length).subspan(head);
    Bytes body(packet.begin(), packet.end());
    ByteView events = body;
    if ((first & 0x80) != 0) {
      if (!security_.active()) protocolBroken("fast-path", "encrypted, though nothing was agreed");
      events = security_.opened(body, false);
    }
    fastInput(first >> 2 & 0xf, events);
  }
}

Task<void> Server::writeMessages() {
  for (;;) {
    while (outgoing_.empty() && !hasPictureToSend() && !closed_) co_await work_.wait();
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    if (outgoing_.empty()) composeUpdate();
    const Bytes now = std::exchange(outgoing_, {});
    co_await stream_->write(now);
    if (ending_) {
      stream_->close();
      throw Error(ErrorKind::Cancelled, "ended here");
    }
  }
}

bool Server::hasPictureToSend() const {
  if (!live_ || reactivating_ || suppressed_ || damage_.empty()) return false;
  return !graphics_ || graphics_->ready();
}

void Server::queue(Bytes packet) {
  if (outgoing_.size() + packet.size() > kMostOutgoing)
    throw Error(ErrorKind::ClosedByPeer, "the visitor takes nothing");
  outgoing_.insert(outgoing_.end(), packet.begin(), packet.end());
  work_.notify();
}

void Server::sendOn(unsigned channelId, ByteView body, unsigned securityFlags) {
  LittleWriter out;
  if (security_.active()) {
    out.u16(securityFlags | sec::kEncrypt).u16(0).bytes(security_.sealed(body));
  } else {
    if (securityFlags != 0) out.u16(securityFlags).u16(0);
    out.bytes(body);
  }
  queue(sendData(false, kUser, channelId, out.view()));
}

void Server::sendChannel(const std::string& name, ByteView message) {
  for (const StaticChannel& c : channels_)
    if (c.name == name)
      for (const Bytes& chunk : chunksOf(message)) sendOn(c.id, chunk);
}

void Server::ioMessage(ByteView payload) {
  Bytes body(payload.begin(), payload.end());
  unsigned flags = 0;
  ByteView message = body;
  if (security_.active() || !informed_) {
    LittleReader in(message, "security header");
    flags = in.u16();
    in.skip(2);
    message = in.rest();
    if ((flags & sec::kEncrypt) != 0) {
      if (!security_.active()) protocolBroken("security header", "encrypted for nobody");
      message = security_.opened(ByteSpan(body).subspan(body.size() - message.size()), false);
    }
  }
  if (!informed_ && (flags & sec::kInfo) != 0) return takeInfo(message);
  const ShareHead head = readShareHead(message);
  if (head.type == share::kData) dataMessage(readDataHead(head.body));
}

bool Server::comesBack(ByteView proof) {
  if (proof.empty() || !options_.comeBacks) return false;
  const auto account = options_.comeBacks->take(proof, clientRandom_);
  cameBack_ = account.has_value();
  lostSession_ = !cameBack_;
  if (account) account_ = *account;
  return cameBack_;
}

/// 2.2.10.1.1.4 with the cookie, or 2.2.4.1 when one was of no use
void Server::tellComingBack() {
  LittleWriter out;
  if (std::exchange(lostSession_, false))
    sendOn(kIo, writeData(shareId_, kServerChannel, data::kArcStatus, out.u32(0).take()));
  if (!options_.comeBacks) return;
  constexpr unsigned kExtended = 3, kCookie = 1;
  constexpr std::size_t kPadding = 570;
  const Bytes cookie = writeComeBackCookie(options_.comeBacks->begin(account_));
  LittleWriter info;
  info.u32(kExtended).u16(static_cast<unsigned>(2 + 4 + 4 + cookie.size())).u32(kCookie);
  info.u32(static_cast<std::uint32_t>(cookie.size())).bytes(cookie).bytes(Bytes(kPadding, 0));
  sendOn(kIo, writeData(shareId_, kServerChannel, data::kSaveSessionInfo, info.view()));
}

/// Without network level authentication the account comes with the client info.
void Server::takeInfo(ByteView body) {
  const ClientInfo info = readClientInfo(body);
  if (selected_ == protocol::kRdp || selected_ == protocol::kSsl) {
    account_ = {info.user, info.domain, info.password};
    const KnownAccount known = options_.account ? options_.account(account_) : KnownAccount{};
    const bool good = known.refusal == 0 && known.password == info.password;
    if (!comesBack(info.reconnectCookie) && !good) return endWith(0x9);
  } else {
    comesBack(info.reconnectCookie);
  }
  informed_ = true;
  events_.informed(info);
  if (options_.compress && info.packing == bulk::kRdp61) wideBulk_.emplace();
  if (options_.compress && info.packing && !wideBulk_) bulk_.emplace(*info.packing != bulk::k8K);
  sendOn(kIo, licenceValidClient(), sec::kLicense);
  if (const auto to = options_.redirect ? options_.redirect(account_) : std::nullopt) {
    const Bytes packet = writeRedirection(*to);
    if (security_.active()) return sendOn(kIo, packet, sec::kRedirection);
    LittleWriter share;
    share.u16(static_cast<unsigned>(packet.size() + 9))
        .u16(share::kServerRedirect | 0x10)
        .u16(kServerChannel);
    return sendOn(kIo, share.u16(0).bytes(packet).u8(0).view());
  }
  demandActive();
}

void Server::demandActive() {
  DemandActive demand;
  demand.shareId = shareId_;
  demand.desktop = picture_->size();
  demand.bitsPerPixel = client_.colours;
  sendOn(kIo, writeDemandActive(demand));
}

void Server::dataMessage(const DataHead& head) {
  LittleWriter out;
  switch (head.type) {
    case data::kSynchronize:
      out.u16(1).u16(kUser);
      return sendOn(kIo, writeData(shareId_, kServerChannel, data::kSynchronize, out.view()));
    case data::kControl: {
      LittleReader in(head.body, "control");
      const unsigned action = in.u16();
      out.u16(action == 1 ? 2 : 4).u16(action == 1 ? kUser : 0).u32(action == 1 ? kServerChannel : 0);
      return sendOn(kIo, writeData(shareId_, kServerChannel, data::kControl, out.view()));
    }
    case data::kFontList:
      out.u16(0).u16(0).u16(3).u16(4);
      sendOn(kIo, writeData(shareId_, kServerChannel, data::kFontMap, out.view()));
      damage_ = Region(picture_->rect());
      reactivating_ = false;
      if (!std::exchange(live_, true)) {
        cameBack_ ? events_.cameBack(account_) : events_.signedIn(account_);
        tellComingBack();
        clipboard_.begin();
        openDynamic();
        dynamic_.begin();
        if (messageChannel_ != 0) {
          asked_ = std::chrono::steady_clock::now();
          sendLine(writeRoundTripRequest(1), sec::kAutoDetectRequest);
        }
      }
      if (cursor_) setCursor(*cursor_);
      if (monitors_.size() > 1 && client_.monitorLayout) {  // 2.2.12.1
        LittleWriter layout;
        writeMonitors(layout.u32(static_cast<std::uint32_t>(monitors_.size())), monitors_);
        sendOn(kIo, writeData(shareId_, kServerChannel, data::kMonitorLayout, layout.view()));
      }
      return;
    case data::kInput: return slowInput(head.body);
    case data::kRefreshRect: damage_ = Region(picture_->rect()); return work_.notify();
    case data::kSuppressOutput:
      suppressed_ = LittleReader(head.body, "suppress output").u8() == 0;
      if (!suppressed_) damage_ = Region(picture_->rect());
      return work_.notify();
    case data::kShutdownRequest:
      return sendOn(kIo, writeData(shareId_, kServerChannel, data::kShutdownDenied, {}));
    default: return;
  }
}

void Server::offerClip(std::shared_ptr<Clip> clip) {
  if (live_) clipboard_.offer(std::move(clip));
}

void Server::bell() {
  LittleWriter body;
  body.u32(200).u32(880);
  if (live_) sendOn(kIo, writeData(shareId_, kServerChannel, data::kPlaySound, body.view()));
}

void Server::endWith(std::uint32_t errorInfo) {
  LittleWriter body;
  body.u32(errorInfo);
  // Before the share is there, nothing but licensing may come; a client takes the reason all the same.
  if (!informed_) {
    informed_ = true;
    sendOn(kIo, licenceValidClient(), sec::kLicense);
  }
  sendOn(kIo, writeData(shareId_, kServerChannel, data::kSetErrorInfo, body.view()));
  ending_ = true;
  work_.notify();
}

// Channels made as they are wanted (MS-RDPEDYC), and the one that measures the line.

void Server::openDynamic() {
  if (options_.allowResize) {
    DynamicChannels::Listener display;
    display.opened = [this] {  // MS-RDPEDISP 2.2.2.1
      LittleWriter out;
      out.u32(5).u32(20).u32(static_cast<std::uint32_t>(options_.mostMonitors)).u32(4096).u32(4096);
      dynamic_.sendOn(kDisplayControl, out.view());
    };
    display.message = [this](ByteView message) { layoutMessage(message); };
    dynamic_.listen(kDisplayControl, std::move(display));
  }
  if (options_.pipeline && client_.graphicsPipeline) {
    DynamicChannels::Listener graphics;
    graphics.opened = [this] {
      graphics_.emplace(picture_, *options_.pipeline,
                        [this](Bytes message) { dynamic_.sendOn(kGraphicsChannel, writeZgfx(message)); });
    };
    graphics.message = [this](ByteView message) {
      const bool before = graphics_->agreed();
      graphics_->take(message);
      if (!before && graphics_->agreed()) {
        if (!monitors_.empty()) graphics_->reset(monitors_);
        damage_ = Region(picture_->rect());
      }
      work_.notify();
    };
    graphics.closed = [this] { graphics_.reset(); };
    dynamic_.listen(kGraphicsChannel, std::move(graphics));
  }
  if (!options_.sound.empty()) {
    DynamicChannels::Listener sound;
    sound.opened = [this] { dynamic_.sendOn(kSoundDynamic, writeSoundFormats(options_.sound)); };
    sound.message = [this](ByteView message) {
      if (!message.empty() && message[0] == 7) soundAgreed_ = true;  // the visitor's formats
    };
    dynamic_.listen(kSoundDynamic, std::move(sound));
  }
}

void Server::playSound(ByteView samples) {
  if (soundAgreed_) dynamic_.sendOn(kSoundDynamic, writeWave2(0, ++waves_ & 0xff, samples));
}

/// MS-RDPEDISP 2.2.2.2
void Server::layoutMessage(ByteView message) {
  LittleReader in(message, "display control");
  if (in.u32() != 2) return;
  in.skip(4 + 4);
  const std::uint32_t count = in.u32();
  if (count == 0 || count > static_cast<std::uint32_t>(options_.mostMonitors)) return;
  std::vector<Rect> monitors;
  for (std::uint32_t i = 0; i < count; ++i) {
    const bool primary = (in.u32() & 1) != 0;
    const int x = in.s32(), y = in.s32();
    const Rect r{x, y, static_cast<int>(in.u32() & 0xffff), static_cast<int>(in.u32() & 0xffff)};
    in.skip(20);
    monitors.insert(primary ? monitors.begin() : monitors.end(), r);
  }
  events_.layoutWanted(monitors);
}

void Server::sendLine(ByteView body, unsigned flags) {
  LittleWriter out;
  if (security_.active()) return sendOn(messageChannel_, body, flags);
  sendOn(messageChannel_, out.u16(flags).u16(0).bytes(body).view());
}

void Server::lineMessage(ByteView payload) {
  if (security_.active()) {  // opened, so that the cipher stays in step
    Bytes body(payload.begin(), payload.end());
    if (body.size() > 4) security_.opened(ByteSpan(body).subspan(4), false);
  }
  LittleReader in(payload, "network characteristics");
  if ((in.u16() & sec::kAutoDetectResponse) == 0) return;
  LineFigures found;
  found.roundTrip =
      std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - asked_) +
      std::chrono::milliseconds(1);
  sendLine(writeLineFigures(2, found), sec::kAutoDetectRequest);
}

void Server::heartbeat(unsigned period, unsigned missed) {
  LittleWriter out;
  if (messageChannel_ != 0) sendLine(out.u8(0).u8(period).u8(missed).u8(missed).view(), sec::kHeartbeat);
}

}  // namespace kw::rdp
