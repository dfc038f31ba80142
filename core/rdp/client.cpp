#include "rdp/client.hpp"

#include <algorithm>

namespace kw::rdp {

namespace {
constexpr const char* kDisplayControl = "Microsoft::Windows::RDS::DisplayControl";
constexpr std::size_t kMostOutgoing = 2 * kMostClip;
}  // namespace

Client::Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
               ClientOptions options, ClientEvents& events)
    : strand_(strand),
      clock_(std::move(clock)),
      picture_(picture),
      options_(std::move(options)),
      events_(events),
      licensing_("", ""),
      updates_(picture),
      orders_(picture),
      surfaces_(std::move(picture),
                [this](std::uint32_t frame) {
                  LittleWriter body;
                  sendOn(ioChannel_,
                         writeData(shareId_, user_, data::kFrameAcknowledge, body.u32(frame).view()));
                }),
      clipboard_(strand, {[this](Bytes message) { sendChannel("cliprdr", message); },
                          [this](std::shared_ptr<Clip> clip) { events_.clipCame(std::move(clip)); }}),
      dynamic_([this](Bytes message) { sendChannel("drdynvc", message); }),
      outgoingSignal_(strand) {
  openDisplayControl();
  if (options_.codecs.pipeline && options_.colours == 32) openGraphics();
  openSound();
}

Client::~Client() = default;

Task<void> Client::run(Dial dial) {
  co_await connect(dial);
  in_ = std::make_unique<WireReader>(*stream_);
  std::optional<Error> failure;
  std::optional<SentElsewhere> elsewhere;
  try {
    co_await firstOf(firstOf(readMessages(), writeMessages()), watchHeartbeat());
  } catch (const SentElsewhere& e) {
    elsewhere = e;
  } catch (const Error& e) {
    failure = e;
  }
  if (elsewhere && !closed_) throw SentElsewhere(*elsewhere);
  if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
  if (errorInfo_ != 0) {
    const Reason reason = reasonFor(errorInfo_);
    throw Error(reason.ours ? ErrorKind::Cancelled : ErrorKind::ClosedByPeer, reason.sentence, peer_)
        .withCure(reason.cure);
  }
  throw failure ? *failure : Error(ErrorKind::ClosedByPeer, "the service ended the session", peer_);
}

void Client::close() {
  if (std::exchange(closed_, true)) return;
  outgoingSignal_.notify();
  if (proof_) proof_->giveUp();
  if (!live_ && stream_) stream_->close();
}

Task<void> Client::readMessages() {
  for (;;) {
    co_await in_->need(2);
    const Byte* p = in_->peek();
    if (p[0] == 3) {  // TPKT
      co_await in_->need(4);
      const std::size_t length = loadBe16(in_->peek() + 2);
      if (length < 7) protocolBroken("TPKT", "a packet of " + std::to_string(length) + " bytes");
      co_await in_->need(length);
      slowPath(in_->take(length));
      continue;
    }
    if ((p[0] & 3) != 0) protocolBroken("fast-path", "an unknown kind of packet");
    std::size_t head = 2, length = p[1];
    if ((p[1] & 0x80) != 0) {
      co_await in_->need(3);
      p = in_->peek();
      length = ((p[1] & 0x7fU) << 8) | p[2];
      head = 3;
    }
    if (length < head) protocolBroken("fast-path", "a packet of " + std::to_string(length) + " bytes");
    co_await in_->need(length);
    const ByteView packet = in_->take(length);
    fastPath(packet.first(head), packet.subspan(head));
  }
}

Task<void> Client::writeMessages() {
  for (;;) {
    while (outgoing_.empty() && input_.count() == 0 && !closed_) co_await outgoingSignal_.wait();
    flushInput();
    if (closed_) {
      // 2.2.2.3: the user leaves; the session over there stays as the machine has it.
      const Bytes last = disconnectUltimatum();
      outgoing_.insert(outgoing_.end(), last.begin(), last.end());
    }
    const Bytes now = std::exchange(outgoing_, {});
    figures_.bytesOut += now.size();
    bool gone = false;
    try {
      co_await stream_->write(now);
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::ClosedByPeer || closed_) throw;
      gone = true;
    }
    // Why the service went may stand in what it sent before: the reader gets a moment to find it.
    if (gone) {
      co_await clock_->sleep(std::chrono::seconds(2));
      throw Error(ErrorKind::ClosedByPeer, "the service ended the session", peer_);
    }
    if (closed_) {
      stream_->close();
      throw Error(ErrorKind::Cancelled, "ended here");
    }
  }
}

// Sending.

void Client::queue(Bytes packet) {
  if (outgoing_.size() + packet.size() > kMostOutgoing)
    throw Error(ErrorKind::ClosedByPeer, "the service takes nothing any more", peer_);
  outgoing_.insert(outgoing_.end(), packet.begin(), packet.end());
  outgoingSignal_.notify();
}

/// 2.2.8.1.1.2: the security header is there with old security, or when a message has one `always`.
void Client::sendOn(unsigned channelId, ByteView body, unsigned securityFlags, bool always) {
  LittleWriter out;
  if (security_.active()) {
    out.u16(securityFlags | sec::kEncrypt).u16(0).bytes(security_.sealed(body));
  } else {
    if (legacy_ ? securityFlags != 0 : always) out.u16(securityFlags).u16(0);
    out.bytes(body);
  }
  queue(sendData(true, user_, channelId, out.view()));
}

void Client::sendChannel(const std::string& name, ByteView message) {
  for (const StaticChannel& c : channels_)
    if (c.name == name && c.id != 0)
      for (const Bytes& chunk : chunksOf(message, (c.options & 0x00200000) != 0 ? channel::kShowProtocol : 0))
        sendOn(c.id, chunk);
}

/// 2.2.8.1.2
void Client::flushInput() {
  if (input_.count() == 0 || !finalized_) return;
  const unsigned count = input_.count();
  Bytes events = input_.take();
  LittleWriter out;
  if (security_.active()) events = security_.sealed(events);
  out.u8((count << 2) | (security_.active() ? 0x80 : 0));
  out.be16(static_cast<unsigned>(0x8000 | (events.size() + 3))).bytes(events);
  queue(out.take());
}

void Client::key(std::uint32_t keysym, std::uint32_t scanCode, bool down) {
  if (!finalized_) return;
  // Letters of another layout than the one over there go as characters, where the service takes them.
  const bool character = keysym >= 0x20 && (keysym < 0x100 || keysym >= 0x01000000);
  if (server_.unicodeInput && character && (scanCode == 0 || !options_.positions))
    input_.unicode(keysym >= 0x01000000 ? keysym - 0x01000000 : keysym, down);
  else if (scanCode != 0)
    input_.key(scanCode, down);
  if (down) keySent_ = clock_->now();
  if (input_.full()) flushInput();
  outgoingSignal_.notify();
}

void Client::pointer(Point at, unsigned buttons) {
  if (!finalized_) return;
  if (input_.count() > 8) flushInput();
  buttons_.move(input_, at, buttons);
  outgoingSignal_.notify();
}

void Client::offerClip(std::shared_ptr<Clip> clip) {
  if (options_.clipboard) clipboard_.offer(std::move(clip));
}

/// 2.2.11.2
void Client::refresh() {
  if (!finalized_) return;
  LittleWriter body;
  body.u8(1).zeros(3).u16(0).u16(0);
  body.u16(static_cast<unsigned>(picture_->width() - 1)).u16(static_cast<unsigned>(picture_->height() - 1));
  sendOn(ioChannel_, writeData(shareId_, user_, data::kRefreshRect, body.view()));
}

/// 2.2.11.3
void Client::pauseUpdates(bool paused) {
  if (paused == paused_) return;
  paused_ = paused;
  if (!finalized_ || !server_.suppressOutput) return;
  LittleWriter body;
  body.u8(paused ? 0 : 1).zeros(3);
  if (!paused)
    body.u16(0)
        .u16(0)
        .u16(static_cast<unsigned>(picture_->width() - 1))
        .u16(static_cast<unsigned>(picture_->height() - 1));
  sendOn(ioChannel_, writeData(shareId_, user_, data::kSuppressOutput, body.view()));
}

const ClientFigures& Client::figures() {
  if (in_) figures_.bytesIn = in_->offset();
  figures_.rectanglesByForm = formsBefore_;
  for (const auto* forms : {&updates_.forms(), &surfaces_.forms()})
    for (const auto& [name, count] : *forms) figures_.rectanglesByForm[name] += count;
  if (orders_.drawn() > 0) figures_.rectanglesByForm["orders"] = orders_.drawn();
  if (graphics_)
    for (const auto& [name, count] : graphics_->forms()) figures_.rectanglesByForm[name] += count;
  figures_.line = autoDetect_.found();
  if (sound_) figures_.soundBytes = sound_->bytes();
  return figures_;
}

// The graphics pipeline: begun anew with each opening of its channel.
void Client::openGraphics() {
  DynamicChannels::Listener channel;
  channel.opened = [this] {
    Graphics::Events events;
    events.send = [this](Bytes message) { dynamic_.sendOn(kGraphicsChannel, message); };
    events.resized = [this](Size size, std::vector<Rect> monitors) { pictureHas(size, std::move(monitors)); };
    events.damaged = [this](const Region& damage) { shown(damage); };
    events.decodesItself = [this] { tellSoftware(); };
    const CodecOffer& c = options_.codecs;
    const auto video = !c.video     ? Graphics::Video::None
                       : c.hardware ? Graphics::Video::Hardware
                                    : Graphics::Video::Software;
    graphics_ = std::make_unique<Graphics>(picture_, std::move(events), video);
    graphics_->opened();
  };
  channel.message = [this](ByteView message) {
    if (graphics_) graphics_->take(message);
  };
  channel.closed = [this] {
    if (!graphics_) return;  // opened twice, closed twice
    for (const auto& [name, count] : graphics_->forms()) formsBefore_[name] += count;
    graphics_.reset();
  };
  dynamic_.listen(kGraphicsChannel, std::move(channel));
}

/// Once a session: surfaces come and go.
void Client::tellSoftware() {
  if (std::exchange(toldSoftware_, true)) return;
  events_.told("This computer's graphics processor does not decode H.264 (VA-API); the processor does.");
}

// Sound comes over whichever of its channels the service opens.
void Client::openSound() {
  const auto reader = [this](std::function<void(Bytes)> send) {
    SoundReader::Events events;
    events.send = std::move(send);
    events.begins = [this](SampleForm form) { events_.soundBegins(form); };
    events.samples = [this](ByteView samples) { events_.sound(samples); };
    events.ends = [this] { events_.soundEnds(); };
    sound_ = std::make_unique<SoundReader>(std::move(events), options_.sound);
  };
  reader([this](Bytes message) { sendChannel(kSoundChannel, message); });
  for (const std::string name : {kSoundDynamic, kSoundDynamicLossy}) {
    DynamicChannels::Listener channel;
    channel.opened = [this, name, reader] {
      reader([this, name](Bytes message) { dynamic_.sendOn(name, message); });
    };
    channel.message = [this](ByteView message) { sound_->take(message); };
    channel.closed = [this] { events_.soundEnds(); };
    dynamic_.listen(name, std::move(channel));
  }
}

void Client::wantSound(bool on) {
  options_.sound = on;
  sound_->setWanted(on);
}

// Display control (MS-RDPEDISP).

void Client::openDisplayControl() {
  DynamicChannels::Listener display;
  display.message = [this](ByteView message) {
    LittleReader in(message, "display control");
    if (in.u32() != 5) return;  // 2.2.2.1: what it can do
    in.skip(4);
    displayControl_ = true;
    events_.resizable(static_cast<int>(std::clamp<std::uint32_t>(in.u32(), 1, kMostMonitors)));
    if (!wantedLayout_.empty()) sendLayout();
  };
  display.closed = [this] {
    displayControl_ = false;
    events_.resizable(0);
  };
  dynamic_.listen(kDisplayControl, std::move(display));
}

void Client::requestSize(Size size) { requestLayout({{0, 0, size.width, size.height}}); }

void Client::requestLayout(std::vector<Rect> monitors) {
  if (monitors.empty() || monitors.size() > kMostMonitors) return;
  for (Rect& m : monitors) {  // 2.2.2.2.1: an even width, and within limits
    m.width = std::clamp(m.width, 200, 8192) & ~1;
    m.height = std::clamp(m.height, 200, 8192);
  }
  // The primary one lies at 0,0.
  const Point origin{monitors[0].x, monitors[0].y};
  for (Rect& m : monitors) m = m.moved(-origin.x, -origin.y);
  wantedLayout_ = std::move(monitors);
  if (displayControl_) sendLayout();
}

void Client::sendLayout() {
  const std::vector<Rect> layout = std::exchange(wantedLayout_, {});
  options_.size = layout[0].size();
  if (layout.size() == 1 && monitors_.size() <= 1 && layout[0].size() == picture_->size()) return;
  LittleWriter out;
  const auto count = static_cast<std::uint32_t>(layout.size());
  out.u32(2).u32(8 + 8 + 40 * count).u32(40).u32(count);
  for (const Rect& m : layout) {
    const auto put = [&out](int v) { out.u32(static_cast<std::uint32_t>(v)); };
    put(&m == &layout[0] ? 1 : 0);
    for (int v : {m.x, m.y, m.width, m.height, m.width * 254 / 960, m.height * 254 / 960, 0}) put(v);
    put(options_.scale);
    put(100);
  }
  dynamic_.sendOn(kDisplayControl, out.view());
}

/// 2.2.12.1: where the monitors lie, told after a new size.
void Client::monitorLayout(ByteView body) {
  LittleReader in(body, "monitor layout");
  pictureHas(picture_->size(), readMonitors(in, in.u32()));
}

void Client::pictureHas(Size size, std::vector<Rect> monitors) {
  int left = 0, top = 0;
  for (const Rect& m : monitors) left = std::min(left, m.x), top = std::min(top, m.y);
  for (Rect& m : monitors) m = m.moved(-left, -top).intersected({0, 0, size.width, size.height});
  std::erase_if(monitors, [](const Rect& m) { return m.empty(); });
  if (monitors.empty()) monitors = {{0, 0, size.width, size.height}};
  monitors_ = std::move(monitors);
  events_.pictureResized(size, monitors_);
}

}  // namespace kw::rdp
