// Characters and the cursor's way through the rows.
#include "text/emulator.hpp"
#include "text/width.hpp"

namespace kw::text {

Emulator::Emulator(int rowCount, int columnCount, std::size_t scrollRows)
    : back(scrollRows),
      main_(rowCount, columnCount),
      other_(rowCount, columnCount),
      bottom_(rowCount),
      right_(columnCount),
      ownColumns_(columnCount) {
  reset();
}

void Emulator::reset() {
  if (columns() != ownColumns_) setWide(false);
  at_ = saved_ = savedOther_ = Cursor();
  parser_.setVt52(false);
  alternate = reverse = insert_ = newLine_ = false;
  autoWrap_ = cursorShown = true;
  shape = CursorShape::Block;
  input = InputModes();
  resetMargins();
  stops_.assign(static_cast<std::size_t>(columns()), false);
  for (std::size_t c = 0; c < stops_.size(); c += 8) stops_[c] = true;
  for (Grid* g : {&main_, &other_})
    for (int r = 0; r < g->rows(); ++r) {
      g->fill(r, 0, g->columns(), Cell{});
      g->setSize(r, RowSize::Normal);
    }
}

void Emulator::resetMargins() {
  top_ = left_ = 0;
  bottom_ = rows();
  right_ = columns();
  sideMargins_ = false;
}

void Emulator::resize(int rowCount, int columnCount) {
  const bool wide = columns() != ownColumns_;
  ownColumns_ = columnCount;
  if (wide) columnCount = columns();  // as the program there asked; the window draws it narrower
  Place here{at_.row, at_.column}, there{};
  // The rows of the hidden screen are kept, too; where its cursor was is in saved_.
  if (alternate) there = {std::min(saved_.row, rows() - 1), std::min(saved_.column, columns() - 1)};
  main_.resize(rowCount, columnCount, &back, alternate ? there : here);
  Place unused{};
  other_.resize(rowCount, columnCount, nullptr, alternate ? here : unused);
  at_.row = std::clamp(here.row, 0, rowCount - 1);
  at_.column = std::clamp(here.column, 0, columnCount - 1);
  at_.wrapNext = false;
  if (alternate) saved_.row = there.row, saved_.column = there.column;
  resetMargins();
  const std::size_t before = stops_.size();
  stops_.resize(static_cast<std::size_t>(columnCount));
  for (std::size_t c = before; c < stops_.size(); ++c) stops_[c] = c % 8 == 0;
}

/// Whatever is written over half of a wide character takes the other half with it.
void Emulator::splitWide(Cell* cells, int from, int to) {
  if (from > 0 && from < columns() && (cells[from].attrs & attr::kWideTail)) cells[from - 1] = blank();
  if (to < columns() && (cells[to].attrs & attr::kWideTail)) cells[to] = blank();
}

void Emulator::wrap() {
  if (!narrowed() && grid().sizeOf(at_.row) == RowSize::Normal) grid().setWrapped(at_.row, true);
  carriageReturn();
  lineFeed();
}

void Emulator::carriageReturn() {
  at_.column = lineStart();
  at_.wrapNext = false;
}

void Emulator::ascii(const char* text, std::size_t size) {
  if (insert_ || at_.sets[at_.shift] != 'B') {
    for (std::size_t i = 0; i < size; ++i) point(static_cast<unsigned char>(text[i]));
    return;
  }
  last_ = static_cast<unsigned char>(text[size - 1]);
  while (size > 0) {
    if (at_.wrapNext && autoWrap_) wrap();
    const int end = lineEnd();
    const int room = std::max(1, end - at_.column);
    const int n = static_cast<int>(std::min<std::size_t>(size, static_cast<std::size_t>(room)));
    Cell* cells = grid().row(at_.row);
    splitWide(cells, at_.column, at_.column + n);
    Cell fresh = at_.pen;
    for (int i = 0; i < n; ++i) {
      fresh.ch = static_cast<unsigned char>(text[i]);
      cells[at_.column + i] = fresh;
    }
    text += n;
    size -= static_cast<std::size_t>(n);
    at_.column += n;
    if (at_.column < end) continue;
    at_.column = end - 1;
    at_.wrapNext = true;
    if (!autoWrap_ && size > 0) {  // everything else lands in the last column
      fresh.ch = static_cast<unsigned char>(text[size - 1]);
      cells[at_.column] = fresh;
      return;
    }
  }
}

void Emulator::point(char32_t p) {
  // The DEC special graphics set, 0x60 to 0x7E.
  static constexpr char32_t kLines[] = U"◆▒␉␌␍␊°±␤␋┘┐┌└┼⎺⎻─⎼⎽├┤┴┬│≤≥π≠£·";
  const char set = at_.sets[at_.shift];
  if (p >= 0x60 && p <= 0x7E && set == '0') p = kLines[p - 0x60];
  if (p == '#' && set == 'A') p = U'£';
  const int width = widthOf(p);
  if (width == 0) return combine(p);
  last_ = p;
  putWide(p, width);
}

void Emulator::putWide(char32_t p, int width) {
  if (at_.wrapNext && autoWrap_) wrap();
  if (at_.column + width > lineEnd()) {  // a wide character does not fit into the last column
    if (width > lineEnd() - lineStart()) return;
    if (autoWrap_)
      wrap();
    else
      at_.column = lineEnd() - width;
    if (at_.column + width > lineEnd()) return;
  }
  const int end = lineEnd();
  if (insert_) insertCells(width);
  Cell* cells = grid().row(at_.row);
  splitWide(cells, at_.column, at_.column + width);
  cells[at_.column] = at_.pen;
  cells[at_.column].ch = p;
  if (width == 2) {
    cells[at_.column + 1] = at_.pen;
    cells[at_.column + 1].attrs |= attr::kWideTail;
  }
  at_.column += width;
  if (at_.column < end) return;
  at_.column = end - 1;
  at_.wrapNext = true;
}

void Emulator::combine(char32_t p) {
  int column = at_.wrapNext ? at_.column : at_.column - 1;
  if (column < 0) return;
  Cell* cells = grid().row(at_.row);
  if ((cells[column].attrs & attr::kWideTail) && column > 0) --column;
  if (cells[column].ch == 0) return;
  std::u32string points = clusters.pointsOf(cells[column].ch);
  if (points.size() >= 8) return;
  points += p;
  cells[column].ch = clusters.intern(points.data(), points.size());
}

void Emulator::scrollUp(int top, int bottom, int by) {
  by = std::min(by, bottom - top);
  if (narrowed()) return turnRows(top, bottom, by);
  if (top == 0 && bottom == rows()) {
    for (int i = 0; i < by; ++i) grid().turnUp(alternate ? nullptr : &back, blank());
    return;
  }
  if (top == 0 && !alternate)  // a fixed bottom: what leaves above is history all the same
    for (int i = 0; i < by; ++i)
      back.push(grid().row(i), static_cast<std::size_t>(columns()), grid().wrapped(i), grid().sizeOf(i));
  grid().turn(top, bottom, by, blank());
}

/// Between the side margins only, when there are any.
void Emulator::turnRows(int top, int bottom, int by) {
  if (!narrowed()) return grid().turn(top, bottom, by, blank());
  for (int r = top; r < bottom; ++r) {
    splitWide(grid().row(r), left_, left_);
    splitWide(grid().row(r), right_, right_);
  }
  grid().turnPart(top, bottom, left_, right_, by, blank());
}

void Emulator::lineFeed() {
  if (at_.row == bottom_ - 1) {
    if (!narrowed() || betweenMargins()) scrollUp(top_, bottom_, 1);
  } else if (at_.row < rows() - 1)
    ++at_.row;
  at_.column = std::min(at_.column, lineEnd() - 1);  // the new row may be one of large characters
}

void Emulator::reverseLineFeed() {
  at_.wrapNext = false;
  if (at_.row == top_) {
    if (!narrowed() || betweenMargins()) turnRows(top_, bottom_, -1);
  } else if (at_.row > 0)
    --at_.row;
}

void Emulator::tab(int count) {
  at_.wrapNext = false;
  const int step = count > 0 ? 1 : -1;
  const int end = lineEnd();
  for (int i = 0; i < std::min(std::abs(count), columns()); ++i) do
      at_.column += step;
    while (at_.column > 0 && at_.column < end - 1 && !stops_[static_cast<std::size_t>(at_.column)]);
  at_.column = std::clamp(at_.column, 0, end - 1);
}

void Emulator::control(unsigned char c) {
  switch (c) {
    case 0x07: rang = true; break;
    case 0x08:
      if (at_.column > lineStart()) --at_.column;
      at_.wrapNext = false;
      break;
    case 0x09: tab(1); break;
    case 0x0A:
    case 0x0B:
    case 0x0C:
      at_.wrapNext = false;
      lineFeed();
      if (!newLine_) break;
      [[fallthrough]];
    case 0x0D: carriageReturn(); break;
    case 0x0E: at_.shift = 1; break;
    case 0x0F: at_.shift = 0; break;
    default: break;
  }
}

}  // namespace kw::text
