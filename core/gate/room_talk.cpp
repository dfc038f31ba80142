// What visitors say in a room, and what they are shown of text.
#include <sys/mman.h>
#include <unistd.h>

#include "gate/counted_stream.hpp"
#include "gate/room_visitor.hpp"
#include "session/keys.hpp"
#include "session/text_console.hpp"

namespace kw::gate {

namespace {

constexpr auto kTextInterval = std::chrono::milliseconds(33);
constexpr int kMostRows = 300, kMostColumns = 500;

std::string textAt(const nlohmann::json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_string() ? found->get<std::string>() : std::string();
}

int wholeAt(const nlohmann::json& json, const char* key, int otherwise = 0) {
  const auto found = json.find(key);
  return found != json.end() && found->is_number_integer() ? found->get<int>() : otherwise;
}

bool yesAt(const nlohmann::json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_boolean() && found->get<bool>();
}

/// The file behind it is memory; it has no name, and goes with its descriptor.
int memoryFileWith(const std::string& contents) {
  const int fd = memfd_create("key", MFD_CLOEXEC);
  if (fd < 0 || write(fd, contents.data(), contents.size()) != static_cast<ssize_t>(contents.size())) {
    if (fd >= 0) ::close(fd);
    throw Error(ErrorKind::Local, "no memory for the key");
  }
  return fd;
}

}  // namespace

void Room::answer(Visitor& v, const Json& given) {
  if (!mayAnswer(v)) return;
  if (!given.is_object()) protocolBroken("an answer", "it is no object");
  // A key of the visitor's own: the sign-in begins anew with it, and it is gone when that is over.
  if (const std::string key = textAt(given, "keyFile"); !key.empty() && key.size() < 65536) {
    if (keyFile_ >= 0) ::close(keyFile_);
    keyFile_ = memoryFileWith(key);
    plan_.audit(v.person.name, v.from, "signs in with a key of their own", {{"machine", plan_.machine}});
    return begin("/proc/" + std::to_string(getpid()) + "/fd/" + std::to_string(keyFile_));
  }
  if (!reply_) return;
  Answer a;
  a.accepted = yesAt(given, "accepted");
  a.user = textAt(given, "user");
  a.password = textAt(given, "password");
  a.remember = false;  // what a browser's visitor answers is not kept for others
  auto reply = std::exchange(reply_, {});
  question_.reset();
  tellAll({{"question", nullptr}});
  reply(a);
}

void Room::typeText(Visitor& v, const Json& message) {
  TextConsole* console = session_->text();
  if (console == nullptr || hand_ != v.number) return;
  if (const std::string text = textAt(message, "type"); !text.empty() && text.size() <= kMostText)
    console->sendBytes(text);
  if (const std::string text = textAt(message, "paste");
      !text.empty() && text.size() <= kMostText && plan_.rules.clipboardTo)
    console->paste(text);
  if (const auto key = message.find("textKey"); key != message.end() && key->is_object()) {
    const text::Modifiers with{yesAt(*key, "shift"), yesAt(*key, "alt"), yesAt(*key, "ctrl")};
    const std::string name = textAt(*key, "key");
    if (const auto named = textKeyNamed(name))
      console->terminal().key(*named, with);
    else if (const auto points = utf8ToUtf32(name); points.size() == 1)
      console->terminal().character(points[0], with);
  }
  if (const auto size = message.find("resize"); size != message.end() && size->is_array() &&
                                                size->size() == 2 && (*size)[0].is_number_integer() &&
                                                (*size)[1].is_number_integer())
    console->resizeText(std::clamp((*size)[0].get<int>(), 2, kMostRows),
                        std::clamp((*size)[1].get<int>(), 10, kMostColumns));
}

/// {"screen": {"id", "on": [width, height] or false}}; sizes are those of the machine's other screens.
void Room::switchScreens(const Json& message) {
  const auto wish = message.find("screen");
  if (wish == message.end() || !wish->is_object() || !abilities_.screens.can) return;
  const auto id = wholeAt(*wish, "id", -1);
  const auto offer = std::find_if(offers_.begin(), offers_.end(), [&](const ScreenOffer& o) {
    return id >= 0 && o.id == static_cast<std::uint32_t>(id);
  });
  if (offer == offers_.end()) return;
  if (!yesAt(*wish, "on")) return session_->switchScreen(offer->id, {});
  Size size{1024, 768};
  for (const ScreenOffer& o : offers_)
    if (o.on) size = {o.area.width, o.area.height};
  session_->switchScreen(offer->id, size);
}

void Room::take(Id number, const Json& message) {
  Visitor* v = find(number);
  if (v == nullptr || !session_) return;
  if (!message.is_object()) protocolBroken("a visitor's message", "it is no object");
  v->taken += message.dump().size();
  if (message.contains("answer")) answer(*v, message["answer"]);
  if (message.contains("type") || message.contains("paste") || message.contains("textKey") ||
      message.contains("resize"))
    typeText(*v, message);
  if (const std::string chord = textAt(message, "chord"); !chord.empty() && hand_ == number) {
    try {
      const Chord strokes = chordFromText(chord);
      for (const KeyStroke& k : strokes) session_->key(k.keysym, k.scanCode, true);
      for (auto k = strokes.rbegin(); k != strokes.rend(); ++k) session_->key(k->keysym, k->scanCode, false);
    } catch (const Error& e) {
      v->tell(Json{{"remark", e.what()}}.dump(-1, ' ', false, Json::error_handler_t::replace));
    }
  }
  if (const std::string clip = textAt(message, "clip");
      !clip.empty() && clip.size() <= kMostText && hand_ == number && plan_.rules.clipboardTo)
    session_->offerClipboard(clip);
  if (message.contains("letIn") || message.contains("turnAway")) answerDoor(*v, message);
  if (hand_ == number) switchScreens(message);
  if (yesAt(message, "askHand")) askForHand(*v);
  if (const int to = wholeAt(message, "giveHand"); to > 0 && hand_ == number)
    giveHandTo(to, "given by " + v->person.name);
  if (const int to = wholeAt(message, "keepHand"); to > 0 && hand_ == number) {
    plan_.audit(v->person.name, v->from, "keeps the hand", {{"machine", plan_.machine}});
    say(to, v->person.name + " keeps the hand for now.");
  }
  if (yesAt(message, "retry") && mayDrive(*v)) session_->retry();
  if (yesAt(message, "refresh")) session_->refresh();
  if (const auto rows = message.find("above");
      rows != message.end() && rows->is_array() && rows->size() == 2 && session_->text() != nullptr &&
      (*rows)[0].is_number_integer() && (*rows)[1].is_number_integer()) {
    const auto from = (*rows)[0].get<std::int64_t>();
    const int count = std::clamp((*rows)[1].get<int>(), 1, 500);
    v->tell(Json{
        {"above", rowsJson(session_->text()->terminal(), session_->text()->terminal().view(from, count))}}
                .dump(-1, ' ', false, Json::error_handler_t::replace));
  }
  if (yesAt(message, "end")) {
    // Whoever only looks leaves; whoever drives ends it for all, where the rules let him.
    if (hand_ == number && (plan_.rules.handEnds || v->person.role == Role::Keeper)) {
      plan_.audit(v->person.name, v->from, "ends the session", {{"machine", plan_.machine}});
      endAll("ended by " + v->person.name);
    } else {
      sendAway(number, "you left");
    }
  }
}

Task<void> Room::showPicture(Id number, StreamPtr stream) {
  const auto self = shared_from_this();
  std::shared_ptr<Visitor> v;
  for (const auto& one : visitors_)
    if (one->number == number) v = one;
  if (!v || !session_->picture()) throw Error(ErrorKind::Local, "there is no picture here");
  rfb::ServerOptions options;
  options.name = plan_.machine;
  if (v->picture) v->picture->close();
  // The visitor may leave while its server still winds down.
  const auto server = std::make_shared<rfb::Server>(plan_.strand, session_->picture(), screens_, options, *v);
  v->picture = server;
  if (shape_) server->setCursor({shape_->size, shape_->hotspot, shape_->pixels});
  // The visitor holds the server that holds the stream, so the stream must not hold the visitor.
  Visitor& counts = *v;
  StreamPtr counted = std::make_unique<CountedStream>(
      std::move(stream), [&counts](std::size_t n) { counts.taken += n; },
      [&counts](std::size_t n) { counts.sent += n; });
  std::exception_ptr failure;
  try {
    co_await server->run(std::move(counted));
  } catch (...) {
    failure = std::current_exception();
  }
  if (Visitor* still = find(number); still != nullptr && still->picture == server) still->picture.reset();
  if (failure) std::rethrow_exception(failure);
}

void Room::textSoon() {
  if (session_->text() == nullptr || std::exchange(textDue_, true)) return;
  spawn(plan_.strand, [self = shared_from_this()]() -> Task<void> {
    co_await systemClock()->sleep(kTextInterval);
    self->textDue_ = false;
    if (self->ended_) co_return;
    self->session_->text()->textSeen();
    ++self->shown_;
    self->forAllShown([&](Visitor& v) { self->tellText(v); });
  });
}

nlohmann::json Room::textNow() const {
  if (session_->text() == nullptr) return nullptr;
  const text::Terminal& terminal = session_->text()->terminal();
  const text::TextView view = terminal.screen();
  Json rows = Json::array();
  for (std::int64_t row = view.screenTop; row < view.screenTop + view.screenRows; ++row)
    rows.push_back(terminal.ansiIn({row, row, 0, view.columns - 1}));
  Json out{{"columns", view.columns}, {"rows", rows}};
  if (view.cursorVisible) out["cursor"] = {view.cursorRow - view.screenTop, view.cursorColumn};
  return out;
}

void Room::tellText(Visitor& v) {
  const Json rows = changedRows(session_->text()->terminal(), v.rows);
  if (!rows.is_null()) v.tell(Json{{"text", rows}}.dump(-1, ' ', false, Json::error_handler_t::replace));
}

}  // namespace kw::gate
