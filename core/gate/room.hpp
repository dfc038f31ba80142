// One machine's session and whoever is in it: decoded once, shown to all; one drives, the others look.
#pragma once
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>

#include "base/runtime.hpp"
#include "gate/gate_store.hpp"
#include "gate/recording.hpp"
#include "gate/rules.hpp"
#include "rfb/server.hpp"
#include "route/opening.hpp"
#include "session/session.hpp"

namespace kw::gate {

struct VisitFacts {
  Id number = 0;
  Id wayIn = 0;
  std::string machine, label, who, from;
  Seconds since = 0;
  bool drives = false, byPass = false;
  Id pass = 0;
};

/// Everything on the gateway's strand.
class Room : public std::enable_shared_from_this<Room> {
 public:
  struct Plan {
    Executor strand;
    Id wayIn = 0;
    std::string machine, label;
    Rules rules;
    /// Makes the machine's session; `over` are settings laid over the record's.
    std::function<std::shared_ptr<Session>(const std::string& keyFile, bool keptSecrets)> open;
    std::function<void(const std::string& who, const std::string& from, const std::string& what,
                       nlohmann::json more)>
        audit;
    std::function<void()> changed;       ///< who is here has changed
    std::function<void(Id wayIn)> over;  ///< the room is to be forgotten
    bool keptPasswords = true;
    /// A new file for what is shown. Throws Error{Local} when there can be none.
    std::function<std::unique_ptr<RecordingWriter>(bool picture)> record;
    std::uint64_t recordingBytes = 0;  ///< then the recording goes on in another file
  };
  explicit Room(Plan plan);
  ~Room();
  void start();

  /// `tell` gets JSON texts, `dismiss` the reason when this visitor is sent away. Where the rules say so, a
  /// newcomer waits at the door, and sees nothing, until somebody inside lets him in.
  Id join(const Person& person, const std::string& from, std::function<void(std::string)> tell,
          std::function<void(std::string)> dismiss);
  void leave(Id visitor, const std::string& why);
  /// One message of a visitor; unknown ones are passed over. Throws Error{ProtocolBroken} for nonsense.
  void take(Id visitor, const nlohmann::json& message);
  /// Shows the picture to a visitor until one of both ends. Throws as rfb::Server::run().
  Task<void> showPicture(Id visitor, StreamPtr stream);
  /// A person's rights have changed, or are gone.
  void personIs(Id visitor, const std::optional<Person>& person);
  void sendAway(Id visitor, const std::string& why);
  void endAll(const std::string& why);
  void say(Id visitor, const std::string& text);
  /// A short word to everybody here.
  void remark(const std::string& text) { tellAll({{"remark", text}}); }
  /// Whether the gateway has more to do than it can: pictures may be coarser meanwhile.
  void busy(bool on) {
    busy_ = on;
    tellAll({{"busy", on}});
  }
  /// A keeper's words, which stay until they are closed.
  void write(Id visitor, const std::string& who, const std::string& text);

  /// Without those who wait at the door.
  [[nodiscard]] std::vector<VisitFacts> visits() const;
  /// Grows with everything that visitors see.
  [[nodiscard]] std::uint64_t shown() const { return shown_; }
  /// Null for a room of text.
  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const { return session_->picture(); }
  /// {"columns", "rows": [each with its colours as SGR sequences], "cursor": [row, column] or null}, for a
  /// room of text.
  [[nodiscard]] nlohmann::json textNow() const;
  /// To be called now and then: visitors to whom nothing was shown meanwhile cost less from now on.
  void rest();
  [[nodiscard]] bool empty() const { return visitors_.empty(); }
  /// What the records say now: counts for visits that are open, at once.
  void applyRules(const Rules& rules);
  [[nodiscard]] const Rules& rules() const { return plan_.rules; }
  [[nodiscard]] Id wayIn() const { return plan_.wayIn; }
  /// Signed in with what is kept for the way in, not by somebody who was asked.
  [[nodiscard]] bool usesKeptPasswords() const { return plan_.keptPasswords; }

 private:
  struct Visitor;
  class Watcher;
  class Recorder;
  using Json = nlohmann::json;
  using Visitors = std::list<std::shared_ptr<Visitor>>;
  Visitor* find(Id number);
  void enter(std::shared_ptr<Visitor> visitor);
  // room_door.cpp
  [[nodiscard]] bool mustAsk(const Person& person) const;
  void knock(const std::shared_ptr<Visitor>& visitor);
  /// Tells those who may answer who stands at the door.
  void tellDoor();
  [[nodiscard]] bool mayOpenDoor(const Visitor& visitor) const;
  void answerDoor(Visitor& visitor, const Json& message);
  std::shared_ptr<Visitor> takeFromDoor(Id number);
  void openDoor();
  // room_record.cpp
  /// Begins or ends it, as the rules say now; for pictures once there is one.
  void checkRecording();
  void stopRecording();
  void dropRecorder();
  /// The session is another one now.
  void recordAnew();
  void recordingFailed(const std::string& why);
  /// The file is as long as one may be.
  void recordingFull();
  /// Everybody who is shown something: visitors, and what records.
  void forAllShown(const std::function<void(Visitor&)>& what);
  [[nodiscard]] Json screensJson() const;
  void tellAll(const Json& message);
  /// Who is here has changed: told at once, and when much changes, once in a while.
  void tellPeople();
  void tellPeopleNow();
  void tellState(Visitor& v);
  void giveHandTo(Id number, const std::string& why);
  [[nodiscard]] Policy policy() const;
  [[nodiscard]] bool mayDrive(const Visitor& v) const;
  /// The machine's questions are for those who drive; where nobody may, for whoever is there: a pass that
  /// only looks still stands before the machine's own password.
  [[nodiscard]] bool mayAnswer(const Visitor& v) const;
  [[nodiscard]] Json questionJson() const;
  [[nodiscard]] Json statusJson() const;
  [[nodiscard]] Json routeJson() const;
  void answer(Visitor& v, const Json& message);
  void typeText(Visitor& v, const Json& message);
  void switchScreens(const Json& message);
  void tellText(Visitor& v);
  void textSoon();
  void begin(const std::string& keyFile);
  void askForHand(Visitor& v);
  Task<void> keepForAWhile();

  Plan plan_;
  std::shared_ptr<Session> session_;
  std::shared_ptr<Watcher> watcher_;
  Visitors visitors_;
  Visitors door_;  ///< who waits to be let in
  SessionStatus status_;
  RouteFacts route_;
  Capabilities abilities_;
  std::vector<Screen> screens_;
  std::vector<ScreenOffer> offers_;
  std::optional<Question> question_;
  std::function<void(Answer)> reply_;
  std::optional<PointerShape> shape_;
  std::shared_ptr<Recorder> recorder_;
  Id next_ = 1, hand_ = 0;
  int keyFile_ = -1;  ///< a key that lives in memory while its sign-in lasts
  std::uint64_t leaving_ = 0;
  std::uint64_t shown_ = 1;
  bool textDue_ = false, ended_ = false, busy_ = false;
  bool peopleToldLately_ = false, peopleChanged_ = false;
};

}  // namespace kw::gate
