// The terminal against libvterm's own parse of the same text, and what a million rows cost.
#include <vterm.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QTest>

#include "base/runtime.hpp"
#include "bench/bench.hpp"
#include "desktop/model/open_session.hpp"
#include "desktop/text/text_view.hpp"
#include "session/text_session.hpp"

namespace kw::bench {

namespace {

/// Listings, coloured logs, a little of everything; about `size` bytes.
std::string mixedText(std::size_t size) {
  std::string out;
  out.reserve(size + 400);
  unsigned seed = 3;
  const auto random = [&seed](unsigned n) { return ((seed = seed * 1103515245 + 12345) >> 16) % n; };
  while (out.size() < size) {
    switch (random(6)) {
      case 0: out += "\x1b[32mmist-bench\x1b[0m:\x1b[34m~\x1b[0m$ ls -l /var/log\r\n"; break;
      case 1:
        out += "-rw-r--r-- 1 duty duty " + std::to_string(random(900000)) + " Nov 23 11:0" +
               std::to_string(random(9)) + " zone-" + std::to_string(random(40)) + ".log\r\n";
        break;
      case 2:
        out += "\x1b[1;33mwarning\x1b[0m zone " + std::to_string(random(12)) + " humidity " +
               std::to_string(random(100)) +
               " % is low; the next mist cycle begins at 06:30 and lasts forty seconds\r\n";
        break;
      case 3:
        out += "2026-11-23 11:04:1" + std::to_string(random(9)) + " controller[812]: valve " +
               std::to_string(random(12)) + " opened, pressure 3." + std::to_string(random(9)) +
               " bar, flow 12.4 l/min, temperature 19.5 C\r\n";
        break;
      case 4: out += "Größe der Glashäuser: 温室 " + std::to_string(random(30)) + " m²\r\n"; break;
      default: out += std::string(20 + random(90), static_cast<char>('a' + random(26))) + "\r\n";
    }
  }
  return out;
}

double secondsOf(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

constexpr double kAtLeast = 1 / 0.8;  ///< goal: 0.8 of the floor's speed

double vtermSeconds(const std::string& text, int repeats) {
  VTerm* vt = vterm_new(40, 120);
  vterm_set_utf8(vt, 1);
  VTermScreen* screen = vterm_obtain_screen(vt);
  vterm_screen_set_damage_merge(screen, VTERM_DAMAGE_SCROLL);
  vterm_screen_reset(screen, 1);
  const double seconds = secondsOf([&] {
    for (int i = 0; i < repeats; ++i)
      for (std::size_t at = 0; at < text.size(); at += 65536)
        vterm_input_write(vt, text.data() + at, std::min<std::size_t>(65536, text.size() - at));
  });
  vterm_free(vt);
  return seconds;
}

/// A line that pours text as fast as it is read.
class Pouring : public ByteStream {
 public:
  Pouring(const std::string& text, int repeats, std::atomic<bool>& over)
      : text_(text), left_(repeats), over_(over) {}
  Task<std::size_t> readSome(ByteSpan into) override {
    if (left_ == 0) {
      over_ = true;
      co_await systemClock()->sleep(std::chrono::hours(1));
    }
    const std::size_t n = std::min(into.size(), text_.size() - at_);
    std::memcpy(into.data(), text_.data() + at_, n);
    at_ += n;
    if (at_ == text_.size()) at_ = 0, --left_;
    co_return n;
  }
  Task<void> write(ByteView) override { co_return; }
  void close() noexcept override {}
  [[nodiscard]] std::string peer() const override { return "bench"; }

 private:
  const std::string& text_;
  std::size_t at_ = 0;
  int left_;
  std::atomic<bool>& over_;
};

void visiblePane(Table& table, const std::string& text, int repeats, double floor) {
  Runtime runtime(1);
  std::atomic<bool> over = false;
  TextConfig config;
  config.label = "bench";
  config.connect = [&](Asker&, RouteFacts&, ConnectFindings*) -> Task<TextLine> {
    TextLine line;
    line.stream = std::make_unique<Pouring>(text, repeats, over);
    line.kind = "bench";
    co_return line;
  };
  auto session = std::make_unique<desktop::OpenSession>(
      makeTextSession(runtime.strand(), systemClock(), config), "bench", "line", 0);
  desktop::TextView view;
  view.resize(1100, 800);
  view.setSession(session.get());
  view.show();
  QApplication::processEvents();
  double worst = 0;
  const double seconds = secondsOf([&] {
    session->start();
    QElapsedTimer turn;
    while (!over) {
      turn.start();
      QApplication::processEvents(QEventLoop::AllEvents, 10);
      worst = std::max(worst, static_cast<double>(turn.nsecsElapsed()) / 1e6 - 10);
      QTest::qWait(1);
    }
  });
  table.row("text: 200 MB into a visible pane", seconds, floor, "libvterm's parse", kAtLeast,
            static_cast<double>(text.size()) * repeats);
  table.figure("text: longest the window took to answer", std::max(0.0, worst), "ms", 50);
  view.setSession(nullptr);
}

}  // namespace

void benchText(Table& table, int argc, char** argv) {
  if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  QApplication app(argc, argv);
  const std::string text = mixedText(20'000'000);
  constexpr int kRepeats = 10;
  const double floor = vtermSeconds(text, kRepeats);
  {
    text::Terminal terminal(40, 120);
    const double ours = secondsOf([&] {
      for (int i = 0; i < kRepeats; ++i)
        for (std::size_t at = 0; at < text.size(); at += 65536)
          terminal.feed(viewOf(std::string_view(text).substr(at, 65536)));
    });
    table.row("text: parse, screen and scrollback", ours, floor, "libvterm's parse", kAtLeast,
              static_cast<double>(text.size()) * kRepeats);
  }
  visiblePane(table, text, kRepeats, floor);
  text::Terminal terminal(40, 120);
  unsigned seed = 9;
  std::string line;
  for (int i = 0; i < 1'000'040; ++i) {
    line.clear();
    for (int c = 0; c < 120; ++c)
      line += static_cast<char>(' ' + ((seed = seed * 1103515245 + 12345) >> 16) % 90);
    line += i % 3 == 0 ? "\x1b[31m\r\n" : "\x1b[0m\r\n";
    terminal.feed(viewOf(line));
  }
  table.figure("text: a million rows of 120 columns", static_cast<double>(terminal.scrollbackBytes()) / 1e6,
               "MB", 200);
  std::vector<text::TextFind> finds;
  const double find = secondsOf([&] {
    for (std::int64_t at = 0, next = -1; at != next;)
      next = at, at = terminal.find("zone", at, 20'000, finds);
  });
  table.figure("text: looking through all of them", find * 1000, "ms");
}

}  // namespace kw::bench
