// Erasing, inserting, moving: the editing functions of ECMA-48 8.3, and escape sequences without parameters.
#include "text/emulator.hpp"

namespace kw::text {

void Emulator::erase(int row, int from, int to) {
  if (from >= to) return;
  Cell* cells = grid().row(row);
  splitWide(cells, from, to);
  grid().fill(row, from, to, blank());
}

void Emulator::eraseDisplay(int how) {  // ED
  at_.wrapNext = false;
  if (how == 3) return back.clear();
  if (how == 0) eraseLine(0);
  if (how == 1) eraseLine(1);
  const int first = how == 0 ? at_.row + 1 : 0;
  const int last = how == 1 ? at_.row : rows();
  for (int r = first; r < last; ++r) erase(r, 0, columns());
}

void Emulator::eraseLine(int how) {  // EL
  at_.wrapNext = false;
  erase(at_.row, how == 0 ? at_.column : 0, how == 1 ? at_.column + 1 : columns());
}

void Emulator::insertCells(int count) {  // ICH
  at_.wrapNext = false;
  count = std::clamp(count, 1, columns() - at_.column);
  Cell* cells = grid().row(at_.row);
  const bool cut = (cells[columns() - count].attrs & attr::kWideTail) != 0;
  splitWide(cells, at_.column, columns());
  std::move_backward(cells + at_.column, cells + columns() - count, cells + columns());
  std::fill(cells + at_.column, cells + at_.column + count, blank());
  if (cut) cells[columns() - 1] = blank();  // a wide character that lost its right half over the edge
  grid().setWrapped(at_.row, false);
}

void Emulator::deleteCells(int count) {  // DCH
  at_.wrapNext = false;
  count = std::min(count, columns() - at_.column);
  Cell* cells = grid().row(at_.row);
  splitWide(cells, at_.column, at_.column + count);
  std::move(cells + at_.column + count, cells + columns(), cells + at_.column);
  std::fill(cells + columns() - count, cells + columns(), blank());
  grid().setWrapped(at_.row, false);
}

void Emulator::moveTo(int row, int column) {
  at_.wrapNext = false;
  const int first = at_.origin ? top_ : 0, last = at_.origin ? bottom_ : rows();
  at_.row = std::clamp(row + first, first, last - 1);
  at_.column = std::clamp(column, 0, columns() - 1);
}

/// Never over a margin that the cursor stands inside of.
void Emulator::moveBy(int rowStep, int columnStep) {
  at_.wrapNext = false;
  const int first = at_.row >= top_ ? top_ : 0, last = at_.row < bottom_ ? bottom_ : rows();
  if (rowStep != 0) at_.row = std::clamp(at_.row + rowStep, first, last - 1);
  at_.column = std::clamp(at_.column + columnStep, 0, columns() - 1);
}

void Emulator::setMargins(const ControlSequence& s) {  // DECSTBM
  const int top = s.at(0, 1) - 1, bottom = std::min(s.at(1, rows()), rows());
  if (top + 1 >= bottom) return;
  top_ = top;
  bottom_ = bottom;
  moveTo(0, 0);
}

void Emulator::escape(char intermediate, char final) {
  if (intermediate == '(' || intermediate == ')') {
    at_.sets[intermediate == ')' ? 1 : 0] = final == '0' || final == 'A' ? final : 'B';
    return;
  }
  if (intermediate == '#' && final == '8') {  // DECALN
    Cell e;
    e.ch = 'E';
    for (int r = 0; r < rows(); ++r) grid().fill(r, 0, columns(), e);
    top_ = 0;
    bottom_ = rows();
    return moveTo(0, 0);
  }
  if (intermediate != 0) return;
  switch (final) {
    case '7': (alternate ? savedOther_ : saved_) = at_; break;
    case '8':
      at_ = alternate ? savedOther_ : saved_;
      at_.row = std::min(at_.row, rows() - 1);
      at_.column = std::min(at_.column, columns() - 1);
      break;
    case 'D':
      at_.wrapNext = false;
      lineFeed();
      break;
    case 'E':
      at_.column = 0;
      at_.wrapNext = false;
      lineFeed();
      break;
    case 'H': stops_[static_cast<std::size_t>(at_.column)] = true; break;
    case 'M': reverseLineFeed(); break;
    case 'Z': answers += "\x1b[?62;22c"; break;
    case 'c': reset(); break;
    case '=': input.keypad = true; break;
    case '>': input.keypad = false; break;
    default: break;
  }
}

void Emulator::sequence(const ControlSequence& s) {
  const int n = std::min(s.at(0, 1), 10'000);
  if (s.intermediate == '$' && s.final == 'p') return reportMode(s);
  if (s.intermediate == ' ' && s.final == 'q') {  // DECSCUSR
    const int style = s.at(0, 1);
    shape = style >= 5 ? CursorShape::Bar : style >= 3 ? CursorShape::Underline : CursorShape::Block;
    return;
  }
  if (s.intermediate == '!' && s.final == 'p') return softReset();
  if (s.intermediate != 0) return;
  const int how = s.at(0, 0);
  if (s.prefix != 0) {
    if (s.prefix == '?' && s.final == 'J') return eraseDisplay(how);
    if (s.prefix == '?' && s.final == 'K') return eraseLine(how);
    if (s.prefix == '?' && (s.final == 'h' || s.final == 'l')) return setModes(s, s.final == 'h');
    if (s.prefix == '?' && s.final == 'n') return deviceStatus(s);
    if (s.prefix == '>' && s.final == 'c') answers += "\x1b[>1;10;0c";
    return;
  }
  switch (s.final) {
    case '@': insertCells(n); break;
    case 'A': moveBy(-n, 0); break;
    case 'B':
    case 'e': moveBy(n, 0); break;
    case 'C':
    case 'a': moveBy(0, n); break;
    case 'D': moveBy(0, -n); break;
    case 'E':
      moveBy(n, 0);
      at_.column = 0;
      break;
    case 'F':
      moveBy(-n, 0);
      at_.column = 0;
      break;
    case 'G':
    case '`':
      at_.wrapNext = false;
      at_.column = std::clamp(n - 1, 0, columns() - 1);
      break;
    case 'H':
    case 'f': moveTo(n - 1, s.at(1, 1) - 1); break;
    case 'I': tab(n); break;
    case 'J': eraseDisplay(how); break;
    case 'K': eraseLine(how); break;
    case 'L':
    case 'M':
      if (at_.row < top_ || at_.row >= bottom_) break;
      at_.column = 0;
      at_.wrapNext = false;
      grid().turn(at_.row, bottom_, s.final == 'L' ? -n : n, blank());
      break;
    case 'P': deleteCells(n); break;
    case 'S': scrollUp(top_, bottom_, n); break;
    case 'T': grid().turn(top_, bottom_, -n, blank()); break;
    case 'X':
      at_.wrapNext = false;
      erase(at_.row, at_.column, std::min(at_.column + n, columns()));
      break;
    case 'Z': tab(-n); break;
    case 'b':
      for (int i = 0; last_ != 0 && i < std::min(n, rows() * columns()); ++i) point(last_);
      break;
    case 'c':
      if (how == 0) answers += "\x1b[?62;22c";  // a VT220 with colour
      break;
    case 'd': moveTo(n - 1, at_.column); break;
    case 'g':
      if (how == 0) stops_[static_cast<std::size_t>(at_.column)] = false;
      if (how == 3) stops_.assign(stops_.size(), false);
      break;
    case 'h':
    case 'l': setModes(s, s.final == 'h'); break;
    case 'm': selectLook(s); break;
    case 'n': deviceStatus(s); break;
    case 'r': setMargins(s); break;
    case 's': escape(0, '7'); break;
    case 'u': escape(0, '8'); break;
    case 't':
      if (how == 18) answers += "\x1b[8;" + std::to_string(rows()) + ";" + std::to_string(columns()) + "t";
      break;
    case 'x':  // DECREQTPARM, as a VT100 at 38400 without parity
      if (how <= 1) answers += "\x1b[" + std::to_string(how + 2) + ";1;1;128;128;1;0x";
      break;
    default: break;
  }
}

}  // namespace kw::text
