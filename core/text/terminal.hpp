// A terminal: bytes of a line go in, a screen with scrollback comes out; keys go in, bytes for the line come
// out. Thread-safe: the line's strand feeds it, the window looks at it.
#pragma once
#include <functional>
#include <memory>
#include <mutex>
#include <string>

#include "base/bytes.hpp"
#include "text/cell.hpp"
#include "text/emulator.hpp"
#include "text/grid.hpp"
#include "text/keys.hpp"
#include "text/scrollback.hpp"

namespace kw::text {

enum class EnterSends { Cr, Lf, CrLf };
enum class BackspaceSends { Delete, Backspace };
enum class Charset { Utf8, Latin1 };

struct TerminalOptions {
  std::size_t scrollRows = 1'000'000;
  EnterSends enter = EnterSends::Cr;
  BackspaceSends backspace = BackspaceSends::Delete;
  Charset charset = Charset::Utf8;
  bool localEcho = false;
  bool newlineReturns = false;  ///< a line feed that comes also goes back to the first column
};

/// What the window paints: rows [firstRow, firstRow + rows.size()) of everything that is kept.
struct TextView {
  int columns = 0, screenRows = 0;
  std::int64_t firstRow = 0;   ///< absolute: 0 is the first row ever
  std::int64_t screenTop = 0;  ///< absolute row of the screen's first row
  std::int64_t oldestRow = 0;  ///< absolute row of the oldest row kept
  std::vector<Row> rows;
  std::int64_t cursorRow = 0;  ///< absolute
  int cursorColumn = 0;
  bool cursorVisible = true, reverse = false, alternate = false;
  CursorShape cursorShape = CursorShape::Block;
  InputModes input;
  std::uint64_t revision = 0;  ///< grows with every change
};

/// A stretch of text, both ends included, in absolute rows. `block`: the rectangle between the corners.
struct TextRange {
  std::int64_t fromRow = 0, toRow = 0;
  int fromColumn = 0, toColumn = 0;
  bool block = false;
};

/// Both ends included. A find may go on over the rows of one line, never over a row that the program ended.
struct TextFind {
  std::int64_t row = 0, toRow = 0;
  int column = 0, toColumn = 0;
  bool operator==(const TextFind&) const = default;
};

class Terminal {
 public:
  explicit Terminal(int rows = 24, int columns = 80, TerminalOptions options = {});
  ~Terminal();
  Terminal(const Terminal&) = delete;
  Terminal& operator=(const Terminal&) = delete;

  /// Get the bytes that must go to the line: of keys and the mouse, and the answers to questions of the
  /// program there. Called with no lock held, on the thread that typed or fed.
  std::function<void(std::string)> onOutput, onAnswer;
  std::function<void()> onBell;
  std::function<void(const std::string&)> onTitle;

  void feed(ByteView bytes);
  void resize(int rows, int columns);
  void setOptions(const TerminalOptions& options);
  [[nodiscard]] TerminalOptions options() const;
  /// Screen and modes as at the start; the scrollback stays unless `scrollbackToo`.
  void reset(bool scrollbackToo);

  void key(TextKey key, Modifiers with);
  void character(char32_t point, Modifiers with);
  /// Text with line ends as Enter sends them, in brackets (DEC mode 2004) when the program asked for them.
  [[nodiscard]] std::string pasteBytes(const std::string& utf8) const;
  void mouse(const MouseEvent& event, Modifiers with);
  void focus(bool in);
  /// Shows what was sent, for local echo.
  void echo(const std::string& bytes);

  [[nodiscard]] TextView view(std::int64_t firstRow, int rows) const;
  /// The screen itself.
  [[nodiscard]] TextView screen() const;
  /// Of the screen as it is; 132 while a program asked for them.
  [[nodiscard]] int columns() const;
  [[nodiscard]] std::uint64_t revision() const;
  [[nodiscard]] std::string title() const;
  [[nodiscard]] Place cursor() const;
  [[nodiscard]] std::string pointsOf(char32_t ch) const;
  [[nodiscard]] std::string linkTarget(std::uint16_t link) const;
  [[nodiscard]] std::size_t scrollbackBytes() const;
  [[nodiscard]] std::size_t scrollbackRows() const;

  /// Rows of one line are joined; trailing blanks are left out.
  [[nodiscard]] std::string textIn(const TextRange& range) const;
  /// With the colours, as SGR sequences.
  [[nodiscard]] std::string ansiIn(const TextRange& range) const;
  /// The word, and the whole line, around a place; absolute rows. Both go on over the rows of one line.
  [[nodiscard]] TextRange wordAt(std::int64_t row, int column) const;
  [[nodiscard]] TextRange lineAt(std::int64_t row) const;
  /// The last row with text on it, for small pictures.
  [[nodiscard]] std::string lastLine() const;
  /// The screen as text, one row a line.
  [[nodiscard]] std::string screenText() const;

  /// Looks through rows [fromRow, fromRow + most) for `needle`; appends finds, returns the row to go on with
  /// (≥ the end when done). Capitals count only when the needle has any.
  std::int64_t find(const std::string& needle, std::int64_t fromRow, int most,
                    std::vector<TextFind>& into) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace kw::text
