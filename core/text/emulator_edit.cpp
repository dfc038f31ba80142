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
  for (int r = first; r < last; ++r) {
    erase(r, 0, columns());
    grid().setSize(r, RowSize::Normal);
  }
}

void Emulator::eraseLine(int how) {  // EL
  at_.wrapNext = false;
  erase(at_.row, how == 0 ? at_.column : 0, how == 1 ? at_.column + 1 : columns());
}

void Emulator::insertCells(int count) {  // ICH
  at_.wrapNext = false;
  if (narrowed() && !betweenMargins()) return;
  const int end = lineEnd();
  if (at_.column >= end) return;
  count = std::clamp(count, 1, end - at_.column);
  Cell* cells = grid().row(at_.row);
  splitWide(cells, at_.column, end);
  const bool cut = (cells[end - count].attrs & attr::kWideTail) != 0 && end - count > at_.column;
  std::move_backward(cells + at_.column, cells + end - count, cells + end);
  std::fill(cells + at_.column, cells + at_.column + count, blank());
  if (cut) cells[end - 1] = blank();  // a wide character that lost its right half over the edge
  grid().setWrapped(at_.row, false);
}

void Emulator::deleteCells(int count) {  // DCH
  at_.wrapNext = false;
  if (narrowed() && !betweenMargins()) return;
  const int end = lineEnd();
  if (at_.column >= end) return;
  count = std::min(count, end - at_.column);
  Cell* cells = grid().row(at_.row);
  splitWide(cells, at_.column, at_.column + count);
  splitWide(cells, end, end);
  std::move(cells + at_.column + count, cells + end, cells + at_.column);
  std::fill(cells + end - count, cells + end, blank());
  grid().setWrapped(at_.row, false);
}

void Emulator::moveTo(int row, int column) {
  at_.wrapNext = false;
  const int first = at_.origin ? top_ : 0, last = at_.origin ? bottom_ : rows();
  at_.row = std::clamp(row + first, first, last - 1);
  const int left = at_.origin ? left_ : 0, right = at_.origin ? right_ : columns();
  at_.column = std::clamp(column + left, left, right - 1);
  at_.column = std::min(at_.column, lineEnd() - 1);
}

/// Never over a margin that the cursor stands inside of.
void Emulator::moveBy(int rowStep, int columnStep) {
  at_.wrapNext = false;
  const int first = at_.row >= top_ ? top_ : 0, last = at_.row < bottom_ ? bottom_ : rows();
  if (rowStep != 0) at_.row = std::clamp(at_.row + rowStep, first, last - 1);
  const int left = at_.column >= left_ ? left_ : 0;
  at_.column = std::clamp(at_.column + columnStep, left, std::max(left, lineEnd() - 1));
}

/// DECSLRM: only while DECLRMM is set.
void Emulator::setSideMargins(const ControlSequence& s) {
  const int left = s.at(0, 1) - 1, right = std::min(s.at(1, columns()), columns());
  if (left + 1 >= right) return;
  left_ = left;
  right_ = right;
  moveTo(0, 0);
}

/// DECSWL, DECDWL and the halves of DECDHL.
void Emulator::setRowSize(char final) {
  if (sideMargins_) return;  // DEC STD 070: no large rows between margins
  const RowSize size = final == '3'   ? RowSize::TallTop
                       : final == '4' ? RowSize::TallBottom
                       : final == '6' ? RowSize::Wide
                                      : RowSize::Normal;
  grid().setSize(at_.row, size);
  if (size != RowSize::Normal) {
    const int half = std::max(1, columns() / 2);
    splitWide(grid().row(at_.row), half, half);
    grid().fill(at_.row, half, columns(), Cell{});  // what does not fit any more is lost
    grid().setWrapped(at_.row, false);
    if (at_.row > 0) grid().setWrapped(at_.row - 1, false);
  }
  at_.column = std::min(at_.column, lineEnd() - 1);
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
    for (int r = 0; r < rows(); ++r) {
      grid().fill(r, 0, columns(), e);
      grid().setSize(r, RowSize::Normal);
    }
    resetMargins();
    return moveTo(0, 0);
  }
  if (intermediate == '#' && final >= '3' && final <= '6') return setRowSize(final);
  if (intermediate != 0) return;
  switch (final) {
    case '7': (alternate ? savedOther_ : saved_) = at_; break;
    case '8':
      at_ = alternate ? savedOther_ : saved_;
      restoreCursor();
      break;
    case 'D':
      at_.wrapNext = false;
      lineFeed();
      break;
    case 'E':
      carriageReturn();
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

/// A saved cursor may come from a larger screen or a row of normal size.
void Emulator::restoreCursor() {
  at_.row = std::min(at_.row, rows() - 1);
  at_.column = std::min(at_.column, columns() - 1);
  at_.column = std::min(at_.column, lineEnd() - 1);
}

void Emulator::editLines(int by) {  // IL and DL
  if (at_.row < top_ || at_.row >= bottom_ || (narrowed() && !betweenMargins())) return;
  carriageReturn();
  turnRows(at_.row, bottom_, by);
}

/// The VT52's own sequences, as the VT100 manual lists them.
void Emulator::vt52(char final, int row, int column) {
  switch (final) {
    case 'A': return moveBy(-1, 0);
    case 'B': return moveBy(1, 0);
    case 'C': return moveBy(0, 1);
    case 'D': return moveBy(0, -1);
    case 'F': at_.sets[at_.shift] = '0'; return;
    case 'G': at_.sets[at_.shift] = 'B'; return;
    case 'H': return moveTo(0, 0);
    case 'I': return reverseLineFeed();
    case 'J': return eraseDisplay(0);
    case 'K': return eraseLine(0);
    case 'Y': return moveTo(row, column);
    case 'Z': answers += "\x1b/Z"; return;
    case '=': input.keypad = true; return;
    case '>': input.keypad = false; return;
    case '<': return setPrivateMode(2, true);
    default: return;
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
      carriageReturn();
      break;
    case 'F':
      moveBy(-n, 0);
      carriageReturn();
      break;
    case 'G':
    case '`': moveTo(at_.row - (at_.origin ? top_ : 0), n - 1); break;
    case 'H':
    case 'f': moveTo(n - 1, s.at(1, 1) - 1); break;
    case 'I': tab(n); break;
    case 'J': eraseDisplay(how); break;
    case 'K': eraseLine(how); break;
    case 'L':
    case 'M': editLines(s.final == 'L' ? -n : n); break;
    case 'P': deleteCells(n); break;
    case 'S': scrollUp(top_, bottom_, n); break;
    case 'T': turnRows(top_, bottom_, -n); break;
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
    case 'd': moveTo(n - 1, at_.column - (at_.origin ? left_ : 0)); break;
    case 'g':
      if (how == 0) stops_[static_cast<std::size_t>(at_.column)] = false;
      if (how == 3) stops_.assign(stops_.size(), false);
      break;
    case 'h':
    case 'l': setModes(s, s.final == 'h'); break;
    case 'm': selectLook(s); break;
    case 'n': deviceStatus(s); break;
    case 'r': setMargins(s); break;
    case 's':
      if (sideMargins_)
        setSideMargins(s);
      else
        escape(0, '7');
      break;
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
