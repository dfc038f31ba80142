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
        signIns_(config_.kept),
        picture_(std::make_shared<Framebuffer>()) {
    config_.options.host = config_.unixPath.empty() ? config_.host : "";
    route_.host = config_.unixPath.empty() ? config_.host : config_.unixPath;
    route_.port = config_.unixPath.empty() ? config_.port : 0;
    policy_.onlyLook = config_.viewOnly;
  }

  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const override { return picture_; }

  // Questions of the handshake.
  Task<SignIn> signIn(rfb::SignInRequest request) override {
    SignInWish wish;
    wish.wantsUser = request.wantsUser;
    wish.label = config_.label;
    wish.use = request.use;
    if (request.eightCharacters) wish.hint = "Only the first eight characters count here.";
    co_return co_await signIns_.next(*this, std::move(wish));
  }

  Task<bool> trust(PeerCertificate certificate) override {
    return trustCertificate(*this, config_.trust, pinName(), config_.label, std::move(certificate));
  }

  Task<bool> plain(std::string method) override {
    return goOnPlain(*this, config_.trust, pinName(), config_.label, std::move(method));
  }
  Task<bool> unproved(std::string method) override {
    return goOnUnproved(*this, config_.trust, pinName(), config_.label, std::move(method));
  }

  // Events of the client.
  void opened(const std::string& name, const std::string& security, bool sealed) override {
    signIns_.worked();
    if (sealed) noteSealed(config_.trust, pinName(), security);
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
  void clipboardText(const std::string& text) override { tellClipboard(text); }
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

 protected:
  // Commands.
  void keyNow(std::uint32_t keysym, std::uint32_t scanCode, bool down) override {
    if (client_) client_->key(keysym, scanCode, down);
  }
  void pointerNow(Point at, unsigned buttons) override {
    if (client_) client_->pointer(at, buttons & 0x7f);
  }
  void pointerByNow(int dx, int dy, unsigned buttons) override {
    if (client_) client_->pointerBy(dx, dy, buttons & 0x7f);
  }
  void clipboardNow(const std::string& utf8) override {
    if (client_) client_->offerClipboard(utf8);
  }
  void sizeNow(Size size) override {
    if (client_) client_->requestSize(size);
  }
  void powerNow(PowerWish wish) override {
    if (!client_) return;
    client_->power(wish == PowerWish::ShutDown ? rfb::PowerAction::ShutDown
                   : wish == PowerWish::Reboot ? rfb::PowerAction::Reboot
                                               : rfb::PowerAction::Reset);
  }
  void soundNow(bool on) override {
    config_.options.audio = on;
    if (client_) client_->setAudio(on);
  }
  void coloursNow(int bits) override {
    config_.options.format = rfb::formatOfColours(bits);
    if (client_) client_->setFormat(config_.options.format);
  }
  void qualityNow(int quality, int compression) override {
    config_.chooseQuality = false;
    config_.options.quality = quality;
    config_.options.compression = compression;
    if (client_) client_->setQuality(quality, compression);
  }
  void refreshNow() override {
    if (client_) client_->refresh();
  }
  void pausedNow(bool paused) override {
    paused_ = paused;
    if (client_) client_->pauseUpdates(paused);
  }

 private:
  [[nodiscard]] std::string peerName() const override {
    return config_.unixPath.empty() ? config_.host + ":" + std::to_string(config_.port) : config_.unixPath;
  }
  [[nodiscard]] std::string pinName() const { return config_.way ? config_.way->pinName() : peerName(); }

  void closeConnection() override {
    if (client_) client_->close();
  }
  void connectionOver() override { client_.reset(); }
  bool triesAgainAtOnce(const Error& failure) override { return signIns_.again(failure); }

  Task<StreamPtr> connect(ConnectFindings* findings) {
    if (config_.way) return config_.way->connect(*this, route_, findings);
    if (!config_.unixPath.empty()) return connectUnix(config_.unixPath);
    return connectTcp(config_.host, static_cast<std::uint16_t>(config_.port), config_.connectLimit, findings);
  }

  Task<void> connectAndServe() override {
    signIns_.begin();
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
  SignInTurns signIns_;
  std::shared_ptr<Framebuffer> picture_;
  std::unique_ptr<rfb::Client> client_;
  std::size_t screenCount_ = 1;
  bool paused_ = false;
  Figures before_;
  std::map<std::int32_t, std::uint64_t> seen_;
};

}  // namespace

std::shared_ptr<Session> makeVncSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        VncConfig config) {
  return std::make_shared<VncSession>(strand, std::move(clock), std::move(config));
}

}  // namespace kw
