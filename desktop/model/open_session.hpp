// One open session as the window sees it: the core's events arrive here on the interface thread.
#pragma once
#include <QObject>
#include <QPointer>
#include <QRegion>
#include <QTimer>
#include <QUuid>
#include <deque>
#include <memory>
#include <optional>

#include "desk/shown_as.hpp"
#include "desktop/model/mailbox.hpp"
#include "host/starting.hpp"
#include "record/model.hpp"
#include "session/keys.hpp"
#include "session/session.hpp"
#include "session/text_console.hpp"

namespace kw::desktop {

class Sound;

class OpenSession : public QObject {
  Q_OBJECT
 public:
  OpenSession(std::shared_ptr<Session> session, QString machine, QString label, Id endpoint,
              QObject* parent = nullptr);
  ~OpenSession() override;

  [[nodiscard]] QString machine() const { return machine_; }
  /// "screen · vnc"
  [[nodiscard]] QString label() const { return label_; }
  [[nodiscard]] Id endpoint() const { return endpoint_; }
  [[nodiscard]] Session& session() { return *session_; }
  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const { return picture_; }

  [[nodiscard]] const SessionStatus& status() const { return status_; }
  [[nodiscard]] const RouteFacts& route() const { return route_; }
  [[nodiscard]] const Capabilities& capabilities() const { return capabilities_; }
  [[nodiscard]] const Figures& figures() const { return figures_; }
  [[nodiscard]] const std::vector<double>& latencies() const { return latencies_; }
  [[nodiscard]] const std::vector<Screen>& screens() const { return screens_; }
  /// All screens that can be switched, on and off; empty where they cannot.
  [[nodiscard]] const std::vector<ScreenOffer>& offers() const { return offers_; }
  [[nodiscard]] Size pictureSize() const { return pictureSize_; }
  [[nodiscard]] const PointerShape& pointerShape() const { return pointerShape_; }
  [[nodiscard]] bool pointerIsRelative() const { return relative_; }
  /// There is something to look at: a picture, or text.
  [[nodiscard]] bool hasPicture() const { return text() != nullptr ? wasLive_ : !pictureSize_.empty(); }
  /// Null for sessions of pictures.
  [[nodiscard]] TextConsole* text() const { return session_->text(); }
  [[nodiscard]] const LineFacts& line() const { return line_; }
  [[nodiscard]] const TransferFacts& transfer() const { return transfer_; }
  /// Watch words that came up since somebody looked.
  [[nodiscard]] int unseenWords() const { return unseenWords_; }
  void lookedAt();
  /// Its word in the journal.
  [[nodiscard]] const std::string& visit() const { return visit_; }
  [[nodiscard]] bool wasLive() const { return wasLive_; }
  /// Since anything in its picture changed.
  [[nodiscard]] std::chrono::nanoseconds unchangedFor() const {
    return std::chrono::steady_clock::now() - changedAt_;
  }
  /// The room that its picture is shown in, in its pixels; set by the view.
  Size room;
  [[nodiscard]] bool isLive() const { return status_.stage == SessionStage::Live; }
  /// Seconds until the next attempt while waiting.
  [[nodiscard]] int secondsToNextTry() const;
  [[nodiscard]] int secondsInStage() const;

  [[nodiscard]] const std::optional<Question>& question() const { return question_; }
  void answer(const Answer& answer);

  [[nodiscard]] bool viewOnly() const { return viewOnly_; }
  void setViewOnly(bool on);
  [[nodiscard]] bool muted() const { return muted_; }
  void setMuted(bool muted);
  void setSound(bool on);
  [[nodiscard]] bool soundWanted() const { return soundWanted_; }
  [[nodiscard]] QString remarkText() const { return remark_; }

  /// What its settings say about how it is shown and handled; menus change it for this session.
  ShownAs shown;
  /// Files that were copied there and can be fetched; null when something else was copied since.
  std::shared_ptr<Clip> copiedFiles;
  /// How many ways in take a named credential; for what is said before it is changed.
  std::function<int(const std::string&)> credentialUsers;

  void start();
  /// Waits for a machine that is being started; start() follows when startOver() came without failure.
  void startWith(std::shared_ptr<host::StartErrand> errand);
  /// How a start goes; null when none was asked for, or the session itself goes on.
  [[nodiscard]] const host::StartView* starting() const { return starting_ ? &*starting_ : nullptr; }
  void lookNow();
  int usualStart = 0;  ///< seconds; 0: not known
  /// Ends the session; `ended` follows.
  void end();
  void sendChord(const QString& chord);
  /// Types text as keys, slowly enough for a PC's small keyboard buffer.
  void typeText(const QString& text);

 signals:
  void changed();                ///< status, route, capabilities, question or screens
  void damaged(const QRegion&);  ///< picture coordinates
  void pictureResized();
  void pointerShapeChanged();
  void figuresChanged();
  void clipArrived(std::shared_ptr<kw::Clip>);
  void rang();
  void textChanged();
  void lineChanged();
  void transferChanged();
  void wordSeen(const QString& pattern, const QString& line);
  void ended();
  void startOver();

 private:
  class Bridge;
  friend class Bridge;
  void press(const Chord& chord);
  void takeStatus(const SessionStatus& status);
  void takeFigures(const Figures& figures);

  std::shared_ptr<Session> session_;
  std::shared_ptr<Framebuffer> picture_;
  std::shared_ptr<Bridge> bridge_;
  QString machine_, label_, remark_;
  const std::string visit_ = QUuid::createUuid().toString(QUuid::Id128).toStdString();
  Id endpoint_;
  SessionStatus status_;
  RouteFacts route_;
  Capabilities capabilities_;
  Figures figures_;
  std::vector<double> latencies_;
  std::vector<Screen> screens_;
  std::vector<ScreenOffer> offers_;
  Size pictureSize_;
  PointerShape pointerShape_;
  std::optional<Question> question_;
  std::function<void(Answer)> reply_;
  std::shared_ptr<host::StartErrand> errand_;
  std::shared_ptr<Mailbox<OpenSession>> startNews_;
  std::optional<host::StartView> starting_;
  std::chrono::steady_clock::time_point stageSince_, changedAt_ = std::chrono::steady_clock::now();
  std::unique_ptr<Sound> sound_;
  std::deque<Chord> toType_;
  QTimer typing_;
  LineFacts line_;
  TransferFacts transfer_;
  int unseenWords_ = 0, askedInAttempt_ = 0;
  bool wasLive_ = false;
  bool viewOnly_ = false, muted_ = false, soundWanted_ = false, relative_ = false, endingSaid_ = false;
};

}  // namespace kw::desktop
