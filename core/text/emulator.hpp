// What control characters and sequences do to a screen: ECMA-48, the DEC VT100/VT220 manuals' common
// functions and xterm's widely used ones. Not thread-safe; Terminal puts a lock around it.
#pragma once
#include <string>

#include "text/cell.hpp"
#include "text/grid.hpp"
#include "text/keys.hpp"
#include "text/parser.hpp"
#include "text/scrollback.hpp"

namespace kw::text {

enum class CursorShape { Block, Underline, Bar };

class Emulator {
 public:
  Emulator(int rows, int columns, std::size_t scrollRows);

  void feed(const char* bytes, std::size_t size) { parser_.feed(bytes, size, *this); }
  void resize(int rows, int columns);
  /// RIS: everything as at the start; the scrollback stays.
  void reset();

  [[nodiscard]] const Grid& grid() const { return alternate ? other_ : main_; }
  Grid& grid() { return alternate ? other_ : main_; }

  // What the parser hands over.
  void ascii(const char* text, std::size_t size);
  void point(char32_t p);
  void control(unsigned char c);
  void escape(char intermediate, char final);
  void sequence(const ControlSequence& s);
  void command(const std::string& osc);
  void vt52(char final, int row, int column);

  Scrollback back;
  Clusters clusters;
  Links links;
  std::string answers;  ///< to be sent to the line; the owner empties it
  std::string title;
  bool titled = false, rang = false;  ///< something new; the owner puts it back
  bool alternate = false, reverse = false, cursorShown = true;
  CursorShape shape = CursorShape::Block;
  InputModes input;

  [[nodiscard]] Place cursor() const { return {at_.row, at_.column}; }
  /// As many columns as resize() said; grid() has others while the program there asked for 132 (DECCOLM).
  [[nodiscard]] int ownColumns() const { return ownColumns_; }

 private:
  struct Cursor {
    int row = 0, column = 0;
    bool wrapNext = false;  ///< a character stands in the last column; the next one begins a row
    Cell pen;
    bool origin = false;
    char sets[2] = {'B', 'B'};  ///< what G0 and G1 are: B is ASCII, 0 DEC line drawing, A British
    int shift = 0;
  };

  /// One past the last column that the cursor may reach: the right margin when it stands before it.
  [[nodiscard]] int lineEnd() const {
    const int whole = grid().sizeOf(at_.row) == RowSize::Normal ? columns() : std::max(1, columns() / 2);
    return at_.column < right_ ? std::min(right_, whole) : whole;
  }
  /// The column a carriage return goes to.
  [[nodiscard]] int lineStart() const { return at_.column >= left_ || at_.origin ? left_ : 0; }
  [[nodiscard]] bool narrowed() const { return left_ > 0 || right_ < columns(); }
  [[nodiscard]] bool betweenMargins() const { return at_.column >= left_ && at_.column < right_; }
  void resetMargins();

  // emulator_text.cpp
  void putWide(char32_t p, int width);
  void combine(char32_t p);
  void wrap();
  void splitWide(Cell* cells, int from, int to);
  void lineFeed();
  void reverseLineFeed();
  void scrollUp(int top, int bottom, int by);
  void turnRows(int top, int bottom, int by);
  void carriageReturn();
  void tab(int count);

  // emulator_edit.cpp
  void erase(int row, int from, int to);
  void eraseDisplay(int how);
  void eraseLine(int how);
  void insertCells(int count);
  void deleteCells(int count);
  void moveTo(int row, int column);
  void moveBy(int rows, int columns);
  void setMargins(const ControlSequence& s);
  void setSideMargins(const ControlSequence& s);
  void setRowSize(char final);
  void editLines(int by);
  void restoreCursor();

  // emulator_modes.cpp
  void setModes(const ControlSequence& s, bool on);
  void setPrivateMode(int mode, bool on);
  void showOther(bool on, bool clear, bool keepCursor);
  void setWide(bool on);
  void setSideMode(bool on);
  void reportMode(const ControlSequence& s);
  void deviceStatus(const ControlSequence& s);
  void selectLook(const ControlSequence& s);
  void softReset();
  [[nodiscard]] int modeState(int mode) const;

  [[nodiscard]] Cell blank() const {
    Cell c;
    c.bg = at_.pen.bg;
    return c;
  }
  [[nodiscard]] int rows() const { return main_.rows(); }
  [[nodiscard]] int columns() const { return main_.columns(); }

  Parser parser_;
  Grid main_, other_;
  Cursor at_, saved_, savedOther_;
  int top_ = 0, bottom_;      ///< the scrolling region, first row and one past the last
  int left_ = 0, right_;      ///< DECSLRM, first column and one past the last
  bool sideMargins_ = false;  ///< DECLRMM
  int ownColumns_;            ///< as many as fit the window; DECCOLM may ask for 132 instead
  std::vector<bool> stops_;
  bool insert_ = false, autoWrap_ = true, newLine_ = false;
  char32_t last_ = 0;  ///< for REP
};

}  // namespace kw::text
