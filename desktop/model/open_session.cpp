#include "desktop/model/open_session.hpp"

#include <mutex>

#include "base/error.hpp"
#include "desktop/model/sound.hpp"
#include "session/keys.hpp"

namespace kw::desktop {

namespace {
constexpr std::size_t kKeptLatencies = 60;
constexpr int kTypingPace = 15;  // milliseconds between keys
}  // namespace

/// Carries events from the session's strand to the interface thread. Lives as long as somebody may call it;
/// detach() makes it deaf. Damage is collected, so that one event stands for many updates.
class OpenSession::Bridge : public SessionObserver, public std::enable_shared_from_this<Bridge> {
 public:
  explicit Bridge(OpenSession* target) : target_(target) {}
  void detach() {
    std::lock_guard lock(mutex_);
    target_ = nullptr;
  }

  void statusChanged(const SessionStatus& s) override {
    hand([s](OpenSession& t) { t.takeStatus(s); });
  }
  void routeChanged(const RouteFacts& r) override {
    hand([r](OpenSession& t) {
      t.route_ = r;
      emit t.changed();
    });
  }
  void capabilitiesChanged(const Capabilities& c) override {
    hand([c](OpenSession& t) {
      t.capabilities_ = c;
      emit t.changed();
    });
  }
  void pictureResized(Size size, const std::vector<Screen>& screens) override {
    hand([size, screens](OpenSession& t) {
      t.pictureSize_ = size;
      t.screens_ = screens;
      emit t.pictureResized();
      emit t.changed();
    });
  }
  void screensOffered(const std::vector<ScreenOffer>& list) override {
    hand([list](OpenSession& t) {
      t.offers_ = list;
      emit t.changed();
    });
  }
  void damaged(const Region& region) override {
    bool first = false;
    {
      std::lock_guard lock(mutex_);
      first = damage_.empty();
      damage_.add(region);
    }
    if (!first) return;
    hand([self = shared_from_this()](OpenSession& t) {
      Region now;
      {
        std::lock_guard lock(self->mutex_);
        std::swap(now, self->damage_);
      }
      QRegion all;
      for (const Rect& r : now.rects()) all += QRect(r.x, r.y, r.width, r.height);
      t.changedAt_ = std::chrono::steady_clock::now();
      emit t.damaged(all);
    });
  }
  void pointerShapeChanged(const PointerShape& shape) override {
    hand([shape](OpenSession& t) {
      t.pointerShape_ = shape;
      emit t.pointerShapeChanged();
    });
  }
  void pointerRelative(bool on) override {
    hand([on](OpenSession& t) {
      t.relative_ = on;
      emit t.pointerShapeChanged();
    });
  }
  void bell() override {
    hand([](OpenSession& t) { emit t.rang(); });
  }
  void nameChanged(const std::string&) override {}
  void textChanged() override {
    hand([](OpenSession& t) { emit t.textChanged(); });
  }
  void lineChanged(const LineFacts& line) override {
    hand([line](OpenSession& t) {
      t.line_ = line;
      emit t.lineChanged();
      emit t.changed();
    });
  }
  void transferChanged(const TransferFacts& transfer) override {
    hand([transfer](OpenSession& t) {
      t.transfer_ = transfer;
      emit t.transferChanged();
    });
  }
  void watchWordSeen(const std::string& pattern, const std::string& line) override {
    hand([pattern, line](OpenSession& t) {
      ++t.unseenWords_;
      emit t.wordSeen(QString::fromStdString(pattern), QString::fromStdString(line));
      emit t.changed();
    });
  }
  void clipboardText(const std::string& text) override { clipOffered(std::make_shared<TextClip>(text)); }
  void clipOffered(std::shared_ptr<Clip> clip) override {
    hand([clip](OpenSession& t) {
      if (!t.shown.clipboardFromMachine) return;
      t.copiedFiles = clip->forms().contains(ClipForm::Files) ? clip : nullptr;
      emit t.clipArrived(clip);
      emit t.changed();
    });
  }
  [[nodiscard]] bool wantsClipText() const override { return false; }
  void soundBegins(SoundForm form) override {
    hand([form](OpenSession& t) {
      t.sound_ = std::make_unique<Sound>(form);
      t.sound_->setMuted(t.muted_);
    });
  }
  void sound(ByteView data) override {
    const QByteArray bytes(reinterpret_cast<const char*>(data.data()), static_cast<qsizetype>(data.size()));
    hand([bytes](OpenSession& t) {
      if (t.sound_) t.sound_->play(bytes);
    });
  }
  void soundEnds() override {
    hand([](OpenSession& t) { t.sound_.reset(); });
  }
  void figuresChanged(const Figures& f) override {
    hand([f](OpenSession& t) { t.takeFigures(f); });
  }
  void remark(const std::string& text) override {
    hand([text](OpenSession& t) {
      t.remark_ = QString::fromStdString(text);
      emit t.changed();
      QTimer::singleShot(8000, &t, [&t, shown = t.remark_] {
        if (t.remark_ != shown) return;
        t.remark_.clear();
        emit t.changed();
      });
    });
  }
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    hand([question, reply = std::move(reply)](OpenSession& t) {
      t.question_ = question;
      t.askedInAttempt_ = t.status_.attempt;
      t.reply_ = reply;
      emit t.changed();
    });
  }

 private:
  template <typename F>
  void hand(F what) {
    std::lock_guard lock(mutex_);
    if (target_ == nullptr) return;
    // The target's destructor detaches under this lock, so the pointer is good here; Qt drops the event
    // when the target goes away before it is delivered.
    QMetaObject::invokeMethod(
        target_, [target = target_, what = std::move(what)] { what(*target); }, Qt::QueuedConnection);
  }
  std::mutex mutex_;
  OpenSession* target_;
  Region damage_;
};

OpenSession::OpenSession(std::shared_ptr<Session> session, QString machine, QString label, Id endpoint,
                         QObject* parent)
    : QObject(parent),
      session_(std::move(session)),
      picture_(session_->picture()),
      bridge_(std::make_shared<Bridge>(this)),
      machine_(std::move(machine)),
      label_(std::move(label)),
      endpoint_(endpoint),
      stageSince_(std::chrono::steady_clock::now()) {
  session_->observe(bridge_);
  typing_.setInterval(kTypingPace);
  connect(&typing_, &QTimer::timeout, this, [this] {
    if (!isLive()) toType_.clear();
    if (toType_.empty()) {
      typing_.stop();
      return;
    }
    press(toType_.front());
    toType_.pop_front();
  });
}

OpenSession::~OpenSession() {
  if (startNews_) startNews_->close();
  if (errand_) errand_->stop();
  bridge_->detach();
  session_->stopObserving(bridge_);
  session_->end();
}

void OpenSession::start() {
  starting_.reset();
  errand_.reset();
  endingSaid_ = false;
  session_->start();
}

void OpenSession::startWith(std::shared_ptr<host::StartErrand> errand) {
  errand_ = std::move(errand);
  starting_.emplace();
  stageSince_ = std::chrono::steady_clock::now();
  startNews_ = std::make_shared<Mailbox<OpenSession>>(this);
  errand_->start([news = startNews_](const host::StartView& view) {
    news->put([view](OpenSession& s) {
      if (!s.starting_) return;
      s.starting_ = view;
      emit s.changed();
      if (view.over) emit s.startOver();
    });
  });
}

void OpenSession::lookNow() {
  if (errand_) errand_->lookNow();
}

void OpenSession::end() {
  if (!starting_) {
    session_->end();
    return;
  }
  // The session itself was never begun.
  if (errand_) errand_->stop();
  starting_.reset();
  emit ended();
}

void OpenSession::takeStatus(const SessionStatus& status) {
  if (status.stage != status_.stage) stageSince_ = std::chrono::steady_clock::now();
  status_ = status;
  wasLive_ = wasLive_ || status.stage == SessionStage::Live;
  // A question belongs to one attempt; when that is over, so is the question.
  const bool asking = status.stage == SessionStage::SigningIn || status.stage == SessionStage::Connecting;
  if (!asking || status.attempt != askedInAttempt_) {
    question_.reset();
    reply_ = {};
  }
  emit changed();
  if (status.stage == SessionStage::Ended && !status.problem && !endingSaid_) {
    endingSaid_ = true;
    emit ended();
  }
}

void OpenSession::takeFigures(const Figures& figures) {
  figures_ = figures;
  const double ms = std::chrono::duration<double, std::milli>(figures.keyToPicture).count();
  latencies_.push_back(ms);
  if (latencies_.size() > kKeptLatencies) latencies_.erase(latencies_.begin());
  emit figuresChanged();
}

int OpenSession::secondsInStage() const {
  const auto passed = std::chrono::steady_clock::now() - stageSince_;
  return static_cast<int>(std::chrono::duration_cast<std::chrono::seconds>(passed).count());
}

int OpenSession::secondsToNextTry() const {
  const auto due =
      stageSince_ + std::chrono::duration_cast<std::chrono::steady_clock::duration>(status_.nextTry);
  const auto left = std::chrono::duration<double>(due - std::chrono::steady_clock::now()).count();
  return std::max(0, static_cast<int>(left + 0.999));
}

void OpenSession::answer(const Answer& given) {
  if (!reply_) return;
  auto reply = std::move(reply_);
  reply_ = {};
  question_.reset();
  reply(given);
  emit changed();
}

void OpenSession::setViewOnly(bool on) {
  viewOnly_ = on;
  session_->setViewOnly(on);
  emit changed();
}

void OpenSession::lookedAt() {
  if (unseenWords_ == 0) return;
  unseenWords_ = 0;
  emit changed();
}

void OpenSession::setMuted(bool muted) {
  muted_ = muted;
  if (sound_) sound_->setMuted(muted);
  emit changed();
}

void OpenSession::setSound(bool on) {
  soundWanted_ = on;
  session_->setSound(on);
  if (!on) sound_.reset();
  emit changed();
}

void OpenSession::press(const Chord& chord) {
  for (const KeyStroke& k : chord) session_->key(k.keysym, k.scanCode, true);
  for (auto k = chord.rbegin(); k != chord.rend(); ++k) session_->key(k->keysym, k->scanCode, false);
}

void OpenSession::typeText(const QString& text) {
  if (this->text() != nullptr) {  // the line has its own pace
    this->text()->paste(text.toStdString());
    return;
  }
  for (Chord& chord : chordsForText(text.toStdString())) toType_.push_back(std::move(chord));
  if (!toType_.empty()) typing_.start();
}

void OpenSession::sendChord(const QString& chord) {
  try {
    press(chordFromText(chord.toStdString()));
  } catch (const Error& e) {
    remark_ = QString::fromUtf8(e.what());
    emit changed();
  }
}

}  // namespace kw::desktop
