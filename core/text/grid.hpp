// The rows of a text screen. Scrolling turns a ring of rows, so that no cell is copied.
#pragma once
#include <algorithm>
#include <vector>

#include "text/cell.hpp"
#include "text/scrollback.hpp"

namespace kw::text {

struct Place {
  int row = 0, column = 0;
  auto operator<=>(const Place&) const = default;
};

class Grid {
 public:
  Grid(int rows, int columns);
  [[nodiscard]] int rows() const { return rows_; }
  [[nodiscard]] int columns() const { return columns_; }

  Cell* row(int r) { return lines_[slot(r)].cells.data(); }
  [[nodiscard]] const Cell* row(int r) const { return lines_[slot(r)].cells.data(); }
  [[nodiscard]] bool wrapped(int r) const { return lines_[slot(r)].wrapped; }
  void setWrapped(int r, bool on) { lines_[slot(r)].wrapped = on; }
  [[nodiscard]] RowSize sizeOf(int r) const { return lines_[slot(r)].size; }
  void setSize(int r, RowSize size) { lines_[slot(r)].size = size; }

  /// Fills [fromColumn, toColumn) of a row.
  void fill(int r, int fromColumn, int toColumn, const Cell& with);
  /// Turns the whole grid up by one: the top row leaves to `into` (may be null) and comes back blank below.
  void turnUp(Scrollback* into, const Cell& blank);
  /// Turns rows [first, last) up (positive) or down by `by`; what comes in is blank.
  void turn(int first, int last, int by, const Cell& blank);
  /// The same for columns [left, right) of these rows only.
  void turnPart(int first, int last, int left, int right, int by, const Cell& blank);

  /// A new size. With `reflow`, lines are broken anew: rows that do not fit go to the scrollback, rows that
  /// find room come back from it; `cursor` stays on its character. Without, rows are cut or filled up.
  void resize(int rows, int columns, Scrollback* reflow, Place& cursor);

 private:
  [[nodiscard]] std::size_t slot(int r) const {
    const std::size_t at = top_ + static_cast<std::size_t>(r);
    return at < lines_.size() ? at : at - lines_.size();
  }
  void straighten();
  void resizePlain(int rows, int columns, Place& cursor);

  int rows_, columns_;
  std::size_t top_ = 0;
  std::vector<Row> lines_;
};

}  // namespace kw::text
