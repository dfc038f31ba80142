// Patterns that somebody waits for in the text of a line. RE2 syntax, whose time grows with the text only,
// since the text is foreign.
#pragma once
#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace kw::text {

struct WatchWord {
  std::string pattern;
  std::string answer;  ///< sent when seen; \r \n \t \e \\ and \xHH are understood; empty: only notify
  int most = 3;        ///< answers are sent at most so often; after that it only notifies
  bool operator==(const WatchWord&) const = default;
};

/// One to a line: "pattern => answer", "pattern =>3 answer" with another limit, or just "pattern". Empty
/// lines and those that begin with # are skipped. Throws Error{Local} that names the line and what is wrong.
std::vector<WatchWord> parseWatchWords(const std::string& text);

/// Puts \r \n \t \e \\ \xHH in their places.
std::string unescaped(const std::string& text);

class Watcher {
 public:
  /// Throws Error{Local} when a pattern is broken.
  explicit Watcher(std::vector<WatchWord> words);
  ~Watcher();
  Watcher(Watcher&&) noexcept;
  Watcher& operator=(Watcher&&) noexcept;

  struct Seen {
    const WatchWord* word;
    std::string line;    ///< where it was seen
    std::string answer;  ///< to be sent now; empty when none or the limit is reached
    bool limited = false;
  };
  /// A line that is complete.
  void line(const std::string& text, const std::function<void(const Seen&)>& seen);
  /// The unfinished line as it stands; a word is told once for each.
  void prompt(const std::string& text, const std::function<void(const Seen&)>& seen);
  [[nodiscard]] bool empty() const;

 private:
  struct State;
  void look(const std::string& text, bool complete, const std::function<void(const Seen&)>& seen);
  std::unique_ptr<State> state_;
};

/// One search: the first match of `pattern` in `text`, or npos. Throws Error{Local} when the pattern is
/// broken.
std::size_t searchPattern(const std::string& pattern, const std::string& text);

}  // namespace kw::text
