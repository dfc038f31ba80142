#include "gate/text_rows.hpp"

#include <map>

namespace kw::gate {

namespace {

using Json = nlohmann::json;
using text::Cell;

/// null: the scheme's own; a number: one of 256; "#rrggbb".
Json colourJson(text::Colour c) {
  if (c == text::kOwnColour) return nullptr;
  if (c >> 24 == 1) return c & 0xff;
  char out[8];
  std::snprintf(out, sizeof out, "#%06x", c & 0xffffffU);
  return out;
}

Json rowJson(const text::Terminal& terminal, const text::Row& row) {
  Json runs = Json::array();
  std::string run;
  const Cell* look = nullptr;
  const auto flush = [&] {
    if (look == nullptr || run.empty()) return;
    if (look->plain())
      runs.push_back(Json::array({run}));
    else
      runs.push_back(Json::array(
          {run, colourJson(look->fg), colourJson(look->bg), look->attrs & ~text::attr::kWideTail}));
    run.clear();
  };
  for (const Cell& cell : row.cells) {
    if ((cell.attrs & text::attr::kWideTail) != 0) continue;
    if (look == nullptr || cell.fg != look->fg || cell.bg != look->bg || cell.attrs != look->attrs) {
      flush();
      look = &cell;
    }
    if (cell.ch == 0)
      run += ' ';
    else if ((cell.ch & text::kClusterBit) != 0)
      run += terminal.pointsOf(cell.ch);
    else
      appendUtf8(run, cell.ch);
  }
  flush();
  return runs;
}

}  // namespace

Json rowsJson(const text::Terminal& terminal, const text::TextView& view) {
  Json lines = Json::array();
  for (const text::Row& row : view.rows) lines.push_back(rowJson(terminal, row));
  return {{"first", view.firstRow}, {"top", view.screenTop}, {"oldest", view.oldestRow}, {"lines", lines}};
}

Json changedRows(const text::Terminal& terminal, RowsShown& shown) {
  const text::TextView view = terminal.screen();
  Json lines = Json::object();
  shown.rows.resize(view.rows.size());
  for (std::size_t i = 0; i < view.rows.size(); ++i) {
    Json row = rowJson(terminal, view.rows[i]);
    std::string printed = row.dump(-1, ' ', false, Json::error_handler_t::replace);
    if (printed == shown.rows[i]) continue;
    shown.rows[i] = std::move(printed);
    lines[std::to_string(i)] = std::move(row);
  }
  Json out{{"columns", view.columns},
           {"rows", view.screenRows},
           {"top", view.screenTop},
           {"oldest", view.oldestRow}};
  out["cursor"] =
      view.cursorVisible ? Json::array({view.cursorRow - view.screenTop, view.cursorColumn}) : Json();
  const std::string frame = out.dump();
  if (lines.empty() && frame == shown.frame) return nullptr;
  shown.frame = frame;
  out["lines"] = std::move(lines);
  return out;
}

std::optional<text::TextKey> textKeyNamed(const std::string& name) {
  using K = text::TextKey;
  static const std::map<std::string, K> keys{
      {"Enter", K::Enter},   {"Tab", K::Tab},          {"Backspace", K::Backspace}, {"Escape", K::Escape},
      {"ArrowUp", K::Up},    {"ArrowDown", K::Down},   {"ArrowLeft", K::Left},      {"ArrowRight", K::Right},
      {"Insert", K::Insert}, {"Delete", K::Delete},    {"Home", K::Home},           {"End", K::End},
      {"PageUp", K::PageUp}, {"PageDown", K::PageDown}};
  if (const auto found = keys.find(name); found != keys.end()) return found->second;
  if (name.size() >= 2 && name.size() <= 3 && name[0] == 'F' &&
      name.find_first_not_of("0123456789", 1) == std::string::npos) {
    const int number = std::stoi(name.substr(1));
    if (number >= 1 && number <= 12) return static_cast<K>(static_cast<int>(K::F1) + number - 1);
  }
  return std::nullopt;
}

}  // namespace kw::gate
