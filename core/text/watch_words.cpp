#include "text/watch_words.hpp"

#include <re2/re2.h>

#include <sstream>

#include "base/error.hpp"

namespace kw::text {

namespace {

std::unique_ptr<RE2> compiled(const std::string& pattern) {
  RE2::Options options;
  options.set_log_errors(false);
  options.set_max_mem(4 << 20);
  auto out = std::make_unique<RE2>(pattern, options);
  if (!out->ok()) throw Error(ErrorKind::Local, "not a pattern: " + out->error(), pattern);
  return out;
}

int hexValue(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

std::string trimmed(const std::string& s) {
  const auto first = s.find_first_not_of(" \t\r");
  return first == std::string::npos ? "" : s.substr(first, s.find_last_not_of(" \t\r") - first + 1);
}

}  // namespace

std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\' || i + 1 == text.size()) {
      out += text[i];
      continue;
    }
    switch (text[++i]) {
      case 'r': out += '\r'; break;
      case 'n': out += '\n'; break;
      case 't': out += '\t'; break;
      case 'e': out += '\x1b'; break;
      case 'x':
        if (i + 2 < text.size() && hexValue(text[i + 1]) >= 0 && hexValue(text[i + 2]) >= 0) {
          out += static_cast<char>(hexValue(text[i + 1]) * 16 + hexValue(text[i + 2]));
          i += 2;
          break;
        }
        [[fallthrough]];
      default: out += text[i];
    }
  }
  return out;
}

std::vector<WatchWord> parseWatchWords(const std::string& text) {
  std::vector<WatchWord> out;
  std::istringstream in(text);
  int number = 0;
  for (std::string line; std::getline(in, line);) {
    ++number;
    line = trimmed(line);
    if (line.empty() || line[0] == '#') continue;
    WatchWord word;
    const auto arrow = line.find("=>");
    word.pattern = trimmed(line.substr(0, arrow));
    if (arrow != std::string::npos) {
      std::size_t at = arrow + 2;
      std::string digits;
      while (at < line.size() && line[at] >= '0' && line[at] <= '9' && digits.size() < 4)
        digits += line[at++];
      if (!digits.empty()) word.most = std::stoi(digits);
      word.answer = unescaped(trimmed(line.substr(at)));
    }
    try {
      if (word.pattern.empty()) throw Error(ErrorKind::Local, "the pattern is missing");
      compiled(word.pattern);
    } catch (const Error& e) {
      throw Error(ErrorKind::Local, "line " + std::to_string(number) + ": " + e.what());
    }
    out.push_back(std::move(word));
  }
  return out;
}

struct Watcher::State {
  struct Entry {
    WatchWord word;
    std::unique_ptr<RE2> pattern;
    int answered = 0;
    bool toldHere = false;  ///< told for the line that has not ended yet
  };
  std::vector<Entry> entries;
};

Watcher::Watcher(std::vector<WatchWord> words) : state_(std::make_unique<State>()) {
  for (WatchWord& word : words) {
    auto pattern = compiled(word.pattern);
    state_->entries.push_back({std::move(word), std::move(pattern), 0, false});
  }
}
Watcher::~Watcher() = default;
Watcher::Watcher(Watcher&&) noexcept = default;
Watcher& Watcher::operator=(Watcher&&) noexcept = default;

bool Watcher::empty() const { return state_->entries.empty(); }

void Watcher::look(const std::string& text, bool complete, const std::function<void(const Seen&)>& seen) {
  for (State::Entry& entry : state_->entries) {
    if (!entry.toldHere && RE2::PartialMatch(text, *entry.pattern)) {
      entry.toldHere = true;
      Seen out{&entry.word, text, {}, false};
      if (!entry.word.answer.empty()) {
        out.limited = entry.answered >= entry.word.most;
        if (!out.limited) out.answer = entry.word.answer, ++entry.answered;
      }
      seen(out);
    }
    if (complete) entry.toldHere = false;
  }
}

void Watcher::line(const std::string& text, const std::function<void(const Seen&)>& seen) {
  look(text, true, seen);
}
void Watcher::prompt(const std::string& text, const std::function<void(const Seen&)>& seen) {
  look(text, false, seen);
}

std::size_t searchPattern(const std::string& pattern, const std::string& text) {
  const auto re = compiled(pattern);
  re2::StringPiece found;
  if (!re->Match(text, 0, text.size(), RE2::UNANCHORED, &found, 1)) return std::string::npos;
  return static_cast<std::size_t>(found.data() - text.data());
}

}  // namespace kw::text
