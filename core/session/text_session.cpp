#include "session/text_session.hpp"

#include <atomic>
#include <mutex>

#include "base/file.hpp"
#include "session/diverted_line.hpp"
#include "session/session_base.hpp"
#include "session/text_keys.hpp"
#include "text/plain_lines.hpp"

namespace kw {

namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMostAnswers = 64 * 1024;  ///< bytes of a terminal's answers that wait to be sent

class TextSession : public SessionBase, public TextConsole {
 public:
  TextSession(const Executor& strand, std::shared_ptr<Clock> clock, TextConfig config)
      : SessionBase(strand, std::move(clock), config.reconnect),
        config_(std::move(config)),
        terminal_(config_.rows, config_.columns, config_.terminal),
        watcher_(config_.watchWords),
        rows_(config_.rows),
        columns_(config_.columns),
        toSend_(strand),
        cancelled_(strand) {
    policy_.onlyLook = config_.viewOnly;
    plain_.onLine = [this](const std::string& line) { watcher_.line(line, seenBy()); };
  }

  void listenToTerminal() {
    const std::weak_ptr<SessionBase> weak = weak_from_this();
    const auto later = [weak](auto what) {
      if (auto self = std::static_pointer_cast<TextSession>(weak.lock()))
        self->onStrand<TextSession>(std::move(what));
    };
    terminal_.onOutput = [later](const std::string& bytes) {
      later([bytes](TextSession& s) { s.typed(bytes); });
    };
    terminal_.onAnswer = [later](const std::string& bytes) {
      later([bytes](TextSession& s) {
        // Not without end to a line that takes nothing: what it asked before then is not waited for any more.
        if (!s.diverted_ && s.config_.answersQuestions && s.outbox_.size() < kMostAnswers) s.queue(bytes);
      });
    };
    terminal_.onBell = [later] { later([](TextSession& s) { s.observer_->bell(); }); };
    terminal_.onTitle = [later](const std::string& title) {
      later([title](TextSession& s) { s.observer_->nameChanged(title); });
    };
  }

  [[nodiscard]] TextConsole* text() override { return this; }

  // The console.
  text::Terminal& terminal() override { return terminal_; }
  void textSeen() override { told_ = false; }
  void sendBytes(std::string bytes) override {
    onStrand<TextSession>([bytes = std::move(bytes)](TextSession& s) {
      if (s.policy_.mayType()) s.typed(bytes);
    });
  }
  void paste(std::string utf8) override {
    onStrand<TextSession>([utf8 = std::move(utf8)](TextSession& s) {
      if (s.policy_.mayPaste()) s.pasteNow(s.terminal_.pasteBytes(utf8), "pasting");
    });
  }
  void setPacing(Pacing pacing) override {
    onStrand<TextSession>([pacing](TextSession& s) { s.config_.pacing = pacing; });
  }
  void resizeText(int rows, int columns) override {
    onStrand<TextSession>([=](TextSession& s) { s.resizeNow(rows, columns); });
  }
  void sendBreak(std::chrono::milliseconds length) override {
    withControl([length](LineControl& line) { return line.sendBreak(length); }, "no break was sent");
  }
  void changeLine(LineSettings settings) override {
    withControl([settings](LineControl& line) { return line.change(settings); }, "the line stays as it was");
  }
  void setRts(bool on) override {
    withControl([on](LineControl& line) { return line.setRts(on); }, "RTS stays as it was");
  }
  void setDtr(bool on) override {
    withControl([on](LineControl& line) { return line.setDtr(on); }, "DTR stays as it was");
  }
  void tryUsualSettings(DoctorOptions options, std::function<void(DoctorReport)> done) override {
    onStrand<TextSession>([options = std::move(options), done = std::move(done)](TextSession& s) {
      s.beginDoctor(options, done);
    });
  }
  void answerQuestions(bool on) override {
    onStrand<TextSession>([on](TextSession& s) { s.config_.answersQuestions = on; });
  }
  void sendFile(text::TransferKind kind, fs::path file) override {
    onStrand<TextSession>([kind, file = std::move(file)](TextSession& s) {
      if (s.mayTransfer()) s.beginSend(kind, file);
    });
  }
  void receiveFiles(text::TransferKind kind, fs::path folder) override {
    onStrand<TextSession>([kind, folder = std::move(folder)](TextSession& s) {
      if (s.mayTransfer()) s.beginReceive(kind, folder);
    });
  }
  void sendAsText(fs::path file) override {
    onStrand<TextSession>([file = std::move(file)](TextSession& s) {
      if (s.mayTransfer()) s.sendTextNow(file);
    });
  }
  void cancelTransfer() override {
    onStrand<TextSession>([](TextSession& s) {
      s.cancelling_ = true;
      s.cancelled_.notify();
    });
  }
  void logTo(text::LogOptions options) override {
    onStrand<TextSession>([options = std::move(options)](TextSession& s) { s.beginLog(options); });
  }
  void markLog(std::string note) override {
    onStrand<TextSession>([note = std::move(note)](TextSession& s) {
      if (s.log_) s.logSafely([&](text::LogWriter& log) { log.mark(note); });
    });
  }
  [[nodiscard]] fs::path logFile() const override {
    const std::lock_guard held(logLock_);
    return logPath_;
  }
  void setWatchWords(std::vector<text::WatchWord> words) override {
    onStrand<TextSession>([words = std::move(words)](TextSession& s) {
      try {
        s.watcher_ = text::Watcher(words);
      } catch (const Error& e) {
        s.observer_->remark(e.what());
      }
    });
  }

 protected:
  void keyNow(std::uint32_t keysym, std::uint32_t, bool down) override { keys_.key(keysym, down, terminal_); }
  void refreshNow() override { changed(); }
  [[nodiscard]] std::string peerName() const override { return config_.place; }

  Task<void> connectAndServe() override {
    route_.host = config_.place;
    if (config_.log && !log_) beginLog(*config_.log);
    ConnectFindings findings;
    TextLine line = co_await config_.connect(*this, route_, &findings);
    route_.address = findings.address;
    route_.answersIn = findings.took;
    route_.security = line.kind;
    route_.sealed = line.stream->sealed();
    line_ = std::make_shared<TextLine>(std::move(line));
    tellAbilities();
    becomeLive();
    tellLine();
    outbox_.clear();
    if (line_->resize) {
      resizeWanted_ = true;
      toSend_.notify();
    }
    if (!config_.greeting.empty()) queue(config_.greeting);
    co_await firstOf(readAll(), writeAll());
  }

  void connectionOver() override {
    if (diverted_) diverted_->close();
    if (line_->stream) line_->stream->close();
    cancelling_ = true;
    cancelled_.notify();
  }
  void closeConnection() override {
    if (line_->stream) line_->stream->close();
    if (diverted_) diverted_->close();
  }

  void everySecond(double seconds) override {
    Figures f;
    f.bytesIn = bytesIn_, f.bytesOut = bytesOut_;
    f.bytesInPerSecond = static_cast<double>(bytesIn_ - before_.bytesIn) / seconds;
    f.bytesOutPerSecond = static_cast<double>(bytesOut_ - before_.bytesOut) / seconds;
    f.encodings = line_->kind;
    before_ = f;
    observer_->figuresChanged(f);
    tellLine();
  }

 private:
  [[nodiscard]] bool live() const { return status_.stage == SessionStage::Live; }

  Task<void> readAll() {
    Bytes in(64 * 1024);
    for (;;) {
      const std::size_t n = co_await line_->stream->readSome(in);
      bytesIn_ += n;
      if (diverted_)
        diverted_->give(ByteView(in).first(n));
      else
        came(ByteView(in).first(n));
    }
  }

  void came(ByteView bytes) {
    // In slices, so that a window that wants to look does not wait long.
    for (std::size_t at = 0; at < bytes.size(); at += 8192)
      terminal_.feed(bytes.subspan(at, std::min<std::size_t>(8192, bytes.size() - at)));
    // A program may ask for 132 columns; the programs that it starts ask the line how many there are.
    if (line_->resize && terminal_.columns() != toldColumns_) {
      resizeWanted_ = true;
      toSend_.notify();
    }
    observer_->textBytes(bytes);
    if (log_) logSafely([&](text::LogWriter& log) { log.write(bytes); });
    if (!watcher_.empty()) {
      plain_.feed(bytes);
      watcher_.prompt(plain_.unfinished(), seenBy());
    }
    changed();
  }

  void changed() {
    if (!told_.exchange(true)) observer_->textChanged();
  }

  std::function<void(const text::Watcher::Seen&)> seenBy() {
    return [this](const text::Watcher::Seen& seen) {
      observer_->watchWordSeen(seen.word->pattern, seen.line);
      if (!seen.answer.empty()) queue(seen.answer);
      if (seen.limited)
        observer_->remark("“" + seen.word->pattern +
                          "” came again; its answer was sent as often as allowed.");
    };
  }

  void typed(const std::string& bytes) {
    if (diverted_) return;
    const bool echo = config_.localEcho == LocalEcho::On ||
                      (config_.localEcho == LocalEcho::Auto && line_->echoesHere && line_->echoesHere());
    if (echo) {
      std::string shown;
      for (char c : bytes) shown += c == '\r' ? "\r\n" : std::string(1, c);
      terminal_.echo(shown);
      changed();
    }
    queue(bytes);
  }

  void queue(const std::string& bytes) {
    outbox_.insert(outbox_.end(), bytes.begin(), bytes.end());
    toSend_.notify();
  }

  Task<void> writeAll() {
    for (;;) {
      while (outbox_.empty() && !resizeWanted_) co_await toSend_.wait();
      if (std::exchange(resizeWanted_, false) && line_->resize) {
        toldColumns_ = terminal_.columns();
        co_await line_->resize(toldColumns_, rows_);
      }
      const Bytes now = std::exchange(outbox_, {});
      if (!now.empty()) co_await line_->stream->write(now);
      bytesOut_ += now.size();
    }
  }

  void resizeNow(int rows, int columns) {
    if (rows == rows_ && columns == columns_) return;
    rows_ = rows, columns_ = columns;
    terminal_.resize(rows, columns);
    resizeWanted_ = true;
    toSend_.notify();
    changed();
  }

  [[nodiscard]] bool mayTransfer() {
    if (policy_.mayTransfer()) return true;
    observer_->remark("This session only looks: nothing is sent or fetched.");
    return false;
  }

  template <typename F>
  void withControl(F what, std::string otherwise) {
    onStrand<TextSession>([what, otherwise](TextSession& s) {
      if (!s.policy_.mayType()) return s.observer_->remark("This session only looks: " + otherwise + ".");
      if (s.line_->control == nullptr || !s.live())
        return s.observer_->remark("This line has no such thing: " + otherwise + ".");
      auto self = std::static_pointer_cast<TextSession>(s.shared_from_this());
      spawn(
          s.strand_, [line = s.line_, what]() -> Task<void> { co_await what(*line->control); },
          [self, otherwise](std::exception_ptr failure) {
            if (failure) self->observer_->remark(messageOf(failure) + "; " + otherwise + ".");
            self->tellLine();
          });
    });
  }

  void tellLine() {
    LineFacts facts;
    facts.kind = line_->kind;
    if (line_->control != nullptr && live()) {
      facts.errors = line_->control->errors();
      if (const auto lamps = line_->control->lines()) {
        facts.settings = line_->control->settings().forPeople();
        facts.hasLamps = true;
        facts.rts = lamps->rts, facts.dtr = lamps->dtr, facts.cts = lamps->cts, facts.dsr = lamps->dsr,
        facts.dcd = lamps->dcd, facts.ri = lamps->ri;
      } else if (line_->hasSettings) {
        facts.settings = line_->control->settings().forPeople();
      }
    }
    if (facts == lineFacts_) return;
    lineFacts_ = facts;
    observer_->lineChanged(facts);
  }

  void tellAbilities() {
    Capabilities c;
    const auto say = [](bool can, const char* why) { return can ? Ability{true, {}} : Ability{false, why}; };
    c.keys = c.clipboard = c.transfer = c.savePicture = c.resize = {true, {}};
    c.pointer = {true, {}};
    c.power = {false, "A line of text has no power commands."};
    c.sound = {false, "A line of text carries no sound."};
    c.screens = {false, "A line of text has one screen."};
    c.quality = c.colours = {false, "Text is sent as it is."};
    c.files = {false, "Files go over this line with Send file."};
    c.breakSignal = say(line_->control != nullptr, "Only serial and telnet lines have a break.");
    c.lineSettings = say(line_->hasSettings, "This line has no speed or framing of its own.");
    observer_->capabilitiesChanged(c);
  }

  // Pastes, files and the doctor: one at a time.
  [[nodiscard]] bool busy() {
    if (!working_) return false;
    observer_->remark("Something else is on its way over this line; wait for it or cancel it.");
    return true;
  }

  void pasteNow(const std::string& bytes, const std::string& what) {
    if (!policy_.mayType() || !live()) return;
    const Pacing& p = config_.pacing;
    if (p.perCharacter.count() == 0 && p.perLine.count() == 0 && what == "pasting") return typed(bytes);
    if (busy()) return;
    beginWork(
        what, [bytes](TextSession& s) { return s.sendPaced(bytes); }, "sent");
  }

  /// Waits for the line after each piece: a line that stands still (flow control) holds the rest back.
  Task<void> sendPaced(std::string bytes) {
    facts_.total = bytes.size();
    const Pacing pace = config_.pacing;
    const bool each = pace.perCharacter.count() > 0;
    for (std::size_t at = 0; at < bytes.size();) {
      std::size_t end = each ? at + 1 : std::min(bytes.size(), bytes.find_first_of("\r\n", at) + 1);
      if (end <= at) end = bytes.size();
      end = std::min(end, at + 512);
      while (each && end < bytes.size() && (static_cast<unsigned char>(bytes[end]) & 0xC0) == 0x80) ++end;
      const std::string piece = bytes.substr(at, end - at);
      typed(piece);
      at = end;
      facts_.done = at;
      const bool lineEnd = piece.back() == '\r' || piece.back() == '\n';
      if (at % 256 == 0 || lineEnd || each) observer_->transferChanged(facts_);
      const auto wait = pace.perCharacter + (lineEnd ? pace.perLine : std::chrono::milliseconds(0));
      if (at < bytes.size() && wait.count() > 0) co_await clock_->sleep(wait);
      while (outbox_.size() > 64 * 1024) co_await clock_->sleep(std::chrono::milliseconds(5));
    }
  }

  void beginWork(std::string what, std::function<Task<void>(TextSession&)> work, std::string outcome) {
    working_ = true;
    cancelling_ = false;
    facts_ = TransferFacts();
    facts_.what = std::move(what);
    observer_->transferChanged(facts_);
    auto self = std::static_pointer_cast<TextSession>(shared_from_this());
    spawn(
        strand_, [self, work]() -> Task<void> { co_await firstOf(work(*self), self->untilCancelled()); },
        [self, outcome](std::exception_ptr failure) {
          self->working_ = false;
          self->diverted_.reset();
          self->facts_.finished = true;
          self->facts_.failed = failure != nullptr;
          self->facts_.outcome = failure ? messageOf(failure) : outcome + self->outcomeMore_;
          self->outcomeMore_.clear();
          self->observer_->transferChanged(self->facts_);
        });
  }

  Task<void> untilCancelled() {
    while (!cancelling_) co_await cancelled_.wait();
    throw Error(ErrorKind::Cancelled, "cancelled");
  }

  void divert() {
    diverted_ = std::make_shared<DivertedLine>(
        strand_, [this](Bytes bytes) { return writeDirect(std::move(bytes)); }, config_.place);
  }
  Task<void> writeDirect(Bytes bytes) {
    outbox_.insert(outbox_.end(), bytes.begin(), bytes.end());
    toSend_.notify();
    co_return;
  }

  text::OnProgress progress() {
    return [this](const text::TransferProgress& p) {
      facts_.done = p.done;
      facts_.total = p.total;
      outcomeMore_ = p.repeats == 0 ? "" : ", " + std::to_string(p.repeats) + " blocks again";
      observer_->transferChanged(facts_);
    };
  }

  void beginSend(text::TransferKind kind, const fs::path& path) {
    if (busy()) return;
    text::TransferFile file;
    try {
      file = {path.filename(), readFile(path)};
    } catch (const Error& e) {
      return observer_->remark(e.what());
    }
    divert();
    beginWork(
        "sending " + file.name, [kind, file](TextSession& s) { return s.sendOver(kind, file); },
        "sent " + file.name);
  }
  Task<void> sendOver(text::TransferKind kind, text::TransferFile file) {
    auto line = diverted_;
    if (!co_await text::sendFile(*line, clock_, kind, std::move(file), progress()))
      outcomeMore_ = "; every block was taken, the end was not confirmed";
  }

  void beginReceive(text::TransferKind kind, const fs::path& folder) {
    if (busy()) return;
    divert();
    beginWork(
        "receiving", [kind, folder](TextSession& s) { return s.receiveOver(kind, folder); }, "received");
  }
  Task<void> receiveOver(text::TransferKind kind, fs::path folder) {
    auto line = diverted_;
    std::vector<text::TransferFile> files = co_await text::receiveFiles(*line, clock_, kind, progress());
    for (text::TransferFile& file : files) {
      const fs::path path = freeName(folder / (file.name.empty() ? "received.bin" : file.name));
      writeFileSafely(path, file.content);
      outcomeMore_ += " " + path.filename().string();
    }
  }
  static fs::path freeName(const fs::path& wanted) {
    fs::path path = wanted;
    for (int i = 2; fs::exists(path); ++i)
      path = wanted.parent_path() /
             (wanted.stem().string() + "-" + std::to_string(i) + wanted.extension().string());
    return path;
  }
  void sendTextNow(const fs::path& path) {
    try {
      const Bytes content = readFile(path);
      pasteNow(terminal_.pasteBytes(textOf(content)), "sending " + path.filename().string());
    } catch (const Error& e) {
      observer_->remark(e.what());
    }
  }

  void beginDoctor(const DoctorOptions& options, const std::function<void(DoctorReport)>& done) {
    if (!policy_.mayType()) return observer_->remark("This session only looks: the line stays as it is.");
    if (line_->control == nullptr || !line_->hasSettings || !live())
      return observer_->remark("This line has no speed or framing to try.");
    if (busy()) return;
    divert();
    beginWork(
        "trying usual settings", [options, done](TextSession& s) { return s.doctor(options, done); },
        "tried");
  }
  Task<void> doctor(DoctorOptions options, std::function<void(DoctorReport)> done) {
    auto line = diverted_;
    facts_.total = options.speeds.size() + 1;
    DoctorReport report =
        co_await kw::tryUsualSettings(*line, *line_->control, clock_, options, [this](const LineSettings& s) {
          facts_.what = "listening with " + s.forPeople();
          ++facts_.done;
          observer_->transferChanged(facts_);
        });
    outcomeMore_ = ": " + report.sentence();
    done(report);
  }

  // The log.
  void beginLog(const text::LogOptions& options) {
    log_.reset();
    setLogPath({});
    if (options.folder.empty() && options.file.empty()) return;
    try {
      log_ = std::make_unique<text::LogWriter>(options);
      setLogPath(log_->file());
    } catch (const Error& e) {
      observer_->remark(e.what());
    }
  }
  template <typename F>
  void logSafely(F what) {
    try {
      what(*log_);
      setLogPath(log_->file());
    } catch (const Error& e) {
      log_.reset();
      setLogPath({});
      observer_->remark(e.what());
    }
  }
  void setLogPath(const fs::path& path) {
    const std::lock_guard held(logLock_);
    logPath_ = path;
  }

  TextConfig config_;
  text::Terminal terminal_;
  text::PlainLines plain_;
  text::Watcher watcher_;
  TextKeys keys_;
  /// Shared with what is under way on it (a break that is being held): a new connection has a new one.
  std::shared_ptr<TextLine> line_ = std::make_shared<TextLine>();
  LineFacts lineFacts_;
  int rows_, columns_, toldColumns_ = 0;
  Bytes outbox_;
  bool resizeWanted_ = false, working_ = false, cancelling_ = false;
  Signal toSend_, cancelled_;
  std::shared_ptr<DivertedLine> diverted_;
  TransferFacts facts_;
  std::string outcomeMore_;
  std::unique_ptr<text::LogWriter> log_;
  mutable std::mutex logLock_;
  fs::path logPath_;
  std::uint64_t bytesIn_ = 0, bytesOut_ = 0;
  Figures before_;
  std::atomic<bool> told_ = false;
};

}  // namespace

std::shared_ptr<Session> makeTextSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                         TextConfig config) {
  auto session = std::make_shared<TextSession>(strand, std::move(clock), std::move(config));
  session->listenToTerminal();
  return session;
}

}  // namespace kw
