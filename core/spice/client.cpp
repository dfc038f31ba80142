#include "spice/client.hpp"

#include <algorithm>

namespace kw::spice {

/// One display channel, with its place in the whole picture.
struct Client::DisplayLink : DisplayEvents {
  DisplayLink(Client& c, unsigned number) : client(c), id(number), display(*this) {}
  void primaryResized() override {
    whole = false;
    client.layOut();
  }
  void headsChanged() override { client.layOut(); }
  void primaryWhole() override {
    whole = true;
    if (const Surface* primary = display.primary()) client.copyDamage(*this, Region(primary->rect()));
  }
  void primaryDamaged(const Region& region) override { client.copyDamage(*this, region); }
  Client& client;
  unsigned id;
  Display display;
  Point at;
  bool whole = false;  ///< since its last resize
  std::shared_ptr<Channel> channel;
};

Client::Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
               ClientOptions options, ClientEvents& events)
    : strand_(strand),
      clock_(std::move(clock)),
      picture_(std::move(picture)),
      options_(std::move(options)),
      events_(&events),
      agent_({[this](Bytes piece) { main_->send(msgc::kAgentData, piece); },
              [this](std::uint32_t n) {
                LittleWriter out;
                out.u32(n);
                main_->send(msgc::kAgentToken, out.view());
              },
              [this](const std::string& text) { events_->clipboardText(text); },
              [this] { tellAbilities(); }}),
      playback_({[this](int channels, int rate) { events_->soundBegins(channels, rate); },
                 [this](ByteView samples) { events_->sound(samples); }, [this] { events_->soundEnds(); }},
                options_.sound),
      over_(strand) {}

Client::~Client() = default;

Task<void> Client::run(Dial dial) {
  auto self = shared_from_this();
  dial_ = std::move(dial);
  StreamPtr stream = co_await dial_();
  LinkWish wish;
  wish.capabilities = 1U << cap::kNameAndUuid | 1U << cap::kAgentTokens;
  wish.password = options_.password;
  co_await link(*stream, wish);
  if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
  main_ = std::make_shared<Channel>(strand_, std::move(stream), ChannelKind::Main, 0);
  spawn(
      strand_,
      [self]() -> Task<void> {
        Channel::Handler handler = [c = self.get()](unsigned type, ByteView body) {
          c->mainMessage(type, body);
        };
        co_await self->main_->run(std::move(handler));
      },
      [self](std::exception_ptr e) { self->failed(e); });
  // However this ends, also by being cancelled here: no channel is left open.
  struct ClosesAll {
    Client& c;
    ~ClosesAll() { c.closeChannels(); }
  } const closesAll{*this};
  while (!failure_) co_await over_.wait();
  if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
  std::rethrow_exception(failure_);
}

void Client::closeChannels() {
  if (!failure_) failure_ = std::make_exception_ptr(Error(ErrorKind::Cancelled, "ended here"));
  for (const auto& c : others_) c->close();
  main_->close();
}

void Client::failed(std::exception_ptr failure) {
  if (!failure_)
    failure_ = failure ? failure : std::make_exception_ptr(Error(ErrorKind::ClosedByPeer, "ended"));
  over_.notify();
}

void Client::close() {
  closed_ = true;
  failed(nullptr);
}

// The main channel.

void Client::mainMessage(unsigned type, ByteView body) {
  if (failure_) return;
  LittleReader in(body, "SPICE main message");
  switch (type) {
    case msg::kMainInit: {
      sessionId_ = in.u32();
      in.u32();
      const std::uint32_t supported = in.u32(), now = in.u32();
      const bool agent = in.u32() != 0;
      const std::uint32_t tokens = in.u32();
      mouseMode(supported, now);
      if (agent) agentConnected(tokens);
      return main_->send(msgc::kAttachChannels, {});
    }
    case msg::kChannelsList: return openChannels(in);
    case msg::kMouseMode: {
      const unsigned supported = in.u16();
      return mouseMode(supported, in.u16());
    }
    case msg::kAgentConnected: return agentConnected(10);
    case msg::kAgentConnectedTokens: return agentConnected(in.u32());
    case msg::kAgentDisconnected: return agent_.disconnected();
    case msg::kAgentData: return agent_.take(body);
    case msg::kAgentToken: return agent_.tokens(in.u32());
    case msg::kName: {
      const std::uint32_t length = in.u32();
      abilities_.name =
          cleanUtf8(textOf(in.bytes(std::min<std::size_t>(length, std::min<std::size_t>(in.left(), 256)))));
      abilities_.name.resize(std::min(abilities_.name.find('\0'), abilities_.name.size()));
      return tellAbilities();
    }
    case msg::kUuid: {
      const std::string h = hex(in.bytes(16));
      abilities_.uuid = h.substr(0, 8) + "-" + h.substr(8, 4) + "-" + h.substr(12, 4) + "-" +
                        h.substr(16, 4) + "-" + h.substr(20);
      return tellAbilities();
    }
    case msg::kNotify: {
      in.skip(8 + 4 + 4 + 4);
      const std::uint32_t length = in.u32();
      return events_->told(
          cleanUtf8(textOf(in.bytes(std::min<std::size_t>(length, std::min<std::size_t>(in.left(), 1024))))));
    }
    case msg::kSwitchHost: throw Error(ErrorKind::ClosedByPeer, "the machine has moved to another host");
    default: return;
  }
}

void Client::agentConnected(std::uint32_t tokens) {
  LittleWriter out;
  out.u32(10);
  main_->send(msgc::kAgentStart, out.view());
  agent_.connected(tokens);
}

/// The pointer is told where it is (client mode) wherever the guest can do that.
void Client::mouseMode(unsigned supported, unsigned now) {
  mouseMode_ = now;
  if (now != kClientMouse && (supported & kClientMouse) != 0) {
    LittleWriter out;
    out.u16(kClientMouse);
    main_->send(msgc::kMouseModeRequest, out.view());
  }
  abilities_.relativePointer = mouseMode_ == kServerMouse;
  tellAbilities();
}

void Client::tellAbilities() {
  abilities_.agent = agent_.present();
  abilities_.clipboard = agent_.hasClipboard();
  abilities_.screens = agent_.hasScreens();
  if (!failure_) events_->abilitiesChanged(abilities_);
}

void Client::openChannels(LittleReader& in) {
  const std::uint32_t count = in.u32();
  if (count > kMostChannels) protocolBroken("SPICE channels", std::to_string(count) + " channels");
  for (std::uint32_t i = 0; i < count; ++i) {
    const auto kind = static_cast<ChannelKind>(in.u8());
    const unsigned id = in.u8();
    const bool wanted = kind == ChannelKind::Display || (kind == ChannelKind::Inputs && id == 0) ||
                        (kind == ChannelKind::Cursor && id == 0) ||
                        (kind == ChannelKind::Playback && id == 0);
    if (!wanted) continue;
    if (kind == ChannelKind::Display) displays_[id] = std::make_shared<DisplayLink>(*this, id);
    auto self = shared_from_this();
    spawn(
        strand_, [self, kind, id] { return self->openChannel(kind, id); },
        [self, kind](std::exception_ptr e) {
          // Without sound or a pointer's shape a session goes on.
          if (kind == ChannelKind::Display || kind == ChannelKind::Inputs) self->failed(e);
        });
  }
}

Task<void> Client::openChannel(ChannelKind kind, unsigned id) {
  auto self = shared_from_this();
  StreamPtr stream = co_await dial_();
  LinkWish wish;
  wish.connectionId = sessionId_;
  wish.kind = kind;
  wish.id = id;
  wish.password = options_.password;
  if (kind == ChannelKind::Display) wish.capabilities = Display::capabilities();
  if (kind == ChannelKind::Playback)
    wish.capabilities = Playback::capabilities(options_.compression != "off");
  const std::uint32_t theirs = co_await link(*stream, wish);
  if (failure_) co_return;
  auto channel = std::make_shared<Channel>(strand_, std::move(stream), kind, id);
  others_.push_back(channel);
  abilities_.channels.push_back(nameOf(kind));
  Channel::Handler handler;
  switch (kind) {
    case ChannelKind::Display: {
      auto link = displays_[id];
      link->channel = channel;
      channel->send(msgc::kDisplayInit, Display::initMessage(id));
      static const std::map<std::string, unsigned> kinds{
          {"off", 1}, {"auto_glz", 2}, {"auto_lz", 3}, {"quic", 4}, {"glz", 5}, {"lz", 6}, {"lz4", 7}};
      const auto preferred = kinds.find(options_.compression);
      if (preferred != kinds.end() && (theirs >> cap::kPreferredCompression & 1) != 0) {
        const Bytes choice{static_cast<Byte>(preferred->second)};
        channel->send(msgc::kPreferredCompression, choice);
      }
      handler = [link](unsigned type, ByteView body) { link->display.take(type, body); };
      break;
    }
    case ChannelKind::Inputs:
      inputs_ = channel;
      handler = [this](unsigned type, ByteView body) { inputsMessage(type, body); };
      break;
    case ChannelKind::Cursor:
      cursor_ = channel;
      handler = [this](unsigned type, ByteView body) { cursorMessage(type, body); };
      break;
    default:
      abilities_.sound = true;
      handler = [this](unsigned type, ByteView body) {
        if (!failure_) playback_.take(type, body);
      };
      break;
  }
  tellAbilities();
  co_await channel->run(std::move(handler));
}

// The picture: displays beside each other, each with the screens that its heads are.

void Client::layOut() {
  if (failure_) return;
  Size whole;
  std::vector<ScreenState> screens;
  for (const auto& [id, link] : displays_) {
    link->at = {whole.width, 0};
    const Surface* primary = link->display.primary();
    const Size size = primary == nullptr ? Size{} : primary->size;
    const bool many = displays_.size() > 1;
    if (many || link->display.heads().empty()) {
      screens.push_back({id, size.empty() ? Rect{} : Rect{whole.width, 0, size.width, size.height}});
    } else {
      // One device with several outputs: those that are off are named, too.
      const std::uint32_t most = std::max<std::uint32_t>(link->display.mostHeads(), 1);
      for (std::uint32_t head = 0; head < std::min<std::uint32_t>(most, 4); ++head) {
        ScreenState state{head, {}};
        for (const Head& h : link->display.heads())
          if (h.id == head) state.area = h.area.intersected({0, 0, size.width, size.height});
        screens.push_back(state);
      }
    }
    whole.width += size.width;
    whole.height = std::max(whole.height, size.height);
  }
  if (whole.empty()) return;
  if (!pictureSizeAllowed(whole)) protocolBroken("SPICE display", "screens too large together");
  const bool resized = whole != picture_->size();
  if (resized) {
    const auto lock = picture_->lock();
    picture_->resize(whole);
  }
  if (!std::exchange(opened_, true)) events_->opened();
  if (resized || screens != screens_) {
    screens_ = screens;
    events_->pictureResized(whole, screens);
  }
  for (const auto& [id, link] : displays_)
    if (const Surface* primary = link->display.primary(); primary != nullptr && link->whole)
      copyDamage(*link, Region(primary->rect()));
}

void Client::copyDamage(const DisplayLink& from, const Region& damage) {
  const Surface* primary = from.display.primary();
  if (primary == nullptr || failure_) return;
  Region told;
  {
    const auto lock = picture_->lock();
    for (const Rect& rect : damage.rects()) {
      const Rect r = rect.intersected(primary->rect());
      const Rect to = r.moved(from.at.x, from.at.y).intersected(picture_->rect());
      for (int y = 0; y < to.height; ++y) {
        const Pixel* source = primary->row(to.y + y - from.at.y) + (to.x - from.at.x);
        std::copy_n(source, to.width, picture_->at(to.x, to.y + y));
      }
      told.add(to);
    }
  }
  ++frames_;
  if (keySent_) {
    keyToPicture_ = clock_->now() - *keySent_;
    keySent_.reset();
  }
  if (!told.empty() && opened_) events_->damaged(told);
}

void Client::refresh() {
  for (const auto& [id, link] : displays_)
    if (const Surface* primary = link->display.primary()) copyDamage(*link, Region(primary->rect()));
}

void Client::arrange(const std::vector<ScreenState>& wanted) {
  std::vector<ScreenWish> wishes;
  for (const ScreenState& s : wanted) {
    if (s.id >= 16) continue;
    if (wishes.size() <= s.id) wishes.resize(s.id + 1);
    wishes[s.id].area = s.area;
  }
  agent_.configure(wishes);
}

// Input.

void Client::inputsMessage(unsigned type, ByteView body) {
  LittleReader in(body, "SPICE inputs message");
  if (type == msg::kInputsInit || type == msg::kKeyModifiers) {
    const unsigned bits = in.u16();  // scroll 1, num 2, caps 4
    if (!failure_) events_->lockKeys(bits & 7);
  } else if (type == msg::kMotionAck) {
    unacknowledged_ -= std::min(unacknowledged_, 4U);
    sendMotion();
  }
}

void Client::key(std::uint32_t scanCode, bool down) {
  if (!inputs_ || scanCode == 0) return;
  // The bytes of the keyboard in the order they come; a release has the highest bit of the last one.
  const unsigned prefix = scanCode >> 8, code = (scanCode & 0x7f) | (down ? 0 : 0x80);
  LittleWriter out;
  out.u32(prefix != 0 ? prefix | code << 8 : code);
  inputs_->send(down ? msgc::kKeyDown : msgc::kKeyUp, out.view());
  if (down) keySent_ = clock_->now();
}

namespace {
/// Left, middle, right of a session in the order of SPICE's mask.
unsigned buttonState(unsigned buttons) {
  return (buttons & 1) | (buttons & 2) | (buttons & 4) | ((buttons & 128) != 0 ? 32 : 0) |
         ((buttons & 256) != 0 ? 64 : 0);
}
}  // namespace

void Client::sendButtons(unsigned buttons) {
  constexpr std::pair<unsigned, unsigned> numbers[] = {{1, 1},  {2, 2},   {4, 3},  {8, 4},
                                                       {16, 5}, {128, 6}, {256, 7}};
  for (const auto& [bit, number] : numbers) {
    if (((buttons ^ buttons_) & bit) == 0) continue;
    LittleWriter out;
    out.u8(number).u16(buttonState(buttons));
    inputs_->send((buttons & bit) != 0 ? msgc::kMousePress : msgc::kMouseRelease, out.view());
  }
  buttons_ = buttons;
}

void Client::pointer(Point at, unsigned buttons) {
  if (!inputs_) return;
  motion_ = at;
  sendMotion();
  if (buttons != buttons_ && motion_) {  // a click goes where the pointer is, also when answers are late
    unacknowledged_ = 0;
    sendMotion();
  }
  sendButtons(buttons);
}

void Client::pointerBy(int dx, int dy, unsigned buttons) {
  if (!inputs_) return;
  motionX_ += dx;
  motionY_ += dy;
  sendMotion();
  sendButtons(buttons);
}

/// At most two bunches of four go without an answer; what moves meanwhile is sent as one.
void Client::sendMotion() {
  if (unacknowledged_ >= 8 || !inputs_) return;
  LittleWriter out;
  if (mouseMode_ == kClientMouse && motion_) {
    unsigned display = 0;
    Point at = *motion_;
    for (const auto& [id, link] : displays_) {
      const Surface* primary = link->display.primary();
      if (primary == nullptr || !primary->rect().moved(link->at.x, link->at.y).contains(at)) continue;
      display = id;
      at = {at.x - link->at.x, at.y - link->at.y};
      break;
    }
    out.u32(static_cast<std::uint32_t>(std::max(0, at.x))).u32(static_cast<std::uint32_t>(std::max(0, at.y)));
    out.u16(buttonState(buttons_)).u8(display);
    inputs_->send(msgc::kMousePosition, out.view());
  } else if (mouseMode_ == kServerMouse && (motionX_ != 0 || motionY_ != 0)) {
    out.u32(static_cast<std::uint32_t>(motionX_))
        .u32(static_cast<std::uint32_t>(motionY_))
        .u16(buttonState(buttons_));
    inputs_->send(msgc::kMouseMotion, out.view());
  } else {
    return;
  }
  ++unacknowledged_;
  motion_.reset();
  motionX_ = motionY_ = 0;
}

void Client::offerClipboard(const std::string& utf8) {
  if (options_.clipboard && main_) agent_.offerText(utf8);
}

// Pointer and sound.

void Client::cursorMessage(unsigned type, ByteView body) {
  if (failure_) return;
  LittleReader in(body, "SPICE cursor message");
  switch (type) {
    case msg::kCursorInit: {
      in.skip(4 + 4);
      const bool visible = in.u8() != 0;
      const auto pointer = pointers_.read(in);
      return events_->pointerChanged(visible && pointer ? *pointer : Pointer());
    }
    case msg::kCursorSet: {
      in.skip(4);
      const bool visible = in.u8() != 0;
      const auto pointer = pointers_.read(in);
      return events_->pointerChanged(visible && pointer ? *pointer : Pointer());
    }
    case msg::kCursorReset:
    case msg::kCursorHide: return events_->pointerChanged({});
    case msg::kCursorInvalOne: return pointers_.forget(in.u64());
    case msg::kCursorInvalAll: return pointers_.forgetAll();
    default: return;
  }
}

void Client::wantSound(bool on) {
  options_.sound = on;
  if (!failure_) playback_.setWanted(on);
}

ClientFigures Client::figures() const {
  ClientFigures f;
  f.frames = frames_;
  f.keyToPicture = keyToPicture_;
  const auto add = [&f](const Channel& c) { f.bytesIn += c.bytesIn(), f.bytesOut += c.bytesOut(); };
  if (main_) add(*main_);
  for (const auto& c : others_) add(*c);
  for (const auto& [id, link] : displays_)
    for (const auto& [form, count] : link->display.forms()) f.imagesByForm[form] += count;
  return f;
}

}  // namespace kw::spice
