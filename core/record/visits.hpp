// The journal as people read it: one visit each, with what happened in it.
#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <vector>

#include "record/store.hpp"

namespace kw {

/// A machine that was opened, until its end; or, with an empty `id`, one line that belongs to no visit.
struct Visit {
  std::string id;
  std::string machine, who;
  std::string way;                  ///< the address that was opened; of a lone line empty
  std::string began;                ///< ISO 8601, UTC; of a lone line: when it was written
  std::string ended;                ///< empty: no end was written, so it goes on, or its program was killed
  std::string how;                  ///< how it ended, a sentence; of a lone line: its text
  Told told = Told::Opened;         ///< of a lone line: what it tells
  std::vector<std::string> logs{};  ///< whole paths, oldest first
  std::vector<JournalEntry> within{};  ///< troubles and notes, oldest first
  /// From began to ended; nothing while it has no end or where a time cannot be read.
  [[nodiscard]] std::optional<std::chrono::seconds> took() const;
};

/// `entries` newest first, as Store::journal gives them; so are the visits, by when they began. A visit whose
/// beginning is not among the entries any more stands where its oldest line stands.
std::vector<Visit> visitsOf(const std::vector<JournalEntry>& entries);

/// "2 h 05 min", "3 min", "12 s".
std::string durationText(std::chrono::seconds duration);

/// One line for the side: "opened vnc://…", "log mist-bench.log", or what was noted.
std::string sentenceOf(const JournalEntry& entry);

}  // namespace kw
