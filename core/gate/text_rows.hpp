// A terminal's rows as JSON for a browser: runs of one look, and only what changed since the last time.
#pragma once
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

#include "text/terminal.hpp"

namespace kw::gate {

/// What one visitor has seen of the screen.
struct RowsShown {
  std::vector<std::string> rows;
  std::string frame;
};

/// {"columns", "rows", "top", "oldest", "cursor": [row, column] or null, "lines": {"0": [[text, fg, bg,
/// attrs], …]}}; rows count from the screen's top. Null when nothing changed.
nlohmann::json changedRows(const text::Terminal& terminal, RowsShown& shown);
/// Rows of a view: {"first", "lines": [[…], …]}.
nlohmann::json rowsJson(const text::Terminal& terminal, const text::TextView& view);
/// "Enter", "ArrowUp", "F5", … as browsers name keys.
std::optional<text::TextKey> textKeyNamed(const std::string& name);

}  // namespace kw::gate
