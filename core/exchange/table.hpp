// Tables of machines: CSV files, and cells copied out of a spreadsheet. Which column holds what is found by
// its name, by what is in it, or said by a person.
#pragma once
#include <map>
#include <string>
#include <vector>

#include "exchange/exchange.hpp"

namespace kw::exchange {

/// What a column may hold: {"name", "Name"}, {"address", "Address"} …
struct TableField {
  const char* key;
  const char* label;
};
const std::vector<TableField>& tableFields();

/// Field → number of the column, from 0.
using TableColumns = std::map<std::string, std::size_t>;

struct TableRow {
  std::vector<std::string> cells;
  int line = 0;  ///< where it begins, from 1
};
struct Table {
  std::vector<std::string> headings;  ///< "column 1" … where the first row is no heading
  std::vector<TableRow> rows;         ///< without headings
  TableColumns found;                 ///< as far as names and contents say
};
/// Comma, semicolon or tab, quotes with line breaks inside. Throws Error{Local} for a quote that is not
/// closed.
Table tableOf(const std::string& text);
/// Name and address are there.
bool isEnough(const TableColumns& columns);
/// Throws Error{Local} when they are not.
Read readTable(const Table& table, const TableColumns& columns, const std::string& fileName);

}  // namespace kw::exchange
