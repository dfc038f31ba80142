#include "session/rdp_session.hpp"

#include <algorithm>

#include "session/frame_counter.hpp"
#include "session/session_base.hpp"

namespace kw {

namespace {

/// More are not offered, whatever a service can have.
constexpr int kMostScreens = 4;
constexpr int kMostRedirections = 5;

class RdpSession : public SessionBase, public rdp::ClientEvents {
 public:
  RdpSession(const Executor& strand, std::shared_ptr<Clock> clock, RdpConfig config)
      : SessionBase(strand, std::move(clock), config.reconnect),
        config_(std::move(config)),
        signIns_(config_.kept),
        picture_(std::make_shared<Framebuffer>()) {
    route_.host = config_.options.host;
    route_.port = config_.port;
    policy_.onlyLook = config_.viewOnly;
  }

  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const override { return picture_; }

  // Questions of the connection.
  Task<std::optional<SignIn>> signIn(rdp::SignInRequest request) override {
    // The farm has taken it already; what went over a sealed line goes on over one only.
    if (sentOn_ && account_ && request.use == accountUse_) co_return account_;
    SignInWish wish;
    wish.wantsUser = true;
    wish.user = request.user;
    wish.label = config_.label;
    wish.use = request.use;
    if (request.canBeLeftOut) wish.hint = "Left empty, the machine shows its own sign-in page.";
    std::optional<SignIn> out;
    std::optional<Error> declined;
    try {
      out = co_await signIns_.next(*this, std::move(wish));
    } catch (const Error& e) {
      declined = e;
    }
    if (declined && (!request.canBeLeftOut || ending_)) throw *declined;
    if (out && out->password.empty() && request.canBeLeftOut) out.reset();
    if (out) setStatus(SessionStage::SigningIn, "signing in as " + out->user);
    account_ = out;
    accountUse_ = request.use;
    co_return out;
  }
  Task<bool> trust(PeerCertificate certificate) override {
    const std::string label =
        elsewhere_ ? config_.label + " (sent on to " + elsewhere_->host + ")" : config_.label;
    return trustCertificate(*this, config_.trust, pinName(), label, std::move(certificate));
  }
  Task<bool> plain(std::string method) override {
    return goOnPlain(*this, config_.trust, pinName(), config_.label, std::move(method));
  }

  // Events of the client.
  void opened(const rdp::Agreed& agreed) override {
    signIns_.worked();
    if (agreed.sealed) noteSealed(config_.trust, pinName(), agreed.security);
    route_.security = agreed.security;
    route_.sealed = agreed.sealed;
    becomeLive();
    tellAbilities();
  }
  /// Monitors come in the order in which they were asked for: those of the plan that are on.
  void pictureResized(Size size, const std::vector<Rect>& monitors) override {
    std::vector<Screen> screens;
    plan_.resize(std::max(plan_.size(), monitors.size()));
    std::size_t next = 0;
    for (std::size_t id = 0; id < plan_.size(); ++id) {
      ScreenOffer& s = plan_[id];
      s.id = static_cast<std::uint32_t>(id);
      const std::size_t left = plan_.size() - id;
      s.on = next < monitors.size() && (s.on || left <= monitors.size() - next);
      s.area = s.on ? monitors[next++] : Rect{};
      if (s.on) screens.push_back({s.id, s.area, 0});
    }
    observer_->pictureResized(size, screens);
    if (mostScreens_ > 1) observer_->screensOffered(plan_);
  }
  void damaged(const Region& region) override { observer_->damaged(region); }
  void cursorChanged(const rdp::Cursor& c) override {
    observer_->pointerShapeChanged({c.size, c.hotspot, c.pixels});
  }
  void pointerMoved(Point at) override { observer_->pointerMoved(at); }
  void bell() override { observer_->bell(); }
  void lockKeys(unsigned bits) override { observer_->lockKeysChanged(bits); }
  void clipCame(std::shared_ptr<Clip> clip) override { tellClip(std::move(clip)); }
  void resizable(int mostMonitors) override {
    resizable_ = mostMonitors > 0;
    mostScreens_ = std::min(mostMonitors, kMostScreens);
    plan_.resize(std::max<std::size_t>({plan_.size(), static_cast<std::size_t>(mostScreens_), 1}));
    for (std::size_t id = 0; id < plan_.size(); ++id) plan_[id].id = static_cast<std::uint32_t>(id);
    tellAbilities();
    if (mostScreens_ > 1) observer_->screensOffered(plan_);
  }
  void soundBegins(rdp::SampleForm form) override { observer_->soundBegins({form.channels, form.rate}); }
  void sound(ByteView samples) override { observer_->sound(samples); }
  void soundEnds() override { observer_->soundEnds(); }
  void canComeBack(const rdp::ComeBackCookie& cookie) override {
    if (!sentOn_) comeBack_ = cookie;
  }
  void told(const std::string& sentence) override { observer_->remark(sentence); }

 protected:
  void keyNow(std::uint32_t keysym, std::uint32_t scanCode, bool down) override {
    if (client_) client_->key(keysym, scanCode, down);
  }
  void pointerNow(Point at, unsigned buttons) override {
    if (client_) client_->pointer(at, buttons);
  }
  void clipNow(std::shared_ptr<Clip> clip) override {
    clipboard_ = std::move(clip);
    if (client_) client_->offerClip(clipboard_);
  }
  void sizeNow(Size size) override {
    config_.options.size = size;  // also for the next connection
    if (!client_) return;
    if (std::count_if(plan_.begin(), plan_.end(), [](const auto& s) { return s.on; }) <= 1)
      return client_->requestSize(size);
    for (ScreenOffer& s : plan_)
      if (s.on) {
        s.area.width = size.width, s.area.height = size.height;
        break;
      }
    layOut(beside(plan_));
  }
  void switchScreenNow(std::uint32_t id, Size size) override {
    if (!client_ || id >= plan_.size()) return;
    std::vector<ScreenOffer> plan = plan_;
    plan[id].on = !size.empty();
    plan[id].area = {0, 0, size.width, size.height};
    if (std::none_of(plan.begin(), plan.end(), [](const auto& s) { return s.on; }))
      return observer_->remark("The last screen stays on.");
    layOut(beside(std::move(plan)));
  }
  void arrangeNow(const std::vector<ScreenOffer>& wanted) override {
    if (client_) layOut(wanted);
  }
  void soundNow(bool on) override {
    config_.options.sound = on;
    if (client_) client_->wantSound(on);
  }
  void refreshNow() override {
    if (client_) client_->refresh();
  }
  void pausedNow(bool paused) override {
    paused_ = paused;
    if (client_) client_->pauseUpdates(paused);
  }

 private:
  [[nodiscard]] std::string peerName() const override { return config_.way->forPeople(); }
  [[nodiscard]] std::string whereItMayListen() const {
    if (!config_.options.machineId.empty())
      return "The host is there, but serves no consoles on this port: its console service is off, or listens "
             "on another address.";
    return "The machine is there, but its remote desktop service is not: it is off, still starting, or "
           "listens on the machine's own loopback address only. Switch it on there and let it listen on all "
           "addresses; the host's console works meanwhile.";
  }
  void closeConnection() override {
    if (client_) client_->close();
  }
  void connectionOver() override { client_.reset(); }
  bool triesAgainAtOnce(const Error& failure) override { return signIns_.again(failure); }

  /// One to the right of the other, without gaps.
  static std::vector<ScreenOffer> beside(std::vector<ScreenOffer> plan) {
    int x = 0;
    for (ScreenOffer& s : plan) {
      if (!s.on) continue;
      s.area.x = std::exchange(x, x + s.area.width);
      s.area.y = 0;
    }
    return plan;
  }
  /// What a redirection changes for the next connection; the machine it leads to has a pin of its own.
  void follow(const rdp::Redirection& to, rdp::ClientOptions& options) {
    sentOn_ = true;
    options.routingToken = to.routingToken;
    options.machineId.clear();
    options.comeBack.reset();
    if (!to.address.empty()) {
      elsewhere_ = Place{to.address, 0};
      options.host = to.address;
    }
    if (!to.user.empty()) options.user = to.user;
    if (!to.domain.empty()) options.domain = to.domain;
    setStatus(SessionStage::Connecting,
              to.address.empty() ? "sent on by the farm" : "sent on by the farm to " + to.address);
  }
  [[nodiscard]] std::string pinName() const {
    return elsewhere_ ? config_.way->pinName() + " > " + elsewhere_->host : config_.way->pinName();
  }
  void layOut(const std::vector<ScreenOffer>& wanted) {
    std::vector<Rect> monitors;
    for (const ScreenOffer& s : wanted) {
      if (s.id >= plan_.size()) continue;
      plan_[s.id].on = s.on;
      if (s.on) monitors.push_back(s.area);
    }
    client_->requestLayout(std::move(monitors));
  }

  Task<StreamPtr> dial() {
    ConnectFindings findings;
    StreamPtr stream;
    std::optional<Error> refused;
    try {
      stream = co_await config_.way->connect(*this, route_, &findings, elsewhere_);
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::Refused) throw;
      refused = e;
    }
    if (refused) throw refused->withCure(whereItMayListen());
    route_.address = findings.address;
    route_.answersIn = findings.took;
    route_.reached = true;
    observer_->routeChanged(route_);
    if (ending_) throw Error(ErrorKind::Cancelled, "ended here");
    setStatus(SessionStage::SigningIn, "agreeing on security");
    co_return stream;
  }

  Task<void> connectAndServe() override {
    signIns_.begin();
    resizable_ = false;
    mostScreens_ = 0;
    plan_.assign(1, ScreenOffer{0, true, {}});
    elsewhere_.reset();
    sentOn_ = false;
    rdp::ClientOptions options = config_.options;
    options.comeBack = std::exchange(comeBack_, std::nullopt);
    for (int hops = 0;; ++hops) {
      client_ = std::make_unique<rdp::Client>(strand_, clock_, picture_, options, *this);
      client_->pauseUpdates(paused_);
      if (clipboard_) client_->offerClip(clipboard_);
      rdp::Client::Dial dialling = [this] { return dial(); };
      std::optional<rdp::Redirection> to;
      try {
        co_await client_->run(std::move(dialling));
      } catch (const rdp::SentElsewhere& e) {
        to = e.to();
      }
      if (!to) co_return;
      if (hops == kMostRedirections)
        throw Error(ErrorKind::ProtocolBroken, "the services send this session round in a circle",
                    peerName());
      follow(*to, options);
    }
  }

  void everySecond(double seconds) override {
    if (!client_) return;
    const rdp::ClientFigures& now = client_->figures();
    Figures f = counter_.since(seconds, now.bytesIn, now.bytesOut, now.frames, now.rectanglesByForm,
                               now.keyToPicture);
    f.roundTrip = now.line.roundTrip;
    f.lineBitsPerSecond = now.line.kilobitsPerSecond * 1000.0;
    f.soundBytes = now.soundBytes;
    observer_->figuresChanged(f);
  }

  void tellAbilities() {
    Capabilities c;
    const auto say = [](bool can, const char* why) { return can ? Ability{true, {}} : Ability{false, why}; };
    c.pointer = c.keys = c.savePicture = {true, {}};
    c.clipboard = say(config_.options.clipboard, "The clipboard is switched off on this machine's sheet.");
    c.resize =
        say(resizable_, "This service does not take a desktop size while connected (no display control).");
    c.power = {false, "A remote desktop has no power commands; its host has."};
    c.sound = {true, {}};
    c.screens = say(mostScreens_ > 1,
                    resizable_ ? "This service shows one screen and takes no more."
                               : "This service takes no screens while connected (no display control).");
    c.quality = {false, "The service chooses how its pictures are packed."};
    c.colours = {false, "Colours are agreed when connecting: set them on the sheet."};
    c.files = {false, "Files of a remote desktop are not carried yet."};
    observer_->capabilitiesChanged(c);
  }

  RdpConfig config_;
  SignInTurns signIns_;
  std::shared_ptr<Framebuffer> picture_;
  std::unique_ptr<rdp::Client> client_;
  FrameCounter counter_;
  std::shared_ptr<Clip> clipboard_;
  bool paused_ = false, resizable_ = false;
  std::vector<ScreenOffer> plan_;
  std::optional<Place> elsewhere_;  ///< where a farm sent us
  bool sentOn_ = false;
  std::optional<rdp::ComeBackCookie> comeBack_;  ///< to the session of before a cut
  std::optional<SignIn> account_;
  SecretUse accountUse_ = SecretUse::Unknown;
  int mostScreens_ = 0;
};

}  // namespace

std::shared_ptr<Session> makeRdpSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        RdpConfig config) {
  return std::make_shared<RdpSession>(strand, std::move(clock), std::move(config));
}

}  // namespace kw
