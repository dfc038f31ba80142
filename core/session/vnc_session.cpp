#include "session/vnc_session.hpp"

#include "rfb/constants.hpp"

namespace kw {

std::chrono::nanoseconds ReconnectPolicy::delay(int attempt) const {
  auto wait = first;
  for (int i = 1; i < attempt && wait < longest; ++i) wait *= 2;
  return std::min(wait, longest);
}

namespace {

class VncSession : public Session, public rfb::ClientEvents, public std::enable_shared_from_this<VncSession> {
 public:
  VncSession(const Executor& strand, std::shared_ptr<Clock> clock, VncConfig config)
      : strand_(strand),
        clock_(std::move(clock)),
        config_(std::move(config)),
        picture_(std::make_shared<Framebuffer>()),
        wake_(strand),
        answered_(strand) {
    config_.options.host = config_.unixPath.empty() ? config_.host : "";
    route_.host = config_.unixPath.empty() ? config_.host : config_.unixPath;
    route_.port = config_.unixPath.empty() ? config_.port : 0;
  }

  // Commands, from any thread.
  void observe(std::shared_ptr<SessionObserver> observer) override {
    post(strand_, [self = shared_from_this(), observer = std::move(observer)]() mutable {
      self->observer_ = observer ? std::move(observer) : std::make_shared<SessionObserver>();
    });
  }
  void start() override {
    post(strand_, [self = shared_from_this()] { self->startNow(); });
  }
  void end() override {
    post(strand_, [self = shared_from_this()] { self->endNow(); });
  }
  void retry() override {
    post(strand_, [self = shared_from_this()] {
      self->retryNow_ = true;
      self->wake_.notify();
      if (self->status_.stage == SessionStage::Ended) self->startNow();
    });
  }
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
    onStrand([on](VncSession& self) {
      self.config_.options.audio = on;
      if (self.client_) self.client_->setAudio(on);
    });
  }
  void setColours(int bits) override {
    onStrand([bits](VncSession& self) {
      const PixelFormat format = bits == 8    ? PixelFormat::rgb332()
                                 : bits == 16 ? PixelFormat::rgb565()
                                              : PixelFormat::native();
      self.config_.options.format = format;
      if (self.client_) self.client_->setFormat(format);
    });
  }
  void setQuality(int quality, int compression) override {
    onStrand([=](VncSession& self) {
      self.config_.chooseQuality = false;
      self.config_.options.quality = quality;
      self.config_.options.compression = compression;
      if (self.client_) self.client_->setQuality(quality, compression);
    });
  }
  void setViewOnly(bool on) override {
    onStrand([on](VncSession& self) { self.config_.viewOnly = on; });
  }
  void refresh() override {
    withClient([](rfb::Client& c, VncSession&) { c.refresh(); });
  }
  void setPaused(bool paused) override {
    onStrand([paused](VncSession& self) {
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
    const std::string peer = peerName();
    const auto pinned = config_.trust ? config_.trust->pinned(peer) : std::nullopt;
    if (pinned && *pinned == certificate.sha256) co_return true;
    if (!pinned && certificate.vouched) co_return true;
    Question question;
    question.kind = Question::Kind::Trust;
    question.text = pinned ? "The certificate of " + config_.label + " has changed."
                           : "The certificate of " + config_.label + " is not known yet.";
    question.pinned = pinned.value_or("");
    question.certificate = certificate;
    const Answer answer = co_await ask(std::move(question));
    if (answer.accepted && answer.remember && config_.trust) config_.trust->pin(peer, certificate.sha256);
    co_return answer.accepted;
  }

  // Events of the client.
  void opened(const std::string& name, const std::string& security, bool sealed) override {
    wrongBefore_ = false;
    attempt_ = 0;
    wasLive_ = true;
    if (toRemember_ && config_.rememberSignIn) config_.rememberSignIn(*toRemember_);
    toRemember_.reset();
    route_.security = security;
    route_.sealed = sealed;
    route_.machineName = name;
    route_.reached = true;
    observer_->routeChanged(route_);
    observer_->nameChanged(name);
    setStatus(SessionStage::Live, "live");
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
  void onStrand(F what) {
    post(strand_, [self = shared_from_this(), what = std::move(what)] { what(*self); });
  }
  template <typename F>
  void withClient(F what) {
    onStrand([what = std::move(what)](VncSession& self) {
      if (self.client_) what(*self.client_, self);
    });
  }

  [[nodiscard]] std::string peerName() const {
    return config_.unixPath.empty() ? config_.host + ":" + std::to_string(config_.port) : config_.unixPath;
  }

  void setStatus(SessionStage stage, std::string sentence, std::optional<ErrorKind> problem = {},
                 std::string cure = {}, std::chrono::nanoseconds next = {}) {
    status_ = {stage, std::move(sentence), problem, std::move(cure), attempt_, next};
    observer_->statusChanged(status_);
  }

  void startNow() {
    if (running_) return;
    running_ = true;
    ending_ = false;
    attempt_ = 0;
    spawn(strand_, [self = shared_from_this()] { return self->run(); });
    if (!counting_) {
      counting_ = true;
      spawn(strand_, [self = shared_from_this()] { return self->countFigures(); });
    }
  }

  void endNow() {
    ending_ = true;
    // A question that nobody will answer any more is answered with no.
    if (pendingAsk_) *pendingAsk_ = Answer{};
    answered_.notify();
    wake_.notify();
    if (client_) client_->close();
    if (!running_ && status_.stage != SessionStage::Ended) setStatus(SessionStage::Ended, "ended");
  }

  Task<Answer> ask(Question question) {
    auto slot = std::make_shared<std::optional<Answer>>();
    pendingAsk_ = slot;
    observer_->asked(question, [weak = weak_from_this(), slot](Answer answer) {
      auto self = weak.lock();
      if (!self) return;
      post(self->strand_, [self, slot, answer = std::move(answer)] {
        if (!*slot) *slot = answer;
        self->answered_.notify();
      });
    });
    while (!*slot && !ending_) co_await answered_.wait();
    pendingAsk_.reset();
    co_return slot->value_or(Answer{});
  }

  Task<StreamPtr> connect(ConnectFindings* findings) {
    if (config_.connect) return config_.connect(findings);
    if (!config_.unixPath.empty()) return connectUnix(config_.unixPath);
    return connectTcp(config_.host, static_cast<std::uint16_t>(config_.port), config_.connectLimit, findings);
  }

  Task<void> connectAndServe() {
    ++attempt_;
    asksSignIn_ = answeredByPerson_ = false;
    setStatus(SessionStage::Connecting, "connecting to " + peerName());
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

  /// Lets end() interrupt a handshake that hangs.
  Task<void> endWatch() {
    while (!ending_) co_await wake_.wait();
    throw Error(ErrorKind::Cancelled, "ended here");
  }

  Task<void> run() {
    auto self = shared_from_this();
    while (!ending_) {
      Error failure(ErrorKind::Cancelled, "ended here");
      try {
        co_await firstOf(connectAndServe(), endWatch());
      } catch (const Error& e) {
        failure = e;
      } catch (const std::exception& e) {
        failure = Error(ErrorKind::Local, e.what());
      }
      client_.reset();
      if (ending_) break;
      if (failure.kind() == ErrorKind::SignInFailed && asksSignIn_ && (answeredByPerson_ || !wrongBefore_) &&
          failure.detail() != "no password was given") {
        wrongBefore_ = true;  // ask, or ask again
        toRemember_.reset();
        continue;
      }
      const bool goOn = co_await waitForNext(failure);
      if (!goOn) {
        running_ = false;
        setStatus(SessionStage::Ended, failure.what(), failure.kind(), failure.cure());
        co_return;
      }
    }
    running_ = false;
    setStatus(SessionStage::Ended, "ended");
  }

  [[nodiscard]] bool worthAnotherTry(ErrorKind kind) const {
    if (!config_.reconnect.enabled) return false;
    if (config_.reconnect.mostAttempts > 0 && attempt_ >= config_.reconnect.mostAttempts) return false;
    switch (kind) {
      case ErrorKind::ClosedByPeer:
      case ErrorKind::Unreachable:
      case ErrorKind::Refused:
      case ErrorKind::TimedOut: return true;
      default: return false;
    }
  }

  /// Returns false when this failure ends the session.
  Task<bool> waitForNext(const Error failure) {
    if (!worthAnotherTry(failure.kind())) co_return false;
    const auto delay = config_.reconnect.delay(std::max(attempt_, 1));
    route_.reached = false;
    observer_->routeChanged(route_);
    setStatus(SessionStage::Waiting, failure.what(), failure.kind(), failure.cure(), delay);
    retryNow_ = false;
    co_await firstOf(clock_->sleep(delay), untilWoken());
    co_return true;
  }

  Task<void> untilWoken() {
    while (!retryNow_ && !ending_) co_await wake_.wait();
  }

  Task<void> countFigures() {
    auto self = shared_from_this();
    Figures before;
    std::map<std::int32_t, std::uint64_t> seen;
    auto last = clock_->now();
    while (running_) {
      co_await clock_->sleep(std::chrono::seconds(1));
      if (!client_ || status_.stage != SessionStage::Live) continue;
      const rfb::ClientFigures& now = client_->figures();
      const double seconds = std::max(std::chrono::duration<double>(clock_->now() - last).count(), 1e-3);
      last = clock_->now();
      if (now.bytesIn < before.bytesIn) before = {}, seen.clear();
      Figures f;
      f.bytesIn = now.bytesIn, f.bytesOut = now.bytesOut, f.frames = now.frames,
      f.keyToPicture = now.keyToPicture;
      f.framesPerSecond = static_cast<double>(f.frames - before.frames) / seconds;
      f.bytesInPerSecond = static_cast<double>(f.bytesIn - before.bytesIn) / seconds;
      f.bytesOutPerSecond = static_cast<double>(f.bytesOut - before.bytesOut) / seconds;
      f.encodings = newEncodings(now.rectanglesByEncoding, seen);
      if (f.encodings.empty()) f.encodings = before.encodings;
      before = f;
      observer_->figuresChanged(f);
    }
    counting_ = false;
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

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  VncConfig config_;
  std::shared_ptr<Framebuffer> picture_;
  std::shared_ptr<SessionObserver> observer_ = std::make_shared<SessionObserver>();
  std::unique_ptr<rfb::Client> client_;
  SessionStatus status_;
  RouteFacts route_;
  Signal wake_, answered_;
  std::shared_ptr<std::optional<Answer>> pendingAsk_;
  std::optional<rfb::SignIn> toRemember_;
  std::size_t screenCount_ = 1;
  int attempt_ = 0;
  bool running_ = false, ending_ = false, retryNow_ = false, paused_ = false, counting_ = false,
       wasLive_ = false;
  bool asksSignIn_ = false, answeredByPerson_ = false, wrongBefore_ = false;
};

}  // namespace

std::shared_ptr<Session> makeVncSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        VncConfig config) {
  return std::make_shared<VncSession>(strand, std::move(clock), std::move(config));
}

}  // namespace kw
