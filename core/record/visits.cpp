#include "record/visits.hpp"

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <map>

namespace kw {

namespace {

std::optional<std::time_t> timeOf(const std::string& iso) {
  std::tm parts{};
  const char* end = strptime(iso.c_str(), "%Y-%m-%dT%H:%M:%SZ", &parts);
  if (end == nullptr || *end != '\0') return std::nullopt;
  return timegm(&parts);
}

Visit loneLine(const JournalEntry& entry) {
  Visit v;
  v.machine = entry.machine, v.who = entry.who, v.began = entry.when, v.told = entry.told;
  if (entry.told == Told::Log) {
    v.logs = {entry.text};
  } else {
    v.how = sentenceOf(entry);
  }
  return v;
}

void take(Visit& visit, const JournalEntry& entry) {
  switch (entry.told) {
    case Told::Opened: visit.way = entry.text, visit.began = entry.when; return;
    case Told::Ended: visit.ended = entry.when, visit.how = entry.text; return;
    case Told::Log: visit.logs.push_back(entry.text); return;
    case Told::Trouble:
    case Told::Note: visit.within.push_back(entry); return;
  }
}

}  // namespace

std::optional<std::chrono::seconds> Visit::took() const {
  const auto from = timeOf(began), to = timeOf(ended);
  if (!from || !to || *to < *from) return std::nullopt;
  return std::chrono::seconds(*to - *from);
}

std::vector<Visit> visitsOf(const std::vector<JournalEntry>& entries) {
  std::vector<Visit> oldestFirst;
  std::map<std::string, std::size_t> known;
  for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
    if (entry->visit.empty()) {
      oldestFirst.push_back(loneLine(*entry));
      continue;
    }
    const auto [at, isNew] = known.try_emplace(entry->visit, oldestFirst.size());
    if (isNew) {
      Visit v;
      v.id = entry->visit, v.machine = entry->machine, v.who = entry->who, v.began = entry->when;
      oldestFirst.push_back(v);
    }
    take(oldestFirst[at->second], *entry);
  }
  std::reverse(oldestFirst.begin(), oldestFirst.end());
  return oldestFirst;
}

std::string durationText(std::chrono::seconds duration) {
  const long seconds = duration.count();
  const long minutes = seconds / 60, hours = minutes / 60;
  if (hours == 0 && minutes == 0) return std::to_string(seconds) + " s";
  if (hours == 0) return std::to_string(minutes) + " min";
  const std::string rest = std::to_string(minutes % 60);
  return std::to_string(hours) + " h " + (rest.size() == 1 ? "0" : "") + rest + " min";
}

std::string sentenceOf(const JournalEntry& entry) {
  switch (entry.told) {
    case Told::Opened: return "opened " + entry.text;
    case Told::Log: return "log " + std::filesystem::path(entry.text).filename().string();
    case Told::Trouble: return "trouble: " + entry.text;
    case Told::Ended: return "ended: " + entry.text;
    case Told::Note: break;
  }
  return entry.text;
}

}  // namespace kw
