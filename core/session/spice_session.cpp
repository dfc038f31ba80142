#include "session/spice_session.hpp"

#include "session/frame_counter.hpp"
#include "session/session_base.hpp"

namespace kw {

namespace {

class SpiceSession : public SessionBase, public spice::ClientEvents {
 public:
  SpiceSession(const Executor& strand, std::shared_ptr<Clock> clock, SpiceConfig config)
      : SessionBase(strand, std::move(clock), config.reconnect),
        config_(std::move(config)),
        signIns_(config_.kept),
        picture_(std::make_shared<Framebuffer>()) {
    route_.host = config_.host.empty() ? config_.way->forPeople() : config_.host;
    route_.port = config_.port;
    policy_.onlyLook = config_.viewOnly;
  }

  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const override { return picture_; }

  void opened() override {
    if (askedPassword_) signIns_.worked();
    const bool sealed = sealing();
    route_.security = sealed ? "TLS" : password_.empty() ? "none" : "password (ticket)";
    route_.sealed = sealed;
    if (sealed) noteSealed(config_.trust, config_.way->pinName(), "TLS");
    becomeLive();
    tellAbilities();
  }
  void pictureResized(Size size, const std::vector<spice::ScreenState>& screens) override {
    std::vector<Screen> on;
    std::vector<ScreenOffer> all;
    for (const spice::ScreenState& s : screens) {
      if (!s.area.empty()) on.push_back({s.id, s.area, 0});
      all.push_back({s.id, !s.area.empty(), s.area});
    }
    observer_->pictureResized(size, on);
    observer_->screensOffered(all);
    tellAbilities();
  }
  void damaged(const Region& region) override { observer_->damaged(region); }
  void pointerChanged(const spice::Pointer& p) override {
    observer_->pointerShapeChanged({p.size, p.hotspot, p.pixels});
  }
  void lockKeys(unsigned bits) override { observer_->lockKeysChanged(bits); }
  void clipboardText(const std::string& text) override { tellClipboard(text); }
  void abilitiesChanged(const spice::Abilities& abilities) override {
    if (abilities.relativePointer != peer_.relativePointer)
      observer_->pointerRelative(abilities.relativePointer);
    if (abilities.name != peer_.name) {
      route_.machineName = abilities.name;
      observer_->nameChanged(abilities.name);
      observer_->routeChanged(route_);
    }
    if (abilities.uuid != peer_.uuid) compareId(abilities.uuid);
    peer_ = abilities;
    tellAbilities();
  }
  void soundBegins(int channels, int rate) override { observer_->soundBegins({channels, rate}); }
  void sound(ByteView data) override {
    soundBytes_ += data.size();
    observer_->sound(data);
  }
  void soundEnds() override { observer_->soundEnds(); }
  /// That it is another machine stays in sight.
  void told(const std::string& sentence) override {
    if (!otherMachine_) observer_->remark(sentence);
  }

 protected:
  void keyNow(std::uint32_t, std::uint32_t scanCode, bool down) override {
    if (client_) client_->key(scanCode, down);
  }
  void pointerNow(Point at, unsigned buttons) override {
    if (client_) client_->pointer(at, buttons);
  }
  void pointerByNow(int dx, int dy, unsigned buttons) override {
    if (client_) client_->pointerBy(dx, dy, buttons);
  }
  void clipboardNow(const std::string& utf8) override {
    if (client_) client_->offerClipboard(utf8);
  }
  void sizeNow(Size size) override {
    if (!client_ || !peer_.screens) return;
    // The first screen follows the pane; the others stay where they are beside it.
    auto plan = client_->screens();
    for (spice::ScreenState& s : plan)
      if (!s.area.empty()) {
        s.area.width = size.width & ~7;
        s.area.height = size.height;
        break;
      }
    client_->arrange(beside(std::move(plan)));
  }
  void switchScreenNow(std::uint32_t id, Size size) override {
    if (!client_) return;
    auto plan = client_->screens();
    const auto lit = std::count_if(plan.begin(), plan.end(), [](const auto& s) { return !s.area.empty(); });
    for (spice::ScreenState& s : plan)
      if (s.id == id) {
        if (size.empty() && lit <= 1) return observer_->remark("The last screen stays on.");
        s.area = {0, 0, size.width, size.height};
      }
    client_->arrange(beside(std::move(plan)));
  }
  void arrangeNow(const std::vector<ScreenOffer>& wanted) override {
    if (!client_) return;
    std::vector<spice::ScreenState> plan;
    for (const ScreenOffer& s : wanted) plan.push_back({s.id, s.on ? s.area : Rect{}});
    client_->arrange(plan);
  }
  void compareId(const std::string& shown) {
    constexpr std::size_t kUuid = 36;
    const auto lower = [](std::string text) {
      for (char& c : text)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
      return text;
    };
    otherMachine_ = false;
    if (shown.size() != kUuid || config_.machineId.size() != kUuid) return;
    otherMachine_ = lower(shown) != lower(config_.machineId);
    if (otherMachine_) observer_->remark("This port shows another machine: its ID is " + shown + ".");
  }
  void soundNow(bool on) override {
    config_.options.sound = on;
    if (client_) client_->wantSound(on);
  }
  void refreshNow() override {
    if (client_) client_->refresh();
  }

 private:
  /// One to the right of the other, without gaps.
  static std::vector<spice::ScreenState> beside(std::vector<spice::ScreenState> plan) {
    int x = 0;
    for (spice::ScreenState& s : plan) {
      if (s.area.empty()) continue;
      s.area.x = x;
      s.area.y = 0;
      x += s.area.width;
    }
    return plan;
  }
  [[nodiscard]] std::string peerName() const override { return config_.way->forPeople(); }
  [[nodiscard]] bool sealing() const {
    return config_.tls || ((sealNow_ || config_.sealedOnly) && config_.tlsPort != 0);
  }
  void closeConnection() override {
    if (client_) client_->close();
  }
  void connectionOver() override { client_.reset(); }
  bool triesAgainAtOnce(const Error& failure) override {
    if (failure.kind() != ErrorKind::SignInFailed) return false;
    // The first try is without a password: most consoles have none, and none of them says so before.
    if (!std::exchange(needsPassword_, true)) return true;
    return signIns_.again(failure);
  }

  /// One connection for a channel.
  Task<StreamPtr> dial() {
    ConnectFindings findings;
    std::optional<Place> elsewhere;
    if (sealing() && !config_.tls) elsewhere = Place{"", config_.tlsPort};
    StreamPtr stream = co_await config_.way->connect(*this, route_, &findings, elsewhere);
    if (!route_.reached) {
      route_.address = findings.address;
      route_.answersIn = findings.took;
      route_.reached = true;
      observer_->routeChanged(route_);
    }
    if (!sealing()) co_return stream;
    TlsClientOptions options;
    options.hostName = config_.host;
    options.authorityFile = config_.authorityFile;
    options.decide = [this](PeerCertificate c) -> Task<bool> {
      // Every channel shows the same certificate: it is asked about once.
      if (c.sha256 == trusted_) co_return true;
      const std::string shown = c.sha256;
      const bool good = co_await trustCertificate(*this, config_.trust, config_.way->pinName(), config_.label,
                                                  std::move(c));
      if (good) trusted_ = shown;
      co_return good;
    };
    co_return co_await startTls(std::move(stream), std::move(options));
  }

  Task<void> connectAndServe() override {
    signIns_.begin();
    peer_ = {};
    route_.reached = false;
    askedPassword_ = false;
    setStatus(SessionStage::SigningIn, "signing in");
    if (config_.sealedOnly && !sealing())
      throw Error(ErrorKind::Unsupported,
                  "this machine's settings want a sealed session; its port for sealed channels "
                  "is not set");
    if (!sealing()) {
      const bool on = co_await goOnPlain(*this, config_.trust, config_.way->pinName(), config_.label,
                                         "SPICE without TLS");
      if (!on) throw Error(ErrorKind::NotTrusted, "the line was sealed before and is not now");
    }
    SignInWish wish;
    wish.label = config_.label;
    wish.use = sealing() ? SecretUse::Proved : SecretUse::Sealed;
    if (needsPassword_ || (config_.kept.fetch && mayAnswer(SecretUse::Unknown, wish.use)) ||
        (config_.kept.find && config_.kept.find(wish.use))) {
      askedPassword_ = needsPassword_ = true;
      const SignIn given = co_await signIns_.next(*this, wish);
      password_ = given.password;
    }
    spice::ClientOptions options = config_.options;
    options.password = password_;
    client_ = std::make_shared<spice::Client>(strand_, clock_, picture_, options, *this);
    // The client is the session's own, and is not to keep it.
    const std::weak_ptr<SessionBase> mine = weak_from_this();
    spice::Client::Dial dialling = [mine]() -> Task<StreamPtr> {
      const auto self = std::static_pointer_cast<SpiceSession>(mine.lock());
      if (!self) throw Error(ErrorKind::Cancelled, "ended here");
      co_return co_await self->dial();
    };
    const auto client = client_;
    std::optional<Error> failure;
    try {
      co_await client->run(std::move(dialling));
    } catch (const spice::NeedsSeal& e) {
      failure = e;
    }
    if (!failure) co_return;
    if (config_.tlsPort != 0 && !std::exchange(sealNow_, true)) {  // once more, on the other port
      co_await connectAndServe();
      co_return;
    }
    throw Error(ErrorKind::Unsupported, failure->detail(), failure->where())
        .withCure("Write spice+tls:// with the host's sealed port, or set that port on the sheet.");
  }

  void everySecond(double seconds) override {
    if (!client_) return;
    const spice::ClientFigures now = client_->figures();
    Figures f =
        counter_.since(seconds, now.bytesIn, now.bytesOut, now.frames, now.imagesByForm, now.keyToPicture);
    f.soundBytes = soundBytes_;
    observer_->figuresChanged(f);
  }

  void tellAbilities() {
    Capabilities c;
    const auto say = [](bool can, const std::string& why) {
      return can ? Ability{true, {}} : Ability{false, why};
    };
    c.pointer = c.keys = c.savePicture = {true, {}};
    const std::string noAgent =
        "The guest's agent for SPICE does not answer: install and start it in the guest (spice-vdagent).";
    c.clipboard = !config_.options.clipboard
                      ? Ability{false, "The clipboard is switched off on this machine's sheet."}
                      : say(peer_.clipboard, noAgent);
    c.resize = say(peer_.screens, noAgent);
    const std::size_t offers = client_ ? client_->screens().size() : 0;
    c.screens =
        offers < 2
            ? Ability{false,
                      "This guest has one video device with one head; a second must be added on its host, "
                      "which needs a full stop."}
            : say(peer_.screens, noAgent);
    c.power = {false, "A SPICE console has no power commands; the machine's host has."};
    c.sound = say(peer_.sound, "This machine has no sound device.");
    c.quality = {false, "The host chooses how pictures are packed; the sheet has a preference."};
    c.colours = {false, "SPICE sends the guest's own colours."};
    c.files = {false, "Files over SPICE are not carried yet."};
    observer_->capabilitiesChanged(c);
  }

  SpiceConfig config_;
  SignInTurns signIns_;
  std::shared_ptr<Framebuffer> picture_;
  std::shared_ptr<spice::Client> client_;
  spice::Abilities peer_;
  FrameCounter counter_;
  std::string password_, trusted_;
  bool otherMachine_ = false;  ///< than the record's
  std::uint64_t soundBytes_ = 0;
  bool needsPassword_ = false, askedPassword_ = false;
  bool sealNow_ = false;  ///< the host wants it so
};

}  // namespace

std::shared_ptr<Session> makeSpiceSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                          SpiceConfig config) {
  return std::make_shared<SpiceSession>(strand, std::move(clock), std::move(config));
}

}  // namespace kw
