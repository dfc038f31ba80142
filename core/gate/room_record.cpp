// A room that is recorded: what is shown goes into a file as well, as to one more visitor who only looks.
#include "gate/room_visitor.hpp"
#include "gate/shown_size.hpp"

namespace kw::gate {

namespace {

constexpr Id kNobody = -1;  // no visitor's number, and never the hand's
constexpr auto kPictureInterval = std::chrono::milliseconds(200);

/// What a looker asks for (RFC 6143 7.5): 32 bits, red lowest, as a browser's canvas has it; tight, copied
/// and raw rectangles, the pointer's shape, sizes.
Bytes lookersWords() {
  ByteWriter w;
  w.text("RFB 003.008\n");
  w.u8(1);  // no security
  w.u8(1);  // shared
  w.u8(0), w.zeros(3);
  w.u8(32), w.u8(24), w.u8(0), w.u8(1);
  w.u16(255), w.u16(255), w.u16(255);
  w.u8(0), w.u8(8), w.u8(16), w.zeros(3);
  const std::int32_t kinds[] = {7, 1, 0, -239, -223, -308, -224};
  w.u8(2), w.u8(0), w.u16(static_cast<std::uint16_t>(std::size(kinds)));
  for (const std::int32_t kind : kinds) w.u32(static_cast<std::uint32_t>(kind));
  return w.take();
}

Bytes updateRequest(Size size, bool whole) {
  ByteWriter w;
  w.u8(3), w.u8(whole ? 0 : 1), w.u16(0), w.u16(0);
  w.u16(static_cast<std::uint16_t>(size.width)), w.u16(static_cast<std::uint16_t>(size.height));
  return w.take();
}

}  // namespace

class Room::Recorder : public std::enable_shared_from_this<Room::Recorder> {
 public:
  Recorder(Room& room, std::unique_ptr<RecordingWriter> file)
      : looker(std::make_shared<Visitor>(room, kNobody, Person{})),
        file_(std::move(file)),
        began_(systemClock()->now()) {
    looker->tell = [this](const std::string& text) {
      // Questions and the clipboard are no part of what is shown.
      for (const char* word : {"{\"text\"", "{\"people\"", "{\"status\"", "{\"all\"", "{\"size\""})
        if (text.starts_with(word)) return keep(RecordedKind::Message, viewOf(text));
    };
    looker->dismiss = [](const std::string&) {};
  }

  void keep(RecordedKind kind, ByteView bytes) {
    if (!file_) return;
    const auto ms = std::chrono::duration_cast<std::chrono::milliseconds>(systemClock()->now() - began_);
    try {
      file_->add(kind, static_cast<std::uint32_t>(ms.count()), bytes);
      if (file_->size() > looker->room.plan_.recordingBytes && !std::exchange(full_, true))
        looker->room.recordingFull();
    } catch (const Error& e) {
      file_.reset();
      looker->room.recordingFailed(e.what());
    }
  }
  void note(const std::string& person) {
    if (file_) file_->note(person);
  }
  /// Shows the picture to the file until end(); the session's picture is there.
  void showPicture(const Executor& strand, const std::shared_ptr<Framebuffer>& picture,
                   const std::vector<Screen>& screens) {
    if (looker->picture) return;
    auto [theirs, ours] = memoryPair(strand);
    rfb::ServerOptions options;
    options.name = "recording";
    looker->picture = std::make_shared<rfb::Server>(strand, picture, screens, options, *looker);
    if (looker->room.shape_)
      looker->picture->setCursor(
          {looker->room.shape_->size, looker->room.shape_->hotspot, looker->room.shape_->pixels});
    keep(RecordedKind::Anew, {});
    const auto stream = std::make_shared<StreamPtr>(std::move(theirs));
    // The server may wind down after the recorder is gone.
    spawn(
        strand,
        [looker = looker, server = looker->picture, stream]() -> Task<void> {
          co_await server->run(std::move(*stream));
        },
        [](std::exception_ptr) {});
    const auto end = std::shared_ptr<ByteStream>(std::move(ours));
    spawn(
        strand, [self = shared_from_this(), end]() -> Task<void> { return self->readAll(end); },
        [](std::exception_ptr) {});
    spawn(
        strand,
        [self = shared_from_this(), end, picture]() -> Task<void> { return self->askOn(end, picture); },
        [](std::exception_ptr) {});
  }
  void endPicture() {
    if (looker->picture) looker->picture->close();
    looker->picture.reset();
  }
  void end() {
    endPicture();
    file_.reset();
  }

  const std::shared_ptr<Visitor> looker;

 private:
  Task<void> readAll(std::shared_ptr<ByteStream> from) {
    const auto self = shared_from_this();
    Byte part[16384];
    for (;;) {
      const std::size_t n = co_await from->readSome(part);
      keep(RecordedKind::Picture, {part, n});
    }
  }
  /// Asks for what is new a few times a second, whatever the last answer was.
  Task<void> askOn(std::shared_ptr<ByteStream> to, std::shared_ptr<Framebuffer> picture) {
    const auto self = shared_from_this();
    const auto server = looker->picture;
    const Bytes words = lookersWords();
    co_await to->write(words);
    bool whole = true;
    while (file_ && looker->picture == server) {
      const Bytes wish = updateRequest(sizeNow(*picture), std::exchange(whole, false));
      co_await to->write(wish);
      co_await systemClock()->sleep(kPictureInterval);
    }
    to->close();
  }

  std::unique_ptr<RecordingWriter> file_;
  TimePoint began_;
  bool full_ = false;
};

void Room::forAllShown(const std::function<void(Visitor&)>& what) {
  for (const auto& v : visitors_) what(*v);
  if (recorder_) what(*recorder_->looker);
}

void Room::checkRecording() {
  const bool wanted = plan_.rules.record && !ended_ && !visitors_.empty() && plan_.record != nullptr;
  if (!wanted) return stopRecording();
  const auto picture = session_->picture();
  if (!recorder_) {
    try {
      recorder_ = std::make_shared<Recorder>(*this, plan_.record(session_->text() == nullptr));
    } catch (const Error& e) {
      return recordingFailed(e.what());
    }
    plan_.audit("", "", "recording begins", {{"machine", plan_.machine}, {"way", plan_.label}});
    for (const auto& v : visitors_) recorder_->note(v->person.name);
    recorder_->looker->tell(statusJson().dump());
    if (session_->text() != nullptr) tellText(*recorder_->looker);
    for (const auto& v : visitors_) tellState(*v);
  }
  for (const auto& v : visitors_) recorder_->note(v->person.name);
  if (picture && !sizeNow(*picture).empty()) recorder_->showPicture(plan_.strand, picture, screens_);
}

void Room::stopRecording() {
  const auto over = std::exchange(recorder_, nullptr);
  if (!over) return;
  over->end();
  plan_.audit("", "", "recording ends", {{"machine", plan_.machine}, {"way", plan_.label}});
  if (ended_) return;
  for (const auto& v : visitors_) tellState(*v);
}

void Room::dropRecorder() {
  if (recorder_) recorder_->end();
  recorder_.reset();
}

/// Where it must be recorded, nobody goes on without.
void Room::recordingFailed(const std::string& why) {
  plan_.audit("", "", "recording failed", {{"machine", plan_.machine}, {"why", why}});
  post(plan_.strand, [weak = weak_from_this(), why] {
    if (const auto room = weak.lock()) room->endAll("visits here are recorded, and that failed: " + why);
  });
}

void Room::recordingFull() {
  post(plan_.strand, [weak = weak_from_this(), full = std::weak_ptr<Recorder>(recorder_)] {
    const auto room = weak.lock();
    if (!room || room->recorder_ != full.lock()) return;
    room->dropRecorder();
    room->checkRecording();
  });
}

void Room::recordAnew() {
  if (recorder_) recorder_->endPicture();
}

}  // namespace kw::gate
