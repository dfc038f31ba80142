#include "text/rows.hpp"

#include <algorithm>

namespace kw::text {

namespace {

bool partOfWord(char32_t c) {
  return c > 0x7F || (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || c == '_' ||
         c == '-' || c == '.' || c == '/' || c == ':' || c == '@' || c == '~' || c == '%' || c == '+';
}

char32_t lowered(char32_t c) {
  const bool upper = (c >= 'A' && c <= 'Z') || (c >= 0xC0 && c <= 0xDE && c != 0xD7) ||
                     (c >= 0x391 && c <= 0x3A9) || (c >= 0x410 && c <= 0x42F);
  return upper ? c + 32 : c;
}

void appendColour(std::string& to, Colour c, int base) {
  if (c == kOwnColour) return;
  if (c >> 24 == 1)
    to += ";" + std::to_string(base + 8) + ";5;" + std::to_string(c & 0xFF);
  else
    to += ";" + std::to_string(base + 8) + ";2;" + std::to_string(c >> 16 & 0xFF) + ";" +
          std::to_string(c >> 8 & 0xFF) + ";" + std::to_string(c & 0xFF);
}

}  // namespace

void TextJoiner::look(const Cell& cell) {
  if (cell.fg == pen_.fg && cell.bg == pen_.bg && cell.attrs == pen_.attrs) return;
  pen_ = cell;
  out_ += "\x1b[0";
  constexpr std::pair<std::uint16_t, const char*> kCodes[] = {
      {attr::kBold, ";1"},  {attr::kItalic, ";3"},  {attr::kUnderline, ";4"}, {attr::kDoubleUnderline, ";21"},
      {attr::kBlink, ";5"}, {attr::kReverse, ";7"}, {attr::kStrike, ";9"}};
  for (const auto& [bit, code] : kCodes)
    if (cell.attrs & bit) out_ += code;
  appendColour(out_, cell.fg, 30);
  appendColour(out_, cell.bg, 40);
  out_ += "m";
}

bool TextJoiner::add(std::int64_t number, const Row& row) {
  if (number < range_.fromRow) return true;
  if (number > range_.toRow) return false;
  if (any_ && !joined_) out_ += "\n";
  any_ = true;
  const int width = static_cast<int>(usedCells(row));
  const int from = range_.block || number == range_.fromRow ? std::min(range_.fromColumn, width) : 0;
  const int to = range_.block || number == range_.toRow ? std::min(range_.toColumn + 1, width) : width;
  std::size_t blanks = 0;
  for (int c = from; c < to; ++c) {
    const Cell& cell = row.cells[static_cast<std::size_t>(c)];
    if (cell.attrs & attr::kWideTail) continue;
    const bool blank = (cell.ch == 0 || cell.ch == ' ') && (!colours_ || (cell.bg == 0 && cell.attrs == 0));
    if (blank) {
      ++blanks;
      continue;
    }
    out_.append(std::exchange(blanks, 0), ' ');
    if (colours_) look(cell);
    for (char32_t p : clusters_.pointsOf(cell.ch)) appendUtf8(out_, p == 0 ? U' ' : p);
  }
  joined_ = row.wrapped && !range_.block;
  if (joined_) out_.append(blanks, ' ');
  if (colours_ && !joined_) look(Cell{});
  return number < range_.toRow;
}

std::size_t usedCells(const Row& row) {
  std::size_t used = row.cells.size();
  while (row.wrapped && used > 0 && row.cells[used - 1].ch == 0 &&
         !(row.cells[used - 1].attrs & attr::kWideTail))
    --used;
  return used;
}

std::string TextJoiner::take() { return std::move(out_); }

std::pair<int, int> wordAround(const std::vector<Cell>& cells, int column) {
  const int width = static_cast<int>(cells.size());
  if (column < 0 || column >= width) return {column, column};
  const auto kind = [&](int c) {
    const Cell& cell = cells[static_cast<std::size_t>(c)];
    if (cell.attrs & attr::kWideTail) return 2;
    if (cell.ch == 0 || cell.ch == ' ') return 0;
    return partOfWord(cell.ch) ? 2 : 1;
  };
  const int wanted = kind(column);
  int from = column, to = column;
  if (wanted == 1) return {from, to};
  while (from > 0 && kind(from - 1) == wanted) --from;
  while (to + 1 < width && kind(to + 1) == wanted) ++to;
  return {from, to};
}

RowFinder::RowFinder(const std::string& needle, const Clusters& clusters, std::vector<TextFind>& into)
    : clusters_(clusters), into_(into) {
  for (std::size_t at = 0; at < needle.size();) needle_.push_back(nextPoint(needle, at));
  exact_ = std::any_of(needle_.begin(), needle_.end(), [](char32_t c) { return lowered(c) != c; });
}

void RowFinder::add(std::int64_t number, const Row& row) {
  const std::size_t used = usedCells(row);
  for (std::size_t c = 0; c < used; ++c) {
    const Cell& cell = row.cells[c];
    if (cell.attrs & attr::kWideTail) continue;
    char32_t ch = cell.ch & kClusterBit ? clusters_.pointsOf(cell.ch)[0] : cell.ch;
    if (ch == 0) ch = ' ';
    line_.push_back(exact_ ? ch : lowered(ch));
    places_.push_back({number, static_cast<int>(c)});
  }
  if (!row.wrapped || line_.size() > 200'000) flush();
}

void RowFinder::flush() {
  if (!needle_.empty())
    for (std::size_t at = line_.find(needle_); at != std::u32string::npos;
         at = line_.find(needle_, at + needle_.size())) {
      const At& first = places_[at];
      const At& last = places_[at + needle_.size() - 1];
      into_.push_back({first.row, last.row, first.column, last.column});
    }
  line_.clear();
  places_.clear();
}

}  // namespace kw::text
