// Own commands of people: words with placeholders, never given to a shell.
#pragma once
#include <map>
#include <string>
#include <vector>

#include "record/model.hpp"

namespace kw {

/// Words parted by blanks; "double" and 'single' quotes hold words together, a backslash takes the next
/// letter as it is. Throws Error{Local} when a quote is not closed or nothing is left.
std::vector<std::string> wordsOf(const std::string& line);

/// {"name", "mist-bench"}, {"host", …}, {"port", …}, {"user", …}, {"address", …}, {"on", its host}
using Placeholders = std::map<std::string, std::string>;
/// Of a machine and, when there is one, its way in.
Placeholders placeholdersOf(const Machine& machine, const Endpoint* way);

/// Placeholders are put in after the line is cut into words: whatever a name holds stays one word. "{{" is a
/// brace. Throws Error{Local} for a placeholder that does not exist.
std::vector<std::string> wordsWith(const std::string& line, const Placeholders& values);

/// One entry of a machine's menu: "Title = program words".
struct OwnCommand {
  std::string title, line;
};
/// Parted by ";;" or line breaks. Throws Error{Local} with the entry that cannot be read.
std::vector<OwnCommand> ownCommandsOf(const std::string& text);

}  // namespace kw
