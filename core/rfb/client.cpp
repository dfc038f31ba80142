#include "rfb/client.hpp"

#include "rfb/constants.hpp"

namespace kw::rfb {

PixelFormat formatOfColours(int bits) {
  if (bits == 8) return PixelFormat::rgb332();
  return bits == 15 || bits == 16 ? PixelFormat::rgb565() : PixelFormat::native();
}

namespace {
constexpr Byte kFormatFence = 'f';  ///< the payload of fences before a change of format

/// Best first: what a modern server compresses well, then what every server has.
const std::vector<std::int32_t>& usualEncodings() {
  static const std::vector<std::int32_t> order{
      encoding::kCopyRect, encoding::kTight, encoding::kZrle,     encoding::kTrle,
      encoding::kHextile,  encoding::kZlib,  encoding::kOpenH264, encoding::kJpeg,
      encoding::kRre,      encoding::kCoRre, encoding::kRaw,
  };
  return order;
}
}  // namespace

Client::Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
               ClientOptions options, ClientEvents& events)
    : strand_(strand),
      clock_(std::move(clock)),
      picture_(std::move(picture)),
      options_(std::move(options)),
      events_(events),
      decoder_(options_.format),
      outgoingSignal_(strand) {}

Client::~Client() = default;

Task<void> Client::run(StreamPtr stream) {
  HandshakeResult result = co_await shakeHands(std::move(stream), options_.host, options_.security, events_);
  stream_ = std::move(result.stream);
  if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
  in_ = std::make_unique<WireReader>(*stream_);
  const Bytes clientInit(1, static_cast<Byte>(options_.shared ? 1 : 0));
  co_await stream_->write(clientInit);
  co_await in_->need(24);
  Size size;
  size.width = in_->u16();
  size.height = in_->u16();
  (void)PixelFormat::parse(in_->take(16));
  const std::uint32_t nameLength = in_->u32();
  if (nameLength > kMostName)
    protocolBroken("ServerInit", "a name of " + std::to_string(nameLength) + " bytes");
  const std::string name = co_await in_->readText(nameLength);
  events_.opened(cleanUtf8(name), result.security, stream_->sealed());
  resizePicture(size, {});
  sendPixelFormat(options_.format);
  sendEncodings();
  live_ = true;
  requestUpdate(false);
  co_await firstOf(readMessages(), writeMessages());
}

void Client::close() {
  closed_ = true;
  live_ = false;
  if (stream_) stream_->close();
  outgoingSignal_.notify();
}

Task<void> Client::writeMessages() {
  for (;;) {
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    flushPointer();
    if (outgoing_.empty()) {
      co_await outgoingSignal_.wait();
      continue;
    }
    Bytes now;
    now.swap(outgoing_);
    figures_.bytesOut += now.size();
    co_await stream_->write(now);
  }
}

void Client::queue(ByteWriter message) {
  if (closed_) return;
  flushPointer();
  const ByteView bytes = message.view();
  outgoing_.insert(outgoing_.end(), bytes.begin(), bytes.end());
  outgoingSignal_.notify();
}

Task<void> Client::readMessages() {
  for (;;) {
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    co_await in_->need(1);
    const unsigned type = in_->u8();
    switch (type) {
      case server_message::kFramebufferUpdate: co_await framebufferUpdate(); break;
      case server_message::kSetColourMapEntries: co_await colourMap(); break;
      case server_message::kBell: events_.bell(); break;
      case server_message::kServerCutText: co_await serverCutText(); break;
      case server_message::kEndOfContinuousUpdates:
        if (!abilities_.continuousUpdates) {
          abilities_.continuousUpdates = true;
          events_.abilitiesChanged(abilities_);
          if (options_.continuousUpdates && !paused_) enableContinuous(true);
        } else if (continuous_) {
          continuous_ = false;  // the peer stopped by itself: go back to asking
          requestUpdate(true);
        }
        break;
      case server_message::kFence: co_await fenceMessage(); break;
      case server_message::kXvp: co_await xvpMessage(); break;
      case server_message::kQemu: co_await qemuMessage(); break;
      default:
        protocolBroken("server message", "unknown type " + std::to_string(type) + " at offset " +
                                             std::to_string(in_->offset() - 1));
    }
  }
}

// RFC 6143 7.6.1. The next update is asked for before this one is decoded.
Task<void> Client::framebufferUpdate() {
  co_await in_->need(3);
  in_->take(1);
  const unsigned count = in_->u16();
  updateAsked_ = false;
  if (!pendingFormat_) askForNext();
  Region damage;
  for (unsigned i = 0; i < count || count == 0xffff; ++i) {
    const bool more = co_await rectangle(damage);
    if (!more) break;
  }
  if (!damage.empty()) {
    ++figures_.frames;
    if (keySent_) {
      figures_.keyToPicture = clock_->now() - *keySent_;
      keySent_.reset();
    }
    events_.damaged(damage);
  }
  if (pendingFormat_) applyPendingFormat();
  if (fullUpdateDue_ && !paused_) {
    fullUpdateDue_ = false;
    requestUpdate(false);
  }
}

void Client::askForNext() {
  if (continuous_ || paused_ || updateAsked_) return;
  requestUpdate(true);
}

Task<bool> Client::rectangle(Region& damage) {
  co_await in_->need(12);
  Rect header;
  header.x = in_->u16(), header.y = in_->u16(), header.width = in_->u16(), header.height = in_->u16();
  const std::int32_t encoding = in_->s32();
  if (encoding == encoding::kLastRect) co_return false;
  if (!RectDecoder::knows(encoding)) co_return co_await pseudoRectangle(encoding, header);
  if (!picture_->rect().contains(header))
    protocolBroken("FramebufferUpdate", "a rectangle of " + std::to_string(header.width) + "x" +
                                            std::to_string(header.height) + " at " +
                                            std::to_string(header.x) + "," + std::to_string(header.y) +
                                            " leaves the picture of " + std::to_string(picture_->width()) +
                                            "x" + std::to_string(picture_->height()));
  co_await decoder_.decode(encoding, header, *in_, *picture_);
  ++figures_.rectangles;
  ++figures_.rectanglesByEncoding[encoding];
  damage.add(header);
  co_return true;
}

void Client::resizePicture(Size size, std::vector<Screen> screens) {
  if (!pictureSizeAllowed(size))
    protocolBroken("DesktopSize", "a picture of " + std::to_string(size.width) + "x" +
                                      std::to_string(size.height) + " is outside the limits");
  if (screens.empty()) screens.push_back({0, {0, 0, size.width, size.height}, 0});
  const bool sameSize = picture_->size() == size;
  if (sameSize && screens == screens_) return;
  {
    auto lock = picture_->lock();
    picture_->resize(size);
  }
  screens_ = std::move(screens);
  events_.pictureResized(size, screens_);
  if (!live_ || sameSize) return;
  if (continuous_) enableContinuous(true);
  fullUpdateDue_ = true;
}

void Client::requestUpdate(bool incremental) {
  const Size size = picture_->size();
  ByteWriter message;
  message.u8(client_message::kFramebufferUpdateRequest).u8(incremental ? 1 : 0).u16(0).u16(0);
  message.u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
  updateAsked_ = true;
  queue(std::move(message));
}

void Client::refresh() {
  if (live_) requestUpdate(false);
}

void Client::pauseUpdates(bool paused) {
  if (paused == paused_) return;
  paused_ = paused;
  if (!live_) return;
  if (paused) {
    if (continuous_) enableContinuous(false);
  } else {
    if (abilities_.continuousUpdates && options_.continuousUpdates) enableContinuous(true);
    requestUpdate(true);
  }
}

void Client::enableContinuous(bool on) {
  continuous_ = on;
  const Size size = picture_->size();
  ByteWriter message;
  message.u8(client_message::kEnableContinuousUpdates).u8(on ? 1 : 0).u16(0).u16(0);
  message.u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
  queue(std::move(message));
}

void Client::sendPixelFormat(const PixelFormat& format) {
  ByteWriter message;
  message.u8(client_message::kSetPixelFormat).zeros(3).bytes(format.serialize());
  queue(std::move(message));
}

/// Pixels in flight are still in the old format. A fence marks where the new one begins; without fences the
/// change waits until no update is outstanding.
void Client::setFormat(const PixelFormat& format) {
  if (!live_) {
    options_.format = format;
    decoder_.setFormat(format);
    return;
  }
  const PixelFormat& last = !fencedFormats_.empty() ? fencedFormats_.back() : options_.format;
  if (format == last && !pendingFormat_) return;
  if (abilities_.fence) {
    sendFormatBehindFence(format);
    return;
  }
  pendingFormat_ = format;
  if (updateAsked_)
    requestUpdate(false);  // makes the peer answer even when its picture stands still
  else
    applyPendingFormat();
}

// Registry, Fence: with SyncNext, what comes before the answer is not touched by the next message, what comes
// after it is.
void Client::sendFormatBehindFence(const PixelFormat& format) {
  ByteWriter message;
  message.u8(client_message::kFence).zeros(3);
  message.u32(fence::kRequest | fence::kBlockBefore | fence::kSyncNext).u8(1).u8(kFormatFence);
  message.u8(client_message::kSetPixelFormat).zeros(3).bytes(format.serialize());
  fencedFormats_.push_back(format);
  queue(std::move(message));
}

void Client::takeFormat(const PixelFormat& format) {
  options_.format = format;
  decoder_.setFormat(format);
  requestUpdate(false);
}

void Client::applyPendingFormat() {
  if (!pendingFormat_) return;
  const PixelFormat format = *pendingFormat_;
  pendingFormat_.reset();
  sendPixelFormat(format);
  takeFormat(format);
}

void Client::setQuality(int quality, int compression) {
  options_.quality = quality;
  options_.compression = compression;
  if (live_) sendEncodings();
}

void Client::setEncodings(std::vector<std::int32_t> encodings) {
  options_.encodings = std::move(encodings);
  if (live_) sendEncodings();
}

void Client::sendEncodings() {
  std::vector<std::int32_t> list = options_.encodings.empty() ? usualEncodings() : options_.encodings;
  const auto add = [&](std::int32_t e) { list.push_back(e); };
  for (std::int32_t e :
       {encoding::kAlphaCursor, encoding::kCursor, encoding::kXCursor, encoding::kPointerPosition,
        encoding::kDesktopSize, encoding::kExtendedDesktopSize, encoding::kLastRect, encoding::kDesktopName,
        encoding::kFence, encoding::kContinuousUpdates, encoding::kLedState, encoding::kLedStateOld,
        encoding::kExtendedKey, encoding::kRelativePointer, encoding::kXvp, encoding::kAudio})
    add(e);
  if (options_.clipboard) add(encoding::kExtendedClipboard);
  if (options_.quality >= 0) add(encoding::kQualityLowest + std::min(options_.quality, 9));
  if (options_.compression >= 0) add(encoding::kCompressionLowest + std::min(options_.compression, 9));
  ByteWriter message;
  message.u8(client_message::kSetEncodings).u8(0).u16(static_cast<unsigned>(list.size()));
  for (std::int32_t e : list) message.s32(e);
  queue(std::move(message));
}

// RFC 6143 7.6.2
Task<void> Client::colourMap() {
  co_await in_->need(5);
  in_->take(1);
  const unsigned first = in_->u16(), count = in_->u16();
  if (first + count > 256) protocolBroken("SetColourMapEntries", "entries past the 256th");
  co_await in_->need(std::size_t{6} * count);
  std::vector<Pixel> colours;
  for (unsigned i = 0; i < count; ++i) {
    const unsigned r = in_->u16() >> 8, g = in_->u16() >> 8, b = in_->u16() >> 8;
    colours.push_back(rgb(r, g, b));
  }
  decoder_.setColours(first, colours);
  if (!options_.format.trueColour) requestUpdate(false);
}

Task<void> Client::fenceMessage() {
  co_await in_->need(8);
  in_->take(3);
  const std::uint32_t flags = in_->u32();
  const unsigned length = in_->u8();
  if (length > 64) protocolBroken("Fence", "a payload of " + std::to_string(length) + " bytes");
  const Bytes payload = co_await in_->readBytes(length);
  if (!abilities_.fence) {
    abilities_.fence = true;
    events_.abilitiesChanged(abilities_);
  }
  if ((flags & fence::kRequest) == 0) {
    if (length == 1 && payload[0] == kFormatFence && !fencedFormats_.empty()) {
      takeFormat(fencedFormats_.front());
      fencedFormats_.pop_front();
    }
    co_return;
  }
  // Messages are handled strictly in order here, which satisfies every blocking flag.
  ByteWriter answer;
  answer.u8(client_message::kFence).zeros(3);
  answer.u32(flags & (fence::kBlockBefore | fence::kBlockAfter | fence::kSyncNext));
  answer.u8(length).bytes(payload);
  queue(std::move(answer));
}

Task<void> Client::xvpMessage() {
  co_await in_->need(3);
  in_->take(1);
  const std::uint8_t version = in_->u8(), code = in_->u8();
  if (code == 1) {
    xvpVersion_ = version;
    abilities_.power = true;
    events_.abilitiesChanged(abilities_);
  } else {
    events_.powerRefused();
  }
}

// Registry, QEMU Audio: type 1, then what happens.
Task<void> Client::qemuMessage() {
  co_await in_->need(3);
  const unsigned kind = in_->u8(), operation = in_->u16();
  if (kind != 1) protocolBroken("QEMU message", "unknown kind " + std::to_string(kind));
  if (operation == 0) {
    events_.audioEnds();
  } else if (operation == 1) {
    events_.audioBegins({});
  } else if (operation == 2) {
    const std::uint32_t length = co_await in_->readU32();
    if (length > kMostAudioChunk)
      protocolBroken("audio data", "announces " + std::to_string(length) + " bytes");
    co_await in_->need(length);
    events_.audioData(in_->take(length));
  } else {
    protocolBroken("audio message", "unknown operation " + std::to_string(operation));
  }
}

const ClientFigures& Client::figures() {
  if (in_) figures_.bytesIn = in_->offset();
  return figures_;
}

}  // namespace kw::rfb
