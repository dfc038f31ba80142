// Text out of rows: copying, words, finding.
#pragma once
#include <string>
#include <utility>
#include <vector>

#include "text/terminal.hpp"

namespace kw::text {

/// Joins the rows of a range to text; rows of one line become one line again.
class TextJoiner {
 public:
  TextJoiner(const TextRange& range, const Clusters& clusters, bool colours)
      : range_(range), clusters_(clusters), colours_(colours) {}
  /// Rows in order; returns true as long as it wants more.
  bool add(std::int64_t number, const Row& row);
  std::string take();

 private:
  void look(const Cell& cell);
  TextRange range_;
  const Clusters& clusters_;
  bool colours_, any_ = false, joined_ = false;
  Cell pen_;
  std::string out_;
};

/// How many cells of a row belong to its line: where a wide character did not fit before the wrap, one less.
std::size_t usedCells(const Row& row);

/// First and last column of the word around a column; blanks count as a word of their own.
std::pair<int, int> wordAround(const std::vector<Cell>& cells, int column);

/// Finds text in rows that are added in order; a find may cross the rows of one line.
class RowFinder {
 public:
  RowFinder(const std::string& needle, const Clusters& clusters, std::vector<TextFind>& into);
  void add(std::int64_t number, const Row& row);
  /// Looks through the line collected so far.
  void flush();

 private:
  struct At {
    std::int64_t row;
    int column;
  };
  std::u32string needle_;
  bool exact_ = false;
  const Clusters& clusters_;
  std::vector<TextFind>& into_;
  std::u32string line_;
  std::vector<At> places_;
};

}  // namespace kw::text
