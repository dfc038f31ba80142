#include "session/session_base.hpp"

#include <algorithm>

#include "session/limited_clip.hpp"

namespace kw {

namespace {
constexpr auto kSignInLimit = std::chrono::minutes(1);  // as long as a second factor on a telephone may take
}

std::chrono::nanoseconds ReconnectPolicy::delay(int attempt) const {
  auto wait = first;
  for (int i = 1; i < attempt && wait < longest; ++i) wait *= 2;
  return std::min(wait, longest);
}

Task<bool> trustCertificate(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer,
                            std::string label, PeerCertificate certificate) {
  const auto pinned = trust ? trust->pinned(peer) : std::nullopt;
  if (pinned && *pinned == certificate.sha256) co_return true;
  if (!pinned && certificate.vouched) co_return true;
  Question question;
  question.kind = Question::Kind::Trust;
  question.text = pinned ? "The certificate of " + label + " has changed."
                         : "The certificate of " + label + " is not known yet.";
  question.pinned = pinned.value_or("");
  question.certificate = certificate;
  const Answer answer = co_await asker.ask(std::move(question));
  if (answer.accepted && answer.remember && trust) trust->pin(peer, certificate.sha256);
  co_return answer.accepted;
}

namespace {
std::string sealedName(const std::string& peer) { return "sealed " + peer; }
}  // namespace

Task<bool> goOnPlain(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer, std::string label,
                     std::string method) {
  if (!trust) co_return true;
  const auto pin = trust->pinned(peer);
  const auto sealed = trust->pinned(sealedName(peer));
  if (!pin && !sealed) co_return true;
  Question question;
  question.kind = Question::Kind::Unsealed;
  question.text = "The line to " + label + " was sealed before, and this time it is not.";
  question.hint = "It offers only \"" + method + "\", which anybody on the way can follow.";
  question.pinned = pin.value_or(*sealed);
  const Answer answer = co_await asker.ask(std::move(question));
  co_return answer.accepted;
}

Task<bool> goOnUnproved(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer, std::string label,
                        std::string method) {
  const auto pin = trust ? trust->pinned(peer) : std::nullopt;
  if (!pin) co_return true;
  Question question;
  question.kind = Question::Kind::Unsealed;
  question.text = label + " showed a certificate before, and this time it shows none.";
  question.hint = "With \"" + method + "\" the line is sealed, but anybody may be at its other end.";
  question.pinned = *pin;
  const Answer answer = co_await asker.ask(std::move(question));
  co_return answer.accepted;
}

void noteSealed(const std::shared_ptr<TrustStore>& trust, const std::string& peer,
                const std::string& security) {
  if (trust && !trust->pinned(peer) && !trust->pinned(sealedName(peer)))
    trust->pin(sealedName(peer), security);
}

SessionBase::SessionBase(const Executor& strand, std::shared_ptr<Clock> clock, ReconnectPolicy reconnect)
    : strand_(strand),
      clock_(std::move(clock)),
      reconnect_(reconnect),
      wake_(strand),
      answered_(strand),
      never_(strand) {}

void SessionBase::observe(std::shared_ptr<SessionObserver> observer) {
  later([observer = std::move(observer)](SessionBase& s) { s.observer_->add(observer); });
}
void SessionBase::stopObserving(std::shared_ptr<SessionObserver> observer) {
  later([observer = std::move(observer)](SessionBase& s) { s.observer_->remove(observer); });
}
void SessionBase::setPolicy(Policy policy) {
  later([policy](SessionBase& s) { s.policy_ = policy; });
}
void SessionBase::setViewOnly(bool on) {
  later([on](SessionBase& s) { s.policy_.onlyLook = on; });
}
void SessionBase::key(std::uint32_t keysym, std::uint32_t scanCode, bool down) {
  // Releases pass even when only looking, so that no key stays down over there.
  later([=](SessionBase& s) {
    if (s.policy_.mayType() || !down) s.keyNow(keysym, scanCode, down);
  });
}
void SessionBase::pointer(Point at, unsigned buttons) {
  later([=](SessionBase& s) {
    if (s.policy_.mayType()) s.pointerNow(at, buttons);
  });
}
void SessionBase::pointerBy(int dx, int dy, unsigned buttons) {
  later([=](SessionBase& s) {
    if (s.policy_.mayType()) s.pointerByNow(dx, dy, buttons);
  });
}
void SessionBase::offerClip(std::shared_ptr<Clip> clip) {
  later([clip = std::move(clip)](SessionBase& s) {
    if (!s.policy_.mayPaste()) return;
    auto allowed = std::make_shared<LimitedClip>(clip, s.policy_);
    if (!allowed->forms().empty()) s.clipNow(std::move(allowed));
  });
}
void SessionBase::clipNow(std::shared_ptr<Clip> clip) {
  clip->fetch(ClipForm::Text, [self = shared_from_this()](std::optional<Bytes> text) {
    if (!text) return;
    self->later([text = std::string(text->begin(), text->end())](SessionBase& s) {
      if (s.policy_.mayPaste()) s.clipboardNow(text);
    });
  });
}
void SessionBase::requestSize(Size size) {
  later([=](SessionBase& s) {
    if (s.policy_.mayType()) s.sizeNow(size);
  });
}
void SessionBase::switchScreen(std::uint32_t id, Size size) {
  later([=](SessionBase& s) {
    if (s.policy_.mayType()) s.switchScreenNow(id, size);
  });
}
void SessionBase::arrangeScreens(std::vector<ScreenOffer> plan) {
  later([plan = std::move(plan)](SessionBase& s) {
    if (s.policy_.mayType()) s.arrangeNow(plan);
  });
}
void SessionBase::power(PowerWish wish) {
  later([=](SessionBase& s) {
    if (s.policy_.mayPower()) s.powerNow(wish);
  });
}
void SessionBase::setSound(bool on) {
  later([on](SessionBase& s) { s.soundNow(on); });
}
void SessionBase::setColours(int bits) {
  later([bits](SessionBase& s) { s.coloursNow(bits); });
}
void SessionBase::setQuality(int quality, int compression) {
  later([=](SessionBase& s) { s.qualityNow(quality, compression); });
}
void SessionBase::refresh() {
  later([](SessionBase& s) { s.refreshNow(); });
}
void SessionBase::setPaused(bool paused) {
  later([paused](SessionBase& s) { s.pausedNow(paused); });
}
void SessionBase::tellClipboard(const std::string& utf8) {
  if (policy_.clipboardFrom) observer_->clipboardText(utf8);
}
void SessionBase::tellClip(std::shared_ptr<Clip> whole) {
  if (!policy_.clipboardFrom) return;
  const auto clip = std::make_shared<LimitedClip>(std::move(whole), policy_);
  if (clip->forms().empty()) return;
  observer_->clipOffered(clip);
  if (!observer_->wantsClipText()) return;
  clip->fetch(ClipForm::Text, [self = shared_from_this()](std::optional<Bytes> text) {
    if (!text) return;
    self->later([text = std::string(text->begin(), text->end())](SessionBase& s) {
      if (s.policy_.clipboardFrom) s.observer_->clipTextFetched(text);
    });
  });
}
void SessionBase::start() {
  post(strand_, [self = shared_from_this()] { self->startNow(); });
}
void SessionBase::end() {
  post(strand_, [self = shared_from_this()] { self->endNow(); });
}
void SessionBase::retry() {
  post(strand_, [self = shared_from_this()] {
    self->retryNow_ = true;
    self->wake_.notify();
    if (self->status_.stage == SessionStage::Ended) self->startNow();
  });
}

void SessionBase::setStatus(SessionStage stage, std::string sentence, std::optional<ErrorKind> problem,
                            std::string cure, std::chrono::nanoseconds next) {
  ++steps_;
  status_ = {stage, std::move(sentence), problem, std::move(cure), attempt_, next};
  observer_->statusChanged(status_);
}

void SessionBase::doing(const std::string& what) { setStatus(status_.stage, what); }

void SessionBase::becomeLive() {
  attempt_ = 0;
  route_.reached = true;
  observer_->routeChanged(route_);
  setStatus(SessionStage::Live, "live");
}

void SessionBase::startNow() {
  if (running_) return;
  running_ = true;
  ending_ = false;
  attempt_ = 0;
  spawn(strand_, [self = shared_from_this()] { return self->run(); });
  if (!counting_) {
    counting_ = true;
    spawn(strand_, [self = shared_from_this()] { return self->count(); });
  }
}

void SessionBase::endNow() {
  ending_ = true;
  // A question that nobody will answer any more is answered with no.
  if (pendingAsk_) *pendingAsk_ = Answer{};
  answered_.notify();
  wake_.notify();
  closeConnection();
  if (!running_ && status_.stage != SessionStage::Ended) setStatus(SessionStage::Ended, "ended");
}

/// "This time" is this session: a connection that is lost, or a password that is asked for again, asks about
/// the same certificate no more.
Task<Answer> SessionBase::ask(Question question) {
  if (question.kind != Question::Kind::Trust) co_return co_await askNow(std::move(question));
  const std::string what = question.text + ' ' + question.pinned + ' ' + question.certificate.sha256;
  Answer known;
  known.accepted = true;
  if (goodHere_.contains(what)) co_return known;
  Answer answer = co_await askNow(std::move(question));
  if (answer.accepted) goodHere_.insert(what);
  co_return answer;
}

Task<Answer> SessionBase::askNow(Question question) {
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
  ++steps_;
  co_return slot->value_or(Answer{});
}

/// Lets end() interrupt a handshake that hangs.
Task<void> SessionBase::endWatch() {
  while (!ending_) co_await wake_.wait();
  throw Error(ErrorKind::Cancelled, "ended here");
}

/// A peer that takes the connection and then says nothing is given up: between one and two limits after the
/// last step towards getting in. Somebody who thinks about a question has all the time there is.
Task<void> SessionBase::patience() {
  for (std::uint64_t seen = steps_; status_.stage != SessionStage::Live;) {
    co_await clock_->sleep(kSignInLimit);
    if (status_.stage == SessionStage::Live) break;
    if (!pendingAsk_ && seen == steps_)
      throw Error(ErrorKind::TimedOut, "it took the connection, and then said nothing for a minute",
                  peerName());
    seen = steps_;
  }
  for (;;) co_await never_.wait();
}

Task<void> SessionBase::run() {
  auto self = shared_from_this();
  while (!ending_) {
    Error failure(ErrorKind::Cancelled, "ended here");
    ++attempt_;
    setStatus(SessionStage::Connecting, "connecting to " + peerName());
    try {
      co_await firstOf(firstOf(connectAndServe(), endWatch()), patience());
    } catch (const Error& e) {
      failure = e;
    } catch (const std::exception& e) {
      failure = Error(ErrorKind::Local, e.what());
    }
    connectionOver();
    if (ending_) break;
    if (triesAgainAtOnce(failure)) continue;
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

bool SessionBase::worthAnotherTry(ErrorKind kind) const {
  if (!reconnect_.enabled) return false;
  if (reconnect_.mostAttempts > 0 && attempt_ >= reconnect_.mostAttempts) return false;
  switch (kind) {
    case ErrorKind::ClosedByPeer:
    case ErrorKind::Unreachable:
    case ErrorKind::Refused:
    case ErrorKind::TimedOut: return true;
    default: return false;
  }
}

/// Returns false when this failure ends the session.
Task<bool> SessionBase::waitForNext(Error failure) {
  if (!worthAnotherTry(failure.kind())) co_return false;
  const auto delay = reconnect_.delay(std::max(attempt_, 1));
  route_.reached = false;
  observer_->routeChanged(route_);
  setStatus(SessionStage::Waiting, failure.what(), failure.kind(), failure.cure(), delay);
  retryNow_ = false;
  co_await firstOf(clock_->sleep(delay), untilWoken());
  co_return true;
}

Task<void> SessionBase::untilWoken() {
  while (!retryNow_ && !ending_) co_await wake_.wait();
}

Task<void> SessionBase::count() {
  auto self = shared_from_this();
  auto last = clock_->now();
  while (running_) {
    co_await clock_->sleep(std::chrono::seconds(1));
    const double seconds = std::max(std::chrono::duration<double>(clock_->now() - last).count(), 1e-3);
    last = clock_->now();
    if (status_.stage == SessionStage::Live) everySecond(seconds);
  }
  counting_ = false;
}

}  // namespace kw
