#include "rdp/server.hpp"

#include <algorithm>

#include "rdp/bitmap_codec.hpp"
#include "rdp/input.hpp"
#include "rdp/licensing.hpp"

namespace kw::rdp {

namespace {

constexpr unsigned kUser = 1007, kIo = 1003, kFirstChannel = 1004;
constexpr int kTile = 64;
constexpr std::size_t kMostOutgoing = 4 << 20;
constexpr unsigned kDisplayChannel = 3;  ///< the id of our one dynamic channel
constexpr const char* kDisplayControl = "Microsoft::Windows::RDS::DisplayControl";

}  // namespace

Server::Server(const Executor& strand, std::shared_ptr<Framebuffer> picture, ServerOptions options,
               ServerEvents& events)
    : strand_(strand),
      picture_(std::move(picture)),
      options_(std::move(options)),
      events_(events),
      clipboard_({[this](Bytes message) { sendChannel("cliprdr", message); },
                  [this](const std::string& text) { events_.clipboard(text); }}),
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
  const CredSspVisitor visitor = co_await credSspServer(
      *stream_, options_.name, publicKeyOfPem(options_.certificate.certificatePem), options_.account);
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
    channels_[i].id = kFirstChannel + static_cast<unsigned>(i) + 4;
    core.channelIds.push_back(channels_[i].id);
  }
  if (selected_ == protocol::kRdp) {
    legacyKey_ = makeRsaPair();
    core.encryptionMethod = encryption::k128;
    core.encryptionLevel = 2;
    core.random = randomBytes(32);
    core.certificate = ownCertificate(legacyKey_);
  }
  Bytes out = writeConnectResponse(core, client_.selectedProtocol);
  co_await stream_->write(out);
  co_await readPayload();  // erect domain
  co_await readPayload();  // attach user
  out = attachUserConfirm(kUser);
  co_await stream_->write(out);
  for (std::size_t i = 0; i < channels_.size() + 2; ++i) {
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
  security_ = StandardSecurity(encryption::k128, ByteView(random).first(32), core.random, false);
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
      } else {
        for (const StaticChannel& c : channels_) {
          if (c.id != message->channelId) continue;
          Bytes body(message->payload.begin(), message->payload.end());
          ByteView chunk = body;
          if (security_.active()) {
            security_.open(ByteSpan(body).subspan(12), ByteView(body).subspan(4, 8), false);
            chunk = ByteView(body).subspan(12);
          }
          const auto whole = chunks_[c.id].take(chunk);
          if (whole && c.name == "cliprdr") clipboard_.take(*whole);
          if (whole && c.name == "drdynvc") dynamicMessage(*whole);
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
      if (!security_.active() || body.size() < 8)
        protocolBroken("fast-path", "encrypted, though nothing was agreed");
      security_.open(ByteSpan(body).subspan(8), ByteView(body).first(8), false);
      events = ByteView(body).subspan(8);
    }
    fastInput(first >> 2 & 0xf, events);
  }
}

Task<void> Server::writeMessages() {
  for (;;) {
    while (outgoing_.empty() && !(live_ && !reactivating_ && !suppressed_ && !damage_.empty()) && !closed_)
      co_await work_.wait();
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

void Server::queue(Bytes packet) {
  if (outgoing_.size() + packet.size() > kMostOutgoing)
    throw Error(ErrorKind::ClosedByPeer, "the visitor takes nothing");
  outgoing_.insert(outgoing_.end(), packet.begin(), packet.end());
  work_.notify();
}

void Server::sendOn(unsigned channelId, ByteView body, unsigned securityFlags) {
  LittleWriter out;
  if (security_.active()) {
    Bytes text(body.begin(), body.end());
    const Bytes signature = security_.protect(text);
    out.u16(securityFlags | sec::kEncrypt).u16(0).bytes(signature).bytes(text);
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
      if (!security_.active() || message.size() < 8)
        protocolBroken("security header", "encrypted for nobody");
      const std::size_t at = body.size() - message.size();
      security_.open(ByteSpan(body).subspan(at + 8), message.first(8), false);
      message = message.subspan(8);
    }
  }
  if (!informed_ && (flags & sec::kInfo) != 0) return takeInfo(message);
  const ShareHead head = readShareHead(message);
  if (head.type == share::kData) dataMessage(readDataHead(head.body));
}

/// Without network level authentication the account comes with the client info.
void Server::takeInfo(ByteView body) {
  const ClientInfo info = readClientInfo(body);
  if (selected_ == protocol::kRdp || selected_ == protocol::kSsl) {
    account_ = {info.user, info.domain, info.password};
    const CredSspAnswer known = options_.account ? options_.account(account_) : CredSspAnswer{};
    if (known.refusal != 0 || known.password != info.password) return endWith(0x9);
  }
  informed_ = true;
  sendOn(kIo, licenceValidClient(), sec::kLicense);
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
        events_.signedIn(account_);
        clipboard_.begin();
        LittleWriter hello;  // MS-RDPEDYC 2.2.1.1
        hello.u8(0x50).u8(0).u16(1);
        sendChannel("drdynvc", hello.view());
      }
      if (cursor_) setCursor(*cursor_);
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

void Server::mouse(unsigned flags, Point at) {
  at_ = at;
  const auto button = [&](unsigned flag, unsigned bit) {
    if ((flags & flag) != 0) buttons_ = (flags & mouse::kDown) != 0 ? buttons_ | bit : buttons_ & ~bit;
  };
  if ((flags & mouse::kWheel) != 0) {
    const unsigned bit = (flags & mouse::kWheelNegative) != 0 ? 16 : 8;
    events_.pointer(at, buttons_ | bit);
    events_.pointer(at, buttons_);
    return;
  }
  if ((flags & mouse::kHorizontalWheel) != 0) {
    const unsigned bit = (flags & mouse::kWheelNegative) != 0 ? 32 : 64;
    events_.pointer(at, buttons_ | bit);
    events_.pointer(at, buttons_);
    return;
  }
  button(mouse::kLeft, 1);
  button(mouse::kMiddle, 2);
  button(mouse::kRight, 4);
  events_.pointer(at, buttons_);
}

void Server::fastInput(unsigned count, ByteView body) {
  LittleReader in(body, "input");
  if (count == 0) count = in.u8();
  for (unsigned i = 0; i < count; ++i) {
    const unsigned head = in.u8(), code = head >> 5, flags = head & 0x1f;
    if (code == 0) {
      const std::uint32_t key = in.u8();
      events_.scanCode(key | ((flags & 2) != 0   ? 0xe000U
                              : (flags & 4) != 0 ? 0xe100U
                                                 : 0U),
                       (flags & 1) == 0);
    } else if (code == 1 || code == 2) {
      const unsigned pointer = in.u16();
      const int x = in.u16(), y = in.u16();
      if (code == 1) {
        mouse(pointer, {x, y});
      } else {
        const unsigned bit = (pointer & mouse::kSide1) != 0 ? 128 : 256;
        buttons_ = (pointer & mouse::kDown) != 0 ? buttons_ | bit : buttons_ & ~bit;
        events_.pointer({x, y}, buttons_);
      }
    } else if (code == 4) {
      events_.character(in.u16(), (flags & 1) == 0);
    } else if (code != 3) {
      protocolBroken("input", "event kind " + std::to_string(code));
    }
  }
}

/// 2.2.8.1.1.3
void Server::slowInput(ByteView body) {
  LittleReader in(body, "input");
  const unsigned count = in.u16();
  in.skip(2);
  for (unsigned i = 0; i < count; ++i) {
    in.skip(4);
    const unsigned type = in.u16(), flags = in.u16(), a = in.u16(), b = in.u16();
    if (type == 4)
      events_.scanCode((a & 0xff) | ((flags & 0x100) != 0 ? 0xe000U : 0U), (flags & 0x8000) == 0);
    if (type == 5) events_.character(a, (flags & 0x8000) == 0);
    if (type == 0x8001) mouse(flags, {static_cast<int>(a), static_cast<int>(b)});
  }
}

// The picture.

void Server::damaged(const Region& region) {
  damage_.add(region);
  if (live_) work_.notify();
}

/// 2.2.3.1: the share is ended and begun anew with the new size.
void Server::resized() {
  if (!live_) return;
  damage_.clear();
  reactivating_ = true;
  LittleWriter out;
  out.u32(shareId_).u16(1).u8(0);
  LittleWriter head;
  head.u16(static_cast<unsigned>(out.size() + 6))
      .u16(share::kDeactivateAll | 0x10)
      .u16(kServerChannel)
      .bytes(out.view());
  sendOn(kIo, head.view());
  demandActive();
}

void Server::fast(unsigned code, ByteView body) {
  constexpr std::size_t kMost = 16000;
  std::size_t at = 0;
  do {
    const std::size_t n = std::min(kMost, body.size() - at);
    const bool first = at == 0, last = at + n == body.size();
    const unsigned fragment = first && last ? 0 : first ? 2 : last ? 1 : 3;
    LittleWriter inner;
    inner.u8(code | (fragment << 4)).u16(static_cast<unsigned>(n)).bytes(body.subspan(at, n));
    Bytes text = inner.take();
    LittleWriter out;
    const std::size_t extra = security_.active() ? 8 : 0;
    out.u8(security_.active() ? 0x80 : 0).be16(static_cast<unsigned>(0x8000 | (text.size() + extra + 3)));
    if (security_.active()) {
      const Bytes signature = security_.protect(text);
      out.bytes(signature);
    }
    out.bytes(text);
    queue(out.take());
    at += n;
  } while (at < body.size());
}

void Server::composeUpdate() {
  const Region now = std::exchange(damage_, {});
  const auto lock = picture_->lock();
  for (const Rect& rect : now.rects()) {
    const Rect r = rect.intersected(picture_->rect());
    for (int y = r.y; y < r.bottom(); y += kTile)
      for (int x = r.x; x < r.right(); x += kTile)
        tile({x, y, std::min(kTile, r.right() - x), std::min(kTile, r.bottom() - y)});
  }
}

/// One bitmap; with fewer than 32 bits its width is a multiple of four (2.2.9.1.1.3.1.2.2).
void Server::tile(const Rect& area) {
  const int bits = client_.colours;
  Bytes data;
  int width = area.width;
  if (bits == 32) {
    data = encodePlanar(picture_->at(area.x, area.y), picture_->stride(), area.width, area.height, true);
  } else {
    width = (area.width + 3) / 4 * 4;
    PixelFormat format = PixelFormat::native();
    if (bits == 16) format = PixelFormat::rgb565();
    if (bits == 15)
      format = PixelFormat::rgb565(), format.redShift = 10, format.greenMax = 31, format.redMax = 31;
    if (bits == 24) format.bitsPerPixel = 24;
    const PixelWriter writer(format);
    const std::size_t row = static_cast<std::size_t>(width) * writer.bytesPerPixel();
    Bytes pixels(row * static_cast<std::size_t>(area.height));
    for (int y = 0; y < area.height; ++y)
      writer.many(picture_->at(area.x, area.bottom() - 1 - y),
                  pixels.data() + static_cast<std::size_t>(y) * row, static_cast<std::size_t>(area.width));
    data = encodeInterleaved(pixels.data(), width, area.height, static_cast<int>(writer.bytesPerPixel()));
  }
  LittleWriter body;
  body.u16(1).u16(1);
  body.u16(static_cast<unsigned>(area.x)).u16(static_cast<unsigned>(area.y));
  body.u16(static_cast<unsigned>(area.right() - 1)).u16(static_cast<unsigned>(area.bottom() - 1));
  body.u16(static_cast<unsigned>(width))
      .u16(static_cast<unsigned>(area.height))
      .u16(static_cast<unsigned>(bits));
  body.u16(0x401).u16(static_cast<unsigned>(data.size())).bytes(data);
  fast(update::kBitmap, body.view());
}

void Server::setCursor(Cursor cursor) {
  cursor_ = cursor;
  if (!live_) return;
  const std::size_t maskRow = (static_cast<std::size_t>(cursor.size.width) + 15) / 16 * 2;
  LittleWriter colours, mask;
  for (int y = cursor.size.height - 1; y >= 0; --y) {
    Bytes bits(maskRow, 0);
    for (int x = 0; x < cursor.size.width; ++x) {
      const Pixel p = cursor.pixels[static_cast<std::size_t>(y * cursor.size.width + x)];
      colours.u32(p);
      if (p >> 24 == 0) bits[static_cast<std::size_t>(x) / 8] |= static_cast<Byte>(0x80 >> (x % 8));
    }
    mask.bytes(bits);
  }
  LittleWriter body;
  body.u16(32)
      .u16(0)
      .u16(static_cast<unsigned>(cursor.hotspot.x))
      .u16(static_cast<unsigned>(cursor.hotspot.y));
  body.u16(static_cast<unsigned>(cursor.size.width)).u16(static_cast<unsigned>(cursor.size.height));
  body.u16(static_cast<unsigned>(mask.size())).u16(static_cast<unsigned>(colours.size()));
  body.bytes(colours.view()).bytes(mask.view());
  fast(update::kPointerNew, body.view());
}

void Server::setClipboard(const std::string& utf8) {
  if (live_) clipboard_.offer(utf8);
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

/// The one dynamic channel there is (MS-RDPEDYC 2.2, MS-RDPEDISP 2.2.2).
void Server::dynamicMessage(ByteView message) {
  LittleReader in(message, "dynamic channel");
  const unsigned command = in.u8() >> 4;
  LittleWriter out;
  if (command == 5 && options_.allowResize) {
    out.u8(0x10).u8(kDisplayChannel).text(std::string(kDisplayControl) + '\0');
    sendChannel("drdynvc", out.view());
  } else if (command == 1 && in.left() >= 5) {
    in.skip(1);
    displayOpen_ = in.u32() == 0;
    if (!displayOpen_) return;
    out.u8(0x30).u8(kDisplayChannel).u32(5).u32(20).u32(1).u32(4096).u32(4096);
    sendChannel("drdynvc", out.view());
  } else if (command == 3 && displayOpen_ && in.left() >= 1 + 16 + 40) {
    in.skip(1);
    if (in.u32() != 2) return;
    in.skip(4 + 4);
    if (in.u32() == 0) return;
    in.skip(12);
    const Size size{static_cast<int>(in.u32() & 0xffff), static_cast<int>(in.u32() & 0xffff)};
    events_.sizeWanted(size);
  }
}

}  // namespace kw::rdp
