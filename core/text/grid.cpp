#include "text/grid.hpp"

#include <deque>

namespace kw::text {

Grid::Grid(int rows, int columns) : rows_(rows), columns_(columns), lines_(static_cast<std::size_t>(rows)) {
  for (Row& line : lines_) line.cells.resize(static_cast<std::size_t>(columns));
}

void Grid::fill(int r, int from, int to, const Cell& with) {
  Cell* cells = row(r);
  std::fill(cells + from, cells + to, with);
  if (to >= columns_) setWrapped(r, false);
}

void Grid::turnUp(Scrollback* into, const Cell& blank) {
  Row& leaving = lines_[top_];
  if (into != nullptr) into->push(leaving);
  std::fill(leaving.cells.begin(), leaving.cells.end(), blank);
  leaving.wrapped = false;
  leaving.size = RowSize::Normal;
  top_ = top_ + 1 == lines_.size() ? 0 : top_ + 1;
}

void Grid::turn(int first, int last, int by, const Cell& blank) {
  const int count = last - first;
  const int step = std::min(std::abs(by), count);
  for (int i = 0; i < count; ++i) {
    const int to = by > 0 ? first + i : last - 1 - i;
    const int from = by > 0 ? to + step : to - step;
    if (from >= first && from < last) {
      std::swap(lines_[slot(to)], lines_[slot(from)]);
    } else {
      fill(to, 0, columns_, blank);
      setSize(to, RowSize::Normal);
    }
  }
}

void Grid::turnPart(int first, int last, int left, int right, int by, const Cell& blank) {
  const int count = last - first;
  const int step = std::min(std::abs(by), count);
  for (int i = 0; i < count; ++i) {
    const int to = by > 0 ? first + i : last - 1 - i;
    const int from = by > 0 ? to + step : to - step;
    if (from >= first && from < last)
      std::copy(row(from) + left, row(from) + right, row(to) + left);
    else
      std::fill(row(to) + left, row(to) + right, blank);
    setWrapped(to, false);
  }
}

void Grid::straighten() {
  std::rotate(lines_.begin(), lines_.begin() + static_cast<std::ptrdiff_t>(top_), lines_.end());
  top_ = 0;
}

void Grid::resizePlain(int rows, int columns, Place& cursor) {
  straighten();
  // The row with the cursor must stay: rows above it leave first.
  const int over = std::clamp(cursor.row + 1 - rows, 0, rows_);
  lines_.erase(lines_.begin(), lines_.begin() + over);
  cursor.row -= over;
  lines_.resize(static_cast<std::size_t>(rows));
  for (Row& line : lines_) line.cells.resize(static_cast<std::size_t>(columns));
}

namespace {

/// One line and where the cursor stands in it, or -1.
struct Line {
  std::vector<Cell> cells;
  std::ptrdiff_t cursor = -1;
  RowSize size = RowSize::Normal;
};

void append(Line& line, const std::vector<Cell>& cells) {
  line.cells.insert(line.cells.end(), cells.begin(), cells.end());
}

void breakLine(Line line, std::size_t columns, std::deque<Row>& rows, Place& cursor) {
  std::size_t at = 0;
  do {
    std::size_t end = std::min(at + columns, line.cells.size());
    if (end < line.cells.size() && end > at + 1 && (line.cells[end].attrs & attr::kWideTail)) --end;
    const bool last = end >= line.cells.size();
    const auto begin = static_cast<std::ptrdiff_t>(at), stop = static_cast<std::ptrdiff_t>(end);
    if (line.cursor >= begin && (line.cursor < stop || last)) {
      cursor.row = static_cast<int>(rows.size());
      cursor.column = static_cast<int>(
          std::min<std::ptrdiff_t>(line.cursor - begin, static_cast<std::ptrdiff_t>(columns) - 1));
    }
    Row row;
    row.cells.assign(line.cells.begin() + begin, line.cells.begin() + stop);
    row.cells.resize(columns);
    row.wrapped = !last;
    row.size = line.size;
    rows.push_back(std::move(row));
    at = end;
  } while (at < line.cells.size());
}

}  // namespace

void Grid::resize(int rows, int columns, Scrollback* reflow, Place& cursor) {
  if (rows == rows_ && columns == columns_) return;
  if (reflow == nullptr) {
    resizePlain(rows, columns, cursor);
  } else {
    straighten();
    std::vector<Line> lines;
    Line line;
    // A line whose beginning has left the screen already is taken back whole.
    std::vector<Row> head;
    for (Row row; head.size() < 200 && reflow->rows() > 0;) {
      if (!reflow->pop(row)) break;
      if (!row.wrapped) {
        reflow->push(row);
        break;
      }
      head.push_back(std::move(row));
    }
    for (auto row = head.rbegin(); row != head.rend(); ++row) append(line, row->cells);
    int lastUsed = cursor.row;
    for (int r = rows_ - 1; r > lastUsed; --r)
      if (std::any_of(row(r), row(r) + columns_, [](const Cell& c) { return !(c == Cell{}); })) lastUsed = r;
    for (int r = 0; r <= lastUsed; ++r) {
      Row& from = lines_[static_cast<std::size_t>(r)];
      if (r == cursor.row) line.cursor = static_cast<std::ptrdiff_t>(line.cells.size()) + cursor.column;
      if (!from.wrapped) trimEnd(from.cells);
      line.size = from.size;
      append(line, from.cells);
      if (from.wrapped && r < lastUsed) continue;
      lines.push_back(std::move(line));
      line = {};
    }
    if (columns != columns_) reflow->reflow(static_cast<std::size_t>(columns));
    std::deque<Row> broken;
    Place at;
    for (Line& l : lines) breakLine(std::move(l), static_cast<std::size_t>(columns), broken, at);
    const auto wanted = static_cast<std::size_t>(rows);
    while (broken.size() > wanted && at.row > 0) {
      reflow->push(broken.front());
      broken.pop_front();
      --at.row;
    }
    for (Row row; broken.size() < wanted && reflow->pop(row); ++at.row) {
      row.cells.resize(static_cast<std::size_t>(columns));
      broken.push_front(std::move(row));
    }
    lines_.assign(std::make_move_iterator(broken.begin()), std::make_move_iterator(broken.end()));
    lines_.resize(wanted);
    for (Row& l : lines_) l.cells.resize(static_cast<std::size_t>(columns));
    cursor = at;
  }
  rows_ = rows;
  columns_ = columns;
  top_ = 0;
}

}  // namespace kw::text
