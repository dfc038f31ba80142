// How long machines take to start, as this computer saw it lately.
#pragma once
#include <filesystem>

#include "record/model.hpp"

namespace kw {

/// The last few starts of each machine, in a JSON file: {"7": [21, 19]}, seconds by the machine's ID. A file
/// that cannot be read counts as empty; one that cannot be written loses only a guess. Never throws.
class UsualStarts {
 public:
  explicit UsualStarts(std::filesystem::path file) : file_(std::move(file)) {}
  /// The one in the middle of those that are remembered, at least 1; 0 when none is.
  [[nodiscard]] int secondsOf(Id machine) const;
  void remember(Id machine, int seconds);

 private:
  std::filesystem::path file_;
};

}  // namespace kw
