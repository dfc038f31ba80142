#include "record/words.hpp"

#include <utility>

#include "base/error.hpp"
#include "record/address.hpp"

namespace kw {

std::vector<std::string> wordsOf(const std::string& line) {
  std::vector<std::string> words;
  std::string word;
  bool begun = false;
  char quote = 0;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (c == '\\' && quote != '\'' && i + 1 < line.size()) {
      word += line[++i];
      begun = true;
    } else if (quote != 0) {
      if (c == quote)
        quote = 0;
      else
        word += c;
    } else if (c == '"' || c == '\'') {
      quote = c;
      begun = true;
    } else if (c == ' ' || c == '\t') {
      if (begun) words.push_back(std::exchange(word, {}));
      begun = false;
    } else {
      word += c;
      begun = true;
    }
  }
  if (quote != 0) throw Error(ErrorKind::Local, "a quote is not closed", line);
  if (begun) words.push_back(word);
  if (words.empty()) throw Error(ErrorKind::Local, "no program is named");
  return words;
}

Placeholders placeholdersOf(const Machine& machine, const Endpoint* way) {
  Placeholders out{{"name", machine.name}, {"on", machine.host}, {"host", ""},
                   {"port", ""},           {"user", ""},         {"address", ""}};
  if (way == nullptr) return out;
  out["address"] = way->address;
  try {
    const Address to = parseAddress(way->address);
    out["host"] = to.host;
    out["port"] = to.port == 0 ? "" : std::to_string(to.port);
    out["user"] = to.user;
  } catch (const Error&) {
    // An address that cannot be read has no parts; it is told of where it is opened.
  }
  return out;
}

namespace {

std::string filled(const std::string& word, const Placeholders& values) {
  std::string out;
  for (std::size_t at = 0; at < word.size(); ++at) {
    if (word[at] != '{') {
      out += word[at];
      continue;
    }
    if (word.compare(at, 2, "{{") == 0) {
      out += '{';
      ++at;
      continue;
    }
    const auto end = word.find('}', at);
    const std::string name = word.substr(at + 1, end == std::string::npos ? end : end - at - 1);
    const auto found = values.find(name);
    if (end == std::string::npos || found == values.end())
      throw Error(
          ErrorKind::Local,
          "\"{" + name + "}\" stands for nothing; there are {name}, {on}, {host}, {port}, {user}, {address}");
    out += found->second;
    at = end;
  }
  return out;
}

std::string trimmed(const std::string& text) {
  const auto from = text.find_first_not_of(" \t\r");
  return from == std::string::npos ? "" : text.substr(from, text.find_last_not_of(" \t\r") - from + 1);
}

}  // namespace

std::vector<std::string> wordsWith(const std::string& line, const Placeholders& values) {
  std::vector<std::string> words = wordsOf(line);
  for (std::string& word : words) word = filled(word, values);
  return words;
}

std::vector<OwnCommand> ownCommandsOf(const std::string& text) {
  std::string lines = text;
  for (auto at = lines.find(";;"); at != std::string::npos; at = lines.find(";;")) lines.replace(at, 2, "\n");
  std::vector<OwnCommand> out;
  for (std::size_t at = 0; at < lines.size();) {
    const auto end = std::min(lines.find('\n', at), lines.size());
    const std::string entry = trimmed(lines.substr(at, end - at));
    at = end + 1;
    if (entry.empty()) continue;
    const auto equals = entry.find('=');
    OwnCommand command{trimmed(entry.substr(0, std::min(equals, entry.size()))),
                       equals == std::string::npos ? "" : trimmed(entry.substr(equals + 1))};
    if (command.title.empty() || command.line.empty())
      throw Error(ErrorKind::Local, "a command is written: Title = program words", entry);
    wordsOf(command.line);
    out.push_back(std::move(command));
  }
  return out;
}

}  // namespace kw
