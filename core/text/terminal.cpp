#include "text/terminal.hpp"

#include <atomic>
#include <thread>
#include <tuple>
#include <utility>

#include "text/rows.hpp"

namespace kw::text {

namespace {

std::string enterBytes(EnterSends how) {
  return how == EnterSends::Cr ? "\r" : how == EnterSends::Lf ? "\n" : "\r\n";
}

constexpr int kLeastRows = 1, kMostRows = 500, kLeastColumns = 2, kMostColumns = 1000;

}  // namespace

struct Terminal::Impl {
  Impl(int rows, int columns, TerminalOptions o) : options(o), screen(rows, columns, o.scrollRows) {}

  void feed(ByteView bytes) {
    if (options.charset == Charset::Utf8 && !options.newlineReturns) {
      screen.feed(reinterpret_cast<const char*>(bytes.data()), bytes.size());
      return;
    }
    std::string out;
    out.reserve(bytes.size() + 64);
    for (const Byte b : bytes) {
      if (b == '\n' && options.newlineReturns) out.push_back('\r');
      if (b >= 0x80 && options.charset == Charset::Latin1)
        appendUtf8(out, b);
      else
        out.push_back(static_cast<char>(b));
    }
    screen.feed(out.data(), out.size());
  }

  [[nodiscard]] std::int64_t screenTop() const {
    return static_cast<std::int64_t>(screen.back.dropped() + screen.back.rows());
  }
  [[nodiscard]] std::int64_t oldest() const {
    return screen.alternate ? screenTop() : static_cast<std::int64_t>(screen.back.dropped());
  }
  [[nodiscard]] std::int64_t end() const { return screenTop() + screen.grid().rows(); }

  /// Calls with rows [first, last), absolute, as far as they exist.
  void each(std::int64_t first, std::int64_t last,
            const std::function<bool(std::int64_t, const Row&)>& what) const {
    first = std::max(first, oldest());
    last = std::min(last, end());
    const std::int64_t top = screenTop();
    bool more = true;
    if (first < top) {
      const auto base = static_cast<std::int64_t>(screen.back.dropped());
      screen.back.each(static_cast<std::size_t>(first - base),
                       static_cast<std::size_t>(std::min(last, top) - base),
                       [&](std::size_t i, const Row& row) {
                         return more = what(base + static_cast<std::int64_t>(i), row);
                       });
    }
    const Grid& g = screen.grid();
    Row row;
    for (std::int64_t r = std::max(first, top); more && r < last; ++r) {
      const int at = static_cast<int>(r - top);
      row.cells.assign(g.row(at), g.row(at) + g.columns());
      row.wrapped = g.wrapped(at);
      row.size = g.sizeOf(at);
      more = what(r, row);
    }
  }

  /// First and last row of the line that a row belongs to, at most `reach` rows away.
  [[nodiscard]] std::pair<std::int64_t, std::int64_t> lineAround(std::int64_t row, std::int64_t reach) const {
    const auto wrapped = [&](std::int64_t r) {
      bool yes = false;
      if (r >= oldest())
        each(r, r + 1, [&](std::int64_t, const Row& found) { return yes = found.wrapped, false; });
      return yes;
    };
    std::int64_t first = row, last = row;
    while (row - first < reach && wrapped(first - 1)) --first;
    while (last - row < reach && last + 1 < end() && wrapped(last)) ++last;
    return {first, last};
  }

  [[nodiscard]] TextView view(std::int64_t firstRow, int rows) const {
    TextView v;
    const Grid& g = screen.grid();
    v.columns = g.columns();
    v.screenRows = g.rows();
    v.screenTop = screenTop();
    v.oldestRow = oldest();
    v.firstRow = std::clamp(firstRow, v.oldestRow, std::max(v.oldestRow, end() - 1));
    v.rows.reserve(static_cast<std::size_t>(rows));
    each(v.firstRow, v.firstRow + rows, [&](std::int64_t, const Row& row) {
      v.rows.push_back(row);
      return true;
    });
    v.cursorRow = v.screenTop + screen.cursor().row;
    v.cursorColumn = screen.cursor().column;
    v.cursorVisible = screen.cursorShown;
    v.reverse = screen.reverse;
    v.alternate = screen.alternate;
    v.cursorShape = screen.shape;
    v.input = screen.input;
    v.revision = revision;
    return v;
  }

  mutable std::mutex lock;
  mutable std::atomic<int> looking = 0;  ///< who waits to look goes before more text
  TerminalOptions options;
  Emulator screen;
  std::uint64_t revision = 1;
};

namespace {

/// Takes what came up while the lock was held and hands it on without the lock.
template <typename Impl>
void handOn(Terminal& terminal, Impl& impl, std::unique_lock<std::mutex>& held, std::string typed = {}) {
  ++impl.revision;
  Emulator& s = impl.screen;
  const std::string answers = std::exchange(s.answers, {});
  const bool rang = std::exchange(s.rang, false);
  const bool titled = std::exchange(s.titled, false);
  const std::string title = titled ? s.title : std::string();
  held.unlock();
  if (!answers.empty() && terminal.onAnswer) terminal.onAnswer(answers);
  if (!typed.empty() && terminal.onOutput) terminal.onOutput(typed);
  if (rang && terminal.onBell) terminal.onBell();
  if (titled && terminal.onTitle) terminal.onTitle(title);
}

}  // namespace

Terminal::Terminal(int rows, int columns, TerminalOptions options)
    : impl_(std::make_unique<Impl>(std::clamp(rows, kLeastRows, kMostRows),
                                   std::clamp(columns, kLeastColumns, kMostColumns), options)) {}
Terminal::~Terminal() = default;

namespace {

/// Counts somebody who waits for the lock; a flood of text lets him by, since a mutex alone would not.
class Looker {
 public:
  explicit Looker(std::atomic<int>& count) : count_(count) { ++count_; }
  ~Looker() { --count_; }
  Looker(const Looker&) = delete;
  Looker& operator=(const Looker&) = delete;

 private:
  std::atomic<int>& count_;
};

}  // namespace

void Terminal::feed(ByteView bytes) {
  while (impl_->looking > 0) std::this_thread::yield();
  std::unique_lock held(impl_->lock);
  impl_->feed(bytes);
  handOn(*this, *impl_, held);
}

void Terminal::echo(const std::string& bytes) {
  feed(ByteView(reinterpret_cast<const Byte*>(bytes.data()), bytes.size()));
}

void Terminal::resize(int rows, int columns) {
  rows = std::clamp(rows, kLeastRows, kMostRows);
  columns = std::clamp(columns, kLeastColumns, kMostColumns);
  std::unique_lock held(impl_->lock);
  if (rows == impl_->screen.grid().rows() && columns == impl_->screen.ownColumns()) return;
  impl_->screen.resize(rows, columns);
  handOn(*this, *impl_, held);
}

void Terminal::setOptions(const TerminalOptions& options) {
  const std::lock_guard held(impl_->lock);
  impl_->options = options;
  impl_->screen.back.setMostRows(options.scrollRows);
}
TerminalOptions Terminal::options() const {
  const std::lock_guard held(impl_->lock);
  return impl_->options;
}

void Terminal::reset(bool scrollbackToo) {
  std::unique_lock held(impl_->lock);
  impl_->screen.reset();
  if (scrollbackToo) impl_->screen.back.clear();
  handOn(*this, *impl_, held);
}

void Terminal::key(TextKey key, Modifiers with) {
  std::unique_lock held(impl_->lock);
  const TerminalOptions& o = impl_->options;
  const bool bare = !with.ctrl && !with.alt;
  std::string bytes;
  if (key == TextKey::Enter && bare && !impl_->screen.input.newLine)
    bytes = enterBytes(o.enter);
  else if (key == TextKey::Backspace && o.backspace == BackspaceSends::Backspace && bare)
    bytes = "\b";
  else
    bytes = bytesOfKey(key, with, impl_->screen.input);
  handOn(*this, *impl_, held, bytes);
}

void Terminal::character(char32_t point, Modifiers with) {
  std::unique_lock held(impl_->lock);
  std::string bytes = bytesOfCharacter(point, with);
  if (impl_->options.charset == Charset::Latin1) bytes = utf8ToLatin1(bytes);
  handOn(*this, *impl_, held, bytes);
}

std::string Terminal::pasteBytes(const std::string& utf8) const {
  const std::lock_guard held(impl_->lock);
  std::string out;
  const std::string enter = enterBytes(impl_->options.enter);
  for (std::size_t i = 0; i < utf8.size(); ++i) {
    if (utf8[i] == '\r' && i + 1 < utf8.size() && utf8[i + 1] == '\n') continue;
    if (utf8[i] == '\n' || utf8[i] == '\r')
      out += enter;
    else if (utf8[i] != '\x1b')  // nobody pastes a command for the terminal by mistake
      out += utf8[i];
  }
  if (impl_->options.charset == Charset::Latin1) out = utf8ToLatin1(out);
  return impl_->screen.input.brackets ? "\x1b[200~" + out + "\x1b[201~" : out;
}

void Terminal::mouse(const MouseEvent& event, Modifiers with) {
  std::unique_lock held(impl_->lock);
  handOn(*this, *impl_, held, bytesOfMouse(event, with, impl_->screen.input));
}

void Terminal::focus(bool in) {
  std::unique_lock held(impl_->lock);
  if (impl_->screen.input.focus) handOn(*this, *impl_, held, in ? "\x1b[I" : "\x1b[O");
}

TextView Terminal::view(std::int64_t firstRow, int rows) const {
  const Looker looker(impl_->looking);
  const std::lock_guard held(impl_->lock);
  return impl_->view(firstRow, rows);
}
TextView Terminal::screen() const {
  const Looker looker(impl_->looking);
  const std::lock_guard held(impl_->lock);
  return impl_->view(impl_->screenTop(), impl_->screen.grid().rows());
}
int Terminal::columns() const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.grid().columns();
}
std::uint64_t Terminal::revision() const {
  const std::lock_guard held(impl_->lock);
  return impl_->revision;
}
std::string Terminal::title() const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.title;
}
Place Terminal::cursor() const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.cursor();
}
std::string Terminal::pointsOf(char32_t ch) const {
  const Looker looker(impl_->looking);
  const std::lock_guard held(impl_->lock);
  std::string out;
  for (char32_t p : impl_->screen.clusters.pointsOf(ch)) appendUtf8(out, p);
  return out;
}
std::string Terminal::linkTarget(std::uint16_t link) const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.links.target(link);
}
std::size_t Terminal::scrollbackBytes() const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.back.bytes();
}
std::size_t Terminal::scrollbackRows() const {
  const std::lock_guard held(impl_->lock);
  return impl_->screen.back.rows();
}

std::string Terminal::textIn(const TextRange& range) const {
  const std::lock_guard held(impl_->lock);
  TextJoiner joiner(range, impl_->screen.clusters, false);
  impl_->each(range.fromRow, range.toRow + 1,
              [&](std::int64_t r, const Row& row) { return joiner.add(r, row); });
  return joiner.take();
}
std::string Terminal::ansiIn(const TextRange& range) const {
  const std::lock_guard held(impl_->lock);
  TextJoiner joiner(range, impl_->screen.clusters, true);
  impl_->each(range.fromRow, range.toRow + 1,
              [&](std::int64_t r, const Row& row) { return joiner.add(r, row); });
  return joiner.take();
}

TextRange Terminal::wordAt(std::int64_t row, int column) const {
  const std::lock_guard held(impl_->lock);
  constexpr std::int64_t kReach = 50;  // rows; nothing longer is a word
  const auto [first, last] = impl_->lineAround(row, kReach);
  std::vector<Cell> line;
  std::vector<std::pair<std::int64_t, int>> places;
  int wanted = -1;
  impl_->each(first, last + 1, [&](std::int64_t r, const Row& found) {
    const std::size_t used = usedCells(found);
    for (std::size_t c = 0; c < used; ++c) {
      if (r == row && static_cast<int>(c) == column) wanted = static_cast<int>(line.size());
      line.push_back(found.cells[c]);
      places.emplace_back(r, static_cast<int>(c));
    }
    return true;
  });
  if (wanted < 0) return {row, row, column, column, false};
  const auto [from, to] = wordAround(line, wanted);
  const auto& [fromRow, fromColumn] = places[static_cast<std::size_t>(from)];
  const auto& [toRow, toColumn] = places[static_cast<std::size_t>(to)];
  return {fromRow, toRow, fromColumn, toColumn, false};
}

TextRange Terminal::lineAt(std::int64_t row) const {
  const std::lock_guard held(impl_->lock);
  const auto [first, last] = impl_->lineAround(row, INT64_MAX / 4);
  return {first, last, 0, impl_->screen.grid().columns() - 1, false};
}

std::string Terminal::lastLine() const {
  const std::lock_guard held(impl_->lock);
  const Grid& g = impl_->screen.grid();
  for (int r = g.rows() - 1; r >= 0; --r) {
    std::string text = textOf({g.row(r), g.row(r) + g.columns()}, impl_->screen.clusters);
    if (!text.empty()) return text;
  }
  return {};
}

std::string Terminal::screenText() const {
  const std::lock_guard held(impl_->lock);
  std::string out;
  const Grid& g = impl_->screen.grid();
  for (int r = 0; r < g.rows(); ++r)
    out += textOf({g.row(r), g.row(r) + g.columns()}, impl_->screen.clusters) + "\n";
  return out;
}

std::int64_t Terminal::find(const std::string& needle, std::int64_t fromRow, int most,
                            std::vector<TextFind>& into) const {
  const std::lock_guard held(impl_->lock);
  RowFinder finder(needle, impl_->screen.clusters, into);
  std::int64_t next = std::max(fromRow, impl_->oldest());
  const std::int64_t stop = next + most;
  impl_->each(next, impl_->end(), [&](std::int64_t r, const Row& row) {
    finder.add(r, row);
    next = r + 1;
    return next < stop || (row.wrapped && next < stop + 2000);  // a line is seldom parted between two calls
  });
  finder.flush();
  return next;
}

}  // namespace kw::text
