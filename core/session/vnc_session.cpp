#include "session/vnc_session.hpp"

#include "rfb/constants.hpp"
#include "session/session_base.hpp"

namespace kw {

namespace {

class VncSession : public SessionBase, public rfb::ClientEvents {
 public:
  VncSession(const Executor& strand, std::shared_ptr<Clock> clock, VncConfig config)
      : SessionBase(strand, std::move(clock), config.reconnect),
        config_(std::move(config)),
        picture_(std::make_shared<Framebuffer>()) {
    config_.options.host = config_.unixPath.empty() ? config_.host : "";
    route_.host = config_.unixPath.empty() ? config_.host : config_.unixPath;
    route_.port = config_.unixPath.empty() ? config_.port : 0;
  }

  // Commands, from any thread.
  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const override { return picture_; }

  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down) override {
    // Releases pass even when only looking, so that no key stays down over there.
    withClient([=](rfb::Client& c, VncSession& self) {
      if (!self.config_.viewOnly || !down) c.key(keysym, scanCode, down);
    });
  }
  void pointer(Point at, unsigned buttons) override {
    withClient([=](rfb::Client& c, VncSession& self) {
      if (!self.config_.viewOnly) c.pointer(at, buttons);
    });
  }
  void pointerBy(int dx, int dy, unsigned buttons) override {
    withClient([=](rfb::Client& c, VncSession& self) {
      if (!self.config_.viewOnly) c.pointerBy(dx, dy, buttons);
    });
  }
  void offerClipboard(std::string utf8) override {
    withClient([text = std::move(utf8)](rfb::Client& c, VncSession& self) {
      if (!self.config_.viewOnly) c.offerClipboard(text);
    });
  }
  void requestSize(Size size) override {
    withClient([=](rfb::Client& c, VncSession&) { c.requestSize(size); });
  }
  void power(PowerWish wish) override {
    withClient([=](rfb::Client& c, VncSession&) {
      c.power(wish == PowerWish::ShutDown ? rfb::PowerAction::ShutDown
              : wish == PowerWish::Reboot ? rfb::PowerAction::Reboot
                                          : rfb::PowerAction::Reset);
    });
  }
  void setSound(bool on) override {
    onStrand<VncSession>([on](VncSession& self) {
      self.config_.options.audio = on;
      if (self.client_) self.client_->setAudio(on);
    });
  }
  void setColours(int bits) override {
    onStrand<VncSession>([bits](VncSession& self) {
      const PixelFormat format = bits == 8    ? PixelFormat::rgb332()
                                 : bits == 16 ? PixelFormat::rgb565()
                                              : PixelFormat::native();
      self.config_.options.format = format;
      if (self.client_) self.client_->setFormat(format);
    });
  }
  void setQuality(int quality, int compression) override {
    onStrand<VncSession>([=](VncSession& self) {
      self.config_.chooseQuality = false;
      self.config_.options.quality = quality;
      self.config_.options.compression = compression;
      if (self.client_) self.client_->setQuality(quality, compression);
    });
  }
  void setViewOnly(bool on) override {
    onStrand<VncSession>([on](VncSession& self) { self.config_.viewOnly = on; });
  }
  void refresh() override {
    withClient([](rfb::Client& c, VncSession&) { c.refresh(); });
  }
  void setPaused(bool paused) override {
    onStrand<VncSession>([paused](VncSession& self) {
      self.paused_ = paused;
      if (self.client_) self.client_->pauseUpdates(paused);
    });
  }

  // Questions of the handshake.
  Task<rfb::SignIn> signIn(rfb::SignInRequest request) override {
    asksSignIn_ = true;
    if (!wrongBefore_ && config_.keptSignIn) {
      if (auto kept = config_.keptSignIn(request)) co_return *kept;
    }
    Question question;
    question.kind = request.wantsUser ? Question::Kind::UserAndPassword : Question::Kind::Password;
    question.text = (request.wantsUser ? "Name and password for " : "Password for ") + config_.label;
    if (request.eightCharacters) question.hint = "Only the first eight characters count here.";
    question.again = wrongBefore_;
    Answer answer = co_await ask(std::move(question));
    if (!answer.accepted) throw Error(ErrorKind::SignInFailed, "no password was given");
    answeredByPerson_ = true;
    rfb::SignIn out;
    out.user = answer.user;
    out.password = answer.password;
    if (answer.remember) toRemember_ = out;
    co_return out;
  }

  Task<bool> trust(PeerCertificate certificate) override {
    return trustCertificate(*this, config_.trust, peerName(), config_.label, std::move(certificate));
  }

  // Events of the client.
  void opened(const std::string& name, const std::string& security, bool sealed) override {
    wrongBefore_ = false;
    if (toRemember_ && config_.rememberSignIn) config_.rememberSignIn(*toRemember_);
    toRemember_.reset();
    route_.security = security;
    route_.sealed = sealed;
    route_.machineName = name;
    observer_->nameChanged(name);
    becomeLive();
    abilitiesChanged({});
  }
  void pictureResized(Size size, const std::vector<Screen>& screens) override {
    screenCount_ = screens.size();
    observer_->pictureResized(size, screens);
    if (client_) abilitiesChanged(client_->abilities());
  }
  void damaged(const Region& region) override { observer_->damaged(region); }
  void cursorChanged(const rfb::Cursor& c) override {
    observer_->pointerShapeChanged({c.size, c.hotspot, c.pixels});
  }
  void pointerMoved(Point at) override { observer_->pointerMoved(at); }
  void pointerRelative(bool on) override { observer_->pointerRelative(on); }
  void bell() override { observer_->bell(); }
  void nameChanged(const std::string& name) override {
    route_.machineName = name;
    observer_->nameChanged(name);
  }
  void ledState(unsigned bits) override { observer_->lockKeysChanged(bits); }
  void clipboardText(const std::string& text) override { observer_->clipboardText(text); }
  void audioBegins(rfb::AudioForm form) override { observer_->soundBegins({form.channels, form.rate}); }
  void audioData(ByteView data) override { observer_->sound(data); }
  void audioEnds() override { observer_->soundEnds(); }
  void resizeRefused(const std::string& why) override {
    observer_->remark("Picture size unchanged: " + why + ".");
  }
  void powerRefused() override { observer_->remark("The machine refused the power command."); }

  void abilitiesChanged(const rfb::PeerAbilities& peer) override {
    Capabilities c;
    const auto say = [](bool can, const char* why) { return can ? Ability{true, {}} : Ability{false, why}; };
    c.pointer = c.keys = c.quality = c.colours = c.savePicture = {true, {}};
    c.clipboard = say(config_.options.clipboard, "The clipboard is switched off on this machine's sheet.");
    c.resize = say(peer.resize, "This machine's console does not take a picture size from outside.");
    c.power = say(peer.power, "This console offers no power commands (xvp).");
    c.sound = say(peer.audio, "This console sends no sound; the host must give the machine an audio device.");
    c.screens = say(screenCount_ > 1, "This machine shows one screen only.");
    c.files = {false, "A VNC console carries no files."};
    observer_->capabilitiesChanged(c);
  }

 private:
  template <typename F>
  void withClient(F what) {
    onStrand<VncSession>([what = std::move(what)](VncSession& self) {
      if (self.client_) what(*self.client_, self);
    });
  }

  [[nodiscard]] std::string peerName() const override {
    return config_.unixPath.empty() ? config_.host + ":" + std::to_string(config_.port) : config_.unixPath;
  }

  void closeConnection() override {
    if (client_) client_->close();
  }
  void connectionOver() override { client_.reset(); }
  bool triesAgainAtOnce(const Error& failure) override {
    if (failure.kind() != ErrorKind::SignInFailed || !asksSignIn_ || !(answeredByPerson_ || !wrongBefore_) ||
        failure.detail() == "no password was given")
      return false;
    wrongBefore_ = true;  // ask, or ask again
    toRemember_.reset();
    return true;
  }

  Task<StreamPtr> connect(ConnectFindings* findings) {
    if (config_.connect) return config_.connect(*this, route_, findings);
    if (!config_.unixPath.empty()) return connectUnix(config_.unixPath);
    return connectTcp(config_.host, static_cast<std::uint16_t>(config_.port), config_.connectLimit, findings);
  }

  Task<void> connectAndServe() override {
    asksSignIn_ = answeredByPerson_ = false;
    ConnectFindings findings;
    StreamPtr stream = co_await connect(&findings);
    route_.address = findings.address;
    route_.answersIn = findings.took;
    route_.reached = true;
    observer_->routeChanged(route_);
    if (ending_) throw Error(ErrorKind::Cancelled, "ended here");
    if (config_.chooseQuality) chooseQuality(findings.took);
    setStatus(SessionStage::SigningIn, "signing in");
    client_ = std::make_unique<rfb::Client>(strand_, clock_, picture_, config_.options, *this);
    client_->pauseUpdates(paused_);
    co_await client_->run(std::move(stream));
  }

  void chooseQuality(std::chrono::nanoseconds answersIn) {
    using namespace std::chrono_literals;
    rfb::ClientOptions& o = config_.options;
    if (answersIn > 80ms)
      o.quality = 4, o.compression = 7;
    else if (answersIn > 20ms)
      o.quality = 6, o.compression = 4;
  }

  void everySecond(double seconds) override {
    if (!client_) return;
    const rfb::ClientFigures& now = client_->figures();
    if (now.bytesIn < before_.bytesIn) before_ = {}, seen_.clear();
    Figures f;
    f.bytesIn = now.bytesIn, f.bytesOut = now.bytesOut, f.frames = now.frames,
    f.keyToPicture = now.keyToPicture;
    f.framesPerSecond = static_cast<double>(f.frames - before_.frames) / seconds;
    f.bytesInPerSecond = static_cast<double>(f.bytesIn - before_.bytesIn) / seconds;
    f.bytesOutPerSecond = static_cast<double>(f.bytesOut - before_.bytesOut) / seconds;
    f.encodings = newEncodings(now.rectanglesByEncoding, seen_);
    if (f.encodings.empty()) f.encodings = before_.encodings;
    before_ = f;
    observer_->figuresChanged(f);
  }

  static std::string newEncodings(const std::map<std::int32_t, std::uint64_t>& now,
                                  std::map<std::int32_t, std::uint64_t>& seen) {
    std::vector<std::pair<std::uint64_t, std::int32_t>> fresh;
    for (const auto& [encoding, count] : now)
      if (count > seen[encoding]) fresh.emplace_back(count - seen[encoding], encoding);
    seen = now;
    std::sort(fresh.rbegin(), fresh.rend());
    std::string text;
    for (const auto& [count, encoding] : fresh)
      text += (text.empty() ? "" : " + ") + rfb::nameOfEncoding(encoding);
    return text;
  }

  VncConfig config_;
  std::shared_ptr<Framebuffer> picture_;
  std::unique_ptr<rfb::Client> client_;
  std::optional<rfb::SignIn> toRemember_;
  std::size_t screenCount_ = 1;
  bool paused_ = false, asksSignIn_ = false, answeredByPerson_ = false, wrongBefore_ = false;
  Figures before_;
  std::map<std::int32_t, std::uint64_t> seen_;
};

}  // namespace

std::shared_ptr<Session> makeVncSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        VncConfig config) {
  return std::make_shared<VncSession>(strand, std::move(clock), std::move(config));
}

}  // namespace kw
