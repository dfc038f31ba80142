// kettle text and kettle expect: a line of text from a shell.
#include <fcntl.h>
#include <poll.h>
#include <termios.h>
#include <unistd.h>

#include <sys/ioctl.h>
#include <condition_variable>
#include <deque>
#include <iostream>
#include <mutex>

#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "route/text_opening.hpp"
#include "text/plain_lines.hpp"

namespace kw::cli {

namespace {

struct Step {
  bool send = true;
  std::string text;
};

struct TextOptions {
  LiveOptions live;
  std::vector<Step> steps;
  std::string log;
  bool rawLog = false;
  int settle = 500;
  std::vector<std::string> words;
  std::string until;
  bool quiet = false;
};

/// What came over the line, for waiting; the bytes are also printed.
struct Heard {
  std::mutex mutex;
  std::condition_variable changed;
  SessionStatus status;
  std::string plain;  ///< without control sequences; what an expectation has used up is gone
  text::PlainLines lines;
  std::chrono::steady_clock::time_point last = std::chrono::steady_clock::now();
};

class Listener : public SessionObserver {
 public:
  Listener(std::shared_ptr<Heard> heard, const TextOptions& options)
      : heard_(std::move(heard)), trustOnce_(options.live.trustOnce), quiet_(options.quiet) {
    heard_->lines.onLine = [this](const std::string& line) { heard_->plain += line + "\n"; };
  }
  void statusChanged(const SessionStatus& status) override {
    const std::lock_guard held(heard_->mutex);
    heard_->status = status;
    heard_->changed.notify_all();
  }
  void textBytes(ByteView bytes) override {
    const std::lock_guard held(heard_->mutex);
    if (!quiet_) {
      std::cout.write(reinterpret_cast<const char*>(bytes.data()),
                      static_cast<std::streamsize>(bytes.size()));
      std::cout.flush();
    }
    heard_->lines.feed(bytes);
    if (heard_->plain.size() > (4U << 20)) heard_->plain.erase(0, heard_->plain.size() / 2);
    heard_->last = std::chrono::steady_clock::now();
    heard_->changed.notify_all();
  }
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    reply(answerOnTerminal(question, trustOnce_));
  }
  void remark(const std::string& text) override { std::cerr << "kettle: " << text << "\n"; }
  void watchWordSeen(const std::string& pattern, const std::string& line) override {
    std::cerr << "kettle: seen “" << pattern << "”: " << line << "\n";
  }

 private:
  std::shared_ptr<Heard> heard_;
  bool trustOnce_, quiet_;
};

/// Watch words of the command line go over those of the record.
LiveOptions withWords(const TextOptions& options) {
  LiveOptions live = options.live;
  std::string all;
  for (const std::string& word : options.words) all += word + ";;";
  if (!all.empty()) live.settings["text.words"] = all;
  return live;
}

class TextRun {
 public:
  explicit TextRun(const TextOptions& options) : options_(options) {
    deadline_ = std::chrono::steady_clock::now() +
                std::chrono::milliseconds(static_cast<std::int64_t>(options.live.timeoutSeconds * 1000));
    OpeningTools tools = openTools(options.live, runtime_);
    const Target target = findTarget(withWords(options), tools, showsText);
    session_ =
        makeSession(runtime_.strand(), target.address, target.label, target.setting, tools, target.owner);
    session_->text()->answerQuestions(::isatty(STDOUT_FILENO) ==
                                      0);  // else the terminal this runs in answers
    winsize size{};
    if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0)
      session_->text()->resizeText(size.ws_row, size.ws_col);
    if (!options.log.empty()) {
      const std::filesystem::path file = options.log;
      text::LogOptions log;
      log.file = file;
      log.form = options.rawLog ? text::LogForm::Raw : text::LogForm::Plain;
      session_->text()->logTo(log);
    }
    session_->observe(std::make_shared<Listener>(heard_, options));
    session_->start();
  }
  ~TextRun() {
    session_->end();
    std::unique_lock lock(heard_->mutex);
    heard_->changed.wait_for(lock, std::chrono::seconds(2),
                             [&] { return heard_->status.stage == SessionStage::Ended; });
  }
  TextRun(const TextRun&) = delete;
  TextRun& operator=(const TextRun&) = delete;

  void waitLive() {
    std::unique_lock lock(heard_->mutex);
    waitFor(
        lock, [&] { return heard_->status.stage == SessionStage::Live; }, "connection");
  }
  void send(const std::string& bytes) { session_->text()->sendBytes(bytes); }
  /// Uses up what came until the end of the match.
  void expect(const std::string& pattern) {
    text::searchPattern(pattern, "");  // a broken pattern is told before any waiting
    std::unique_lock lock(heard_->mutex);
    waitFor(
        lock, [&] { return seen(pattern); }, "text that matches " + pattern);
  }
  void untilQuiet() {
    std::unique_lock lock(heard_->mutex);
    const auto quiet = std::chrono::milliseconds(options_.settle);
    while (!over()) {
      const auto due = heard_->last + quiet;
      if (std::chrono::steady_clock::now() >= due) return;
      heard_->changed.wait_until(lock, due);
    }
  }
  /// Until the line ends or, when something is typed in, somebody leaves.
  int talk(bool fromTerminal);

 private:
  [[nodiscard]] bool over() const { return heard_->status.stage == SessionStage::Ended; }
  bool seen(const std::string& pattern) {
    const std::string all = heard_->plain + heard_->lines.unfinished();
    const std::size_t at = text::searchPattern(pattern, all);
    if (at == std::string::npos) return false;
    heard_->plain.erase(0, std::min(heard_->plain.size(), at + 1));
    return true;
  }
  template <typename Condition>
  void waitFor(std::unique_lock<std::mutex>& lock, Condition condition, const std::string& what) {
    while (!condition()) {
      if (over())
        throw Error(heard_->status.problem.value_or(ErrorKind::ClosedByPeer), heard_->status.sentence);
      if (heard_->changed.wait_until(lock, deadline_) == std::cv_status::timeout && !condition())
        throw Error(ErrorKind::TimedOut, "no " + what + " within the time limit");
    }
  }

  TextOptions options_;
  std::shared_ptr<Heard> heard_ = std::make_shared<Heard>();
  Runtime runtime_{2};
  std::shared_ptr<Session> session_;
  std::chrono::steady_clock::time_point deadline_;
};

/// The terminal this runs in, without echo and line editing, until it goes.
class RawTerminal {
 public:
  RawTerminal() {
    ::tcgetattr(STDIN_FILENO, &before_);
    termios raw = before_;
    ::cfmakeraw(&raw);
    ::tcsetattr(STDIN_FILENO, TCSAFLUSH, &raw);
  }
  ~RawTerminal() { ::tcsetattr(STDIN_FILENO, TCSAFLUSH, &before_); }
  RawTerminal(const RawTerminal&) = delete;
  RawTerminal& operator=(const RawTerminal&) = delete;

 private:
  termios before_{};
};

constexpr char kLeave = 0x1F;  // Ctrl+_ ; twice in a row ends

int TextRun::talk(bool fromTerminal) {
  std::unique_ptr<RawTerminal> raw;
  if (fromTerminal) {
    std::cerr << "kettle: connected; Ctrl+_ twice ends.\r\n";
    raw = std::make_unique<RawTerminal>();
  }
  bool leaving = false, open = true;
  winsize known{};
  while (open) {
    {
      const std::lock_guard held(heard_->mutex);
      if (over()) break;
    }
    winsize now{};
    if (fromTerminal && ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &now) == 0 &&
        (now.ws_col != known.ws_col || now.ws_row != known.ws_row)) {
      known = now;
      session_->text()->resizeText(now.ws_row, now.ws_col);
    }
    pollfd in{STDIN_FILENO, POLLIN, 0};
    if (::poll(&in, 1, 100) <= 0) continue;
    char buffer[4096];
    const ssize_t n = ::read(STDIN_FILENO, buffer, sizeof buffer);
    if (n <= 0) {
      open = false;
      break;
    }
    std::string bytes(buffer, static_cast<std::size_t>(n));
    if (fromTerminal) {
      for (const char c : bytes) {
        if (c == kLeave && leaving) return kDone;
        leaving = c == kLeave;
      }
      if (leaving) bytes.pop_back();
    }
    send(bytes);
  }
  raw.reset();
  if (!open) untilQuiet();
  return kDone;
}

int runText(const TextOptions& options) {
  TextRun run(options);
  run.waitLive();
  if (options.steps.empty()) return run.talk(::isatty(STDIN_FILENO) != 0);
  for (const Step& step : options.steps)
    if (step.send)
      run.send(text::unescaped(step.text));
    else
      run.expect(step.text);
  if (options.steps.back().send) run.untilQuiet();
  return kDone;
}

int runExpect(const TextOptions& options) {
  TextRun run(options);
  run.waitLive();
  run.expect(options.until);
  return kDone;
}

/// --send and --expect in the order in which they were given.
std::vector<Step> stepsOf(const CLI::App& verb) {
  std::vector<Step> steps;
  std::map<std::string, std::size_t> used;
  for (const CLI::Option* option : verb.parse_order()) {
    const std::string name = option->get_name();
    if (name != "--send" && name != "--expect") continue;
    steps.push_back({name == "--send", option->results()[used[name]++]});
  }
  return steps;
}

void addTextOptions(CLI::App& verb, TextOptions& o) {
  verb.add_option("target", o.live.target,
                  "serial:/dev/ttyUSB0?speed=9600&frame=8N1&flow=none, unix:/path, tcp://h:p, tls://h:p, "
                  "telnet://h:p,\n"
                  "telnet+serial://h:p?speed=… (RFC 2217), ssh://user@h:p, or a machine's name")
      ->required();
  verb.add_option("--via", o.live.via, "SSH jumps, nearest first: ssh://user@jump, …");
  verb.add_option("--password-file", o.live.passwordFile, "File whose first line is the password");
  verb.add_option("--user", o.live.user, "Name to sign in with, where one is asked for");
  verb.add_flag("--trust-once", o.live.trustOnce,
                "Go on when a key is not known yet (never when it has changed)");
  verb.add_option("--timeout", o.live.timeoutSeconds, "Seconds until the verb gives up")
      ->capture_default_str();
  verb.add_option("--log", o.log, "Keep what comes in this file, with a time before each line");
  verb.add_flag("--raw-log", o.rawLog, "Keep every byte instead");
  verb.add_flag("--quiet", o.quiet, "Do not print what comes");
}

}  // namespace

void addTextVerbs(CLI::App& app, Chosen& chosen) {
  auto text = std::make_shared<TextOptions>();
  auto* verb =
      app.add_subcommand("text", "Talk over a serial line, telnet or SSH; interactive in a terminal");
  addTextOptions(*verb, *text);
  static std::vector<std::string> sends, expects;
  verb->add_option("--send", sends,
                   "Send this; \\r \\n \\t \\e \\xHH are understood. May be given several times")
      ->type_size(1)
      ->allow_extra_args(false);
  verb->add_option("--expect", expects, "Wait for text that matches (RE2). In order with --send")
      ->type_size(1)
      ->allow_extra_args(false);
  verb->add_option("--settle", text->settle, "Milliseconds without text after the last --send")
      ->capture_default_str();
  verb->callback([&chosen, text, verb] {
    text->steps = stepsOf(*verb);
    chosen = [text] { return runText(*text); };
  });

  auto words = std::make_shared<TextOptions>();
  auto* expect = app.add_subcommand("expect", "Answer watch words until a pattern comes");
  addTextOptions(*expect, *words);
  expect
      ->add_option("--word", words->words,
                   "“pattern => answer”, “pattern =>5 answer” to allow five, or “pattern” to be told")
      ->type_size(1)
      ->allow_extra_args(false);
  expect->add_option("--until", words->until, "End when this pattern has come")->required();
  expect->callback([&chosen, words] { chosen = [words] { return runExpect(*words); }; });
}

}  // namespace kw::cli
