// The rows that have left the top of the screen: packed into blocks, older blocks compressed (LZ4). A million
// rows of 120 columns stay under 200 MB.
#pragma once
#include <cstdint>
#include <deque>
#include <functional>
#include <string>
#include <vector>

#include "text/cell.hpp"

namespace kw::text {

class Scrollback {
 public:
  /// Rows beyond `mostRows` are dropped from the old end, a block at a time; so are rows beyond `mostBytes`.
  explicit Scrollback(std::size_t mostRows = 1'000'000, std::size_t mostBytes = std::size_t{256} << 20)
      : mostRows_(mostRows), mostBytes_(mostBytes) {}

  /// `cells` may have trailing blanks; they are not kept.
  void push(const Cell* cells, std::size_t count, bool wrapped, RowSize size = RowSize::Normal);
  void push(const Row& row) { push(row.cells.data(), row.cells.size(), row.wrapped, row.size); }
  /// Takes the newest row back, for a screen that grows. False when there is none.
  bool pop(Row& into);
  void clear();

  [[nodiscard]] std::size_t rows() const { return rows_; }
  /// How many rows were dropped at the old end since the last clear(); row 0 here is row dropped() of all.
  [[nodiscard]] std::size_t dropped() const { return dropped_; }
  [[nodiscard]] std::size_t bytes() const { return bytes_; }
  [[nodiscard]] std::size_t mostRows() const { return mostRows_; }
  void setMostRows(std::size_t rows);

  /// Row 0 is the oldest. Out of range gives an empty row.
  [[nodiscard]] Row row(std::size_t index) const;
  /// Calls with the rows [first, last) in order, until the callback returns false.
  void each(std::size_t first, std::size_t last,
            const std::function<bool(std::size_t, const Row&)>& what) const;

  /// Breaks all rows anew for another width.
  void reflow(std::size_t columns);

 private:
  struct Block {
    std::vector<std::uint8_t> data;  ///< packed rows; compressed when rawSize differs from data.size()
    std::size_t rawSize = 0;
    std::uint32_t rows = 0;
    std::uint32_t widest = 0;  ///< cells of the widest row
    bool anyWrapped = false, compressed = false;
  };
  [[nodiscard]] const std::vector<std::uint8_t>& raw(std::size_t block) const;
  [[nodiscard]] std::size_t blockOf(std::size_t row, std::size_t& rowInBlock) const;
  void seal(Block& block);
  void forget();
  void unpackLast();

  std::deque<Block> blocks_;
  std::deque<std::uint64_t> firstRow_;  ///< of each block, counted from the very first row ever
  std::size_t mostRows_, mostBytes_;
  std::size_t rows_ = 0, bytes_ = 0, dropped_ = 0;
  mutable std::vector<std::uint8_t> cache_;
  mutable std::uint64_t cachedFirst_ = UINT64_MAX;
};

}  // namespace kw::text
