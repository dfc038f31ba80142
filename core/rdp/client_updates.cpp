// What comes from the service once the channels are joined.
#include <algorithm>
#include <chrono>

#include "rdp/client.hpp"

namespace kw::rdp {

/// Takes the security header off, and opens what is encrypted (2.2.8.1.1.2).
ByteView Client::withoutSecurity(ByteView payload, unsigned& flags) {
  LittleReader in(payload, "security header");
  flags = in.u16();
  in.skip(2);
  if ((flags & sec::kEncrypt) == 0 || !security_.active()) return in.rest();
  const ByteView rest = in.rest();
  // The reader's own buffer is opened in place; it is ours until the next message.
  return security_.opened({const_cast<Byte*>(rest.data()), rest.size()}, (flags & sec::kSecureChecksum) != 0);
}

void Client::slowPath(ByteView packet) {
  const auto message = readSendData(payloadOfData(packet));
  if (!message) throw Error(ErrorKind::ClosedByPeer, "the service ended the session", peer_);
  if (message->channelId == ioChannel_) return ioMessage(message->payload);
  if (message->channelId == messageChannel_ && messageChannel_ != 0) return lineMessage(message->payload);
  unsigned flags = 0;
  channelMessage(message->channelId,
                 security_.active() ? withoutSecurity(message->payload, flags) : message->payload);
}

/// The message channel: measuring the line, and signs of life. Its messages always have a security header.
void Client::lineMessage(ByteView payload) {
  unsigned flags = 0;
  const ByteView body = withoutSecurity(payload, flags);
  if ((flags & sec::kAutoDetectRequest) != 0) {
    const auto answer = autoDetect_.take(body, in_->offset(), clock_->now().time_since_epoch());
    if (answer) sendOn(messageChannel_, *answer, sec::kAutoDetectResponse, true);
  } else if ((flags & sec::kHeartbeat) != 0) {  // 2.2.16.1
    LittleReader in(body, "heartbeat");
    in.skip(1);
    const int period = in.u8();
    in.skip(1);
    mostSilence_ = std::chrono::seconds(period * in.u8());
  }
}

/// A service that promised signs of life and gives none is gone, although the line does not say so.
Task<void> Client::watchHeartbeat() {
  std::uint64_t seen = 0;
  for (std::chrono::seconds silent{};;) {
    constexpr std::chrono::seconds kLook{1};
    co_await clock_->sleep(kLook);
    silent = in_->offset() == seen ? silent + kLook : std::chrono::seconds{};
    seen = in_->offset();
    if (mostSilence_.count() > 0 && silent > mostSilence_)
      throw Error(ErrorKind::ClosedByPeer, "the service gives no sign of life any more", peer_);
  }
}

void Client::ioMessage(ByteView payload) {
  ByteView body = payload;
  unsigned flags = 0;
  // Before licensing is over every message has a security header; afterwards only with old security.
  if (legacy_ || !licensing_.done()) body = withoutSecurity(payload, flags);
  // A service that leaves licensing out begins with the share at once, without a header: its length stands
  // there.
  constexpr unsigned kWithLicence = sec::kLicense | sec::kEncrypt | 0x200;
  if (!legacy_ && (flags & ~kWithLicence) != 0) return shareMessage(payload);
  if ((flags & sec::kLicense) != 0) {
    if (const auto answer = licensing_.take(body)) sendOn(ioChannel_, *answer, sec::kLicense, true);
    return;
  }
  if ((flags & sec::kRedirection) != 0) return redirected(body);
  shareMessage(body);
}

void Client::redirected(ByteView packet) {
  Redirection to = readRedirection(packet);
  if (to.onlyTold) return;
  stream_->close();
  throw SentElsewhere(std::move(to), peer_);
}

void Client::shareMessage(ByteView bytes) {
  const ShareHead head = readShareHead(bytes);
  switch (head.type) {
    case share::kDemandActive: return demandActive(head.body);
    case share::kDeactivateAll: finalized_ = false; return;
    case share::kData: return dataMessage(readDataHead(head.body));
    case share::kServerRedirect: {  // 2.2.13.3.1: two bytes of padding first
      LittleReader in(head.body, "redirection");
      in.skip(2);
      return redirected(in.rest());
    }
    default: return;
  }
}

/// 1.3.1.1: also again whenever the desktop changes its size.
void Client::demandActive(ByteView body) {
  server_ = readDemandActive(body);
  shareId_ = server_.shareId;
  Size size = server_.desktop.empty() ? options_.size : server_.desktop;
  if (!pictureSizeAllowed(size)) protocolBroken("demand active", "a desktop of an impossible size");
  ClientAbilities abilities;
  abilities.desktop = size;
  abilities.bitsPerPixel = options_.colours;
  abilities.keyboardLayout = options_.keyboardLayout;
  abilities.orders = options_.codecs.orders;
  abilities.mostFastPath = server_.mostFastPath;
  abilities.remoteFx = options_.codecs.remoteFx;
  abilities.nsCodec = options_.codecs.nsCodec;
  sendOn(ioChannel_, writeConfirmActive(shareId_, user_, abilities));
  for (const Bytes& message : finalization(shareId_, user_)) sendOn(ioChannel_, message);
  if (size != picture_->size()) {
    const auto lock = picture_->lock();
    picture_->resize(size);
  }
  cursors_.clear();
  orders_.reset();
  inFragments_ = false;
  if (!std::exchange(live_, true)) events_.opened(agreed_);
  pictureHas(size, {});
  events_.cursorChanged(usualPointer());
}

void Client::dataMessage(DataHead head) {
  head.body = bulk_.open(head.compression, head.body);
  switch (head.type) {
    case data::kUpdate: return slowUpdate(head.body);
    case data::kPointer: return slowPointer(head.body);
    case data::kFontMap:  // 2.2.1.22: input is taken from here on
      finalized_ = true;
      input_.locks(0);
      outgoingSignal_.notify();
      if (std::exchange(paused_, false)) pauseUpdates(true);
      return;
    case data::kSetErrorInfo: errorInfo_ = LittleReader(head.body, "error info").u32(); return;
    case data::kPlaySound: return events_.bell();
    case data::kSetKeyboardIndicators: {
      LittleReader in(head.body, "keyboard indicators");
      in.skip(2);
      return events_.lockKeys(in.u16() & 7);
    }
    case data::kMonitorLayout: return monitorLayout(head.body);
    case data::kSaveSessionInfo: return sessionInfo(head.body);
    case data::kArcStatus:
      return events_.told("The session from before the cut is not there any more; this is a new one.");
    case data::kShutdownDenied:
      return events_.told("The machine did not let the session end: somebody is signed in.");
    default: return;
  }
}

/// 2.2.10.1: who signed in does not matter here; why somebody could not, does.
void Client::sessionInfo(ByteView body) {
  LittleReader in(body, "session info");
  if (in.u32() != 3 || in.left() < 6) return;
  in.skip(2);
  const std::uint32_t fields = in.u32();
  if ((fields & 1) != 0) {  // 2.2.4.2 the cookie for coming back
    in.skip(4);
    events_.canComeBack(readComeBackCookie(in.bytes(28)));
  }
  if ((fields & 2) != 0 && in.left() >= 12) {
    in.skip(4);
    const std::uint32_t type = in.u32(), error = in.u32();
    if (type == 0xffffffff) return;  // 2.2.10.1.1.4.1.1: it goes on
    if (error == 0xc0000071 || error == 0xc0000224)
      events_.told("The password has expired: the machine asks for a new one.");
  }
}

void Client::slowUpdate(ByteView body) {
  LittleReader in(body, "update");
  switch (in.u16()) {
    case update::kBitmap: return bitmapUpdate(body);
    case update::kPalette: return updates_.palette(body);
    case update::kOrders: {  // 2.2.9.1.1.3.1.1: with room around the count
      in.skip(2);
      const unsigned count = in.u16();
      in.skip(2);
      return drawOrders(in.rest(), count);
    }
    default: return;
  }
}

void Client::slowPointer(ByteView body) {
  LittleReader in(body, "pointer");
  const unsigned type = in.u16();  // 2.2.9.1.1.4 messageType
  in.skip(2);
  if (type == 1) return pointerUpdate(in.u32() == 0 ? update::kPointerHidden : update::kPointerDefault, {});
  if (type == 3) return pointerUpdate(update::kPointerPosition, in.rest());
  if (type == 6) return pointerUpdate(update::kPointerColour, in.rest());
  if (type == 7) return pointerUpdate(update::kPointerCached, in.rest());
  if (type == 8) return pointerUpdate(update::kPointerNew, in.rest());
  if (type == 9) return pointerUpdate(update::kPointerLarge, in.rest());
}

void Client::channelMessage(unsigned id, ByteView chunk) {
  for (const StaticChannel& c : channels_) {
    if (c.id != id || c.id == 0) continue;
    const auto message = chunks_[id].take(chunk);
    if (!message) return;
    if (c.name == "cliprdr") clipboard_.take(*message);
    if (c.name == "drdynvc") dynamic_.take(*message);
    if (c.name == kSoundChannel) sound_->take(*message);
  }
}

/// 2.2.9.1.2
void Client::fastPath(ByteView head, ByteView body) {
  const unsigned flags = head[0] >> 6;
  if ((flags & 2) != 0) {
    if (!security_.active()) protocolBroken("fast-path", "encrypted, though nothing was agreed");
    body = security_.opened({const_cast<Byte*>(body.data()), body.size()}, (flags & 1) != 0);
  }
  LittleReader in(body, "fast-path update");
  while (!in.atEnd()) {
    const unsigned header = in.u8();
    const unsigned compression = (header >> 6 & 2) != 0 ? in.u8() : 0;
    const std::size_t length = in.u16();
    const ByteView data = bulk_.open(compression, in.bytes(length));
    const unsigned code = header & 0xf, fragment = header >> 4 & 3;
    if (fragment == 0) {
      fastUpdate(code, data);
      continue;
    }
    if (fragment == 2) {  // the first one
      fragments_.clear();
      fragmentCode_ = code;
      inFragments_ = true;
    }
    if (!inFragments_ || code != fragmentCode_)
      protocolBroken("fast-path update", "a part without its beginning");
    if (fragments_.size() + data.size() > kMostFragments)
      protocolBroken("fast-path update", "its parts have no end");
    fragments_.insert(fragments_.end(), data.begin(), data.end());
    if (fragment == 1) {
      inFragments_ = false;
      fastUpdate(code, fragments_);
    }
  }
}

void Client::fastUpdate(unsigned code, ByteView body) {
  switch (code) {
    case update::kBitmap: return bitmapUpdate(body);
    case update::kPalette: return updates_.palette(body);
    case update::kSynchronize: return;
    case update::kOrders: {
      LittleReader in(body, "orders");
      const unsigned count = in.u16();
      return drawOrders(in.rest(), count);
    }
    case update::kSurfaceCommands: return surfaceCommands(body);
    default: return pointerUpdate(code, body);
  }
}

void Client::bitmapUpdate(ByteView body) {
  if (!live_) return;
  shown(updates_.bitmaps(body));
}

void Client::drawOrders(ByteView orders, unsigned count) {
  if (!options_.codecs.orders)
    throw Error(ErrorKind::Unsupported, "the service draws with orders although none was asked for", peer_);
  if (live_)
    shown(orders_.take(orders, count, static_cast<unsigned>(server_.bitsPerPixel), updates_.colours()));
}

void Client::surfaceCommands(ByteView body) {
  if (live_) shown(surfaces_.take(body));
}

void Client::shown(const Region& damage) {
  ++figures_.frames;
  if (keySent_) {
    figures_.keyToPicture = clock_->now() - *keySent_;
    keySent_.reset();
  }
  if (!damage.empty()) events_.damaged(damage);
}

void Client::pointerUpdate(unsigned code, ByteView body) {
  LittleReader in(body, "pointer");
  const auto take = [&](PointerKind kind) {
    PointerMessage message = readPointer(in, kind, updates_.colours());
    if (message.cacheIndex < kMostCachedPointers) cursors_[message.cacheIndex] = message.cursor;
    events_.cursorChanged(message.cursor);
  };
  switch (code) {
    case update::kPointerHidden: return events_.cursorChanged({});
    case update::kPointerDefault: return events_.cursorChanged(usualPointer());
    case update::kPointerPosition: {
      const int x = in.u16();
      return events_.pointerMoved({x, in.u16()});
    }
    case update::kPointerColour: return take(PointerKind::Colour);
    case update::kPointerNew: return take(PointerKind::New);
    case update::kPointerLarge: return take(PointerKind::Large);
    case update::kPointerCached: {
      const auto found = cursors_.find(in.u16());
      if (found != cursors_.end()) events_.cursorChanged(found->second);
      return;
    }
    default: return;
  }
}

}  // namespace kw::rdp
