#include "record/roster.hpp"

#include <algorithm>
#include <limits>
#include <map>
#include <set>

#include "base/bytes.hpp"

namespace kw {

namespace {

std::vector<std::string> wordsOf(std::string_view text) {
  std::vector<std::string> words;
  std::string word;
  for (char c : lowered(text)) {
    if (c != ' ') {
      word += c;
    } else if (!word.empty()) {
      words.push_back(std::move(word));
      word.clear();
    }
  }
  if (!word.empty()) words.push_back(std::move(word));
  return words;
}

struct GroupKey {
  std::string title, aside;
  auto operator<=>(const GroupKey&) const = default;
};

constexpr Id kBeforeAll = -1, kAfterAll = std::numeric_limits<Id>::max();

/// Those that have the switch on themselves; it is not inherited here.
std::set<Id> machinesWith(const Snapshot& s, const std::string& key) {
  std::set<Id> out;
  for (const auto& [owner, values] : s.settings)
    if (owner.kind == OwnerKind::Machine)
      if (const auto found = values.find(key); found != values.end() && found->second == "on")
        out.insert(owner.id);
  return out;
}

GroupKey keyOf(const Snapshot& s, const Machine& m, GroupBy by) {
  if (by == GroupBy::Host) return {m.host.empty() ? "no host" : m.host, ""};
  if (by == GroupBy::Tag) return {m.tags.empty() ? "no tag" : m.tags, ""};
  const auto path = s.pathOf(m.folder);
  std::string title;
  // With one place only, its name would stand in front of every group.
  for (std::size_t i = path.size() > 1 ? 1 : 0; i < path.size(); ++i)
    title += (title.empty() ? "" : " / ") + path[i]->name;
  const std::string host = path.empty() ? "" : path.back()->host;
  return {title.empty() ? "No group" : title, host.empty() ? "" : "host " + host};
}

}  // namespace

RosterIndex::RosterIndex(std::shared_ptr<const Snapshot> snapshot, GroupBy groupBy,
                         const RosterStateOf& stateOf)
    : snapshot_(std::move(snapshot)) {
  const Snapshot& s = *snapshot_;
  // Groups of places stand in the order they were made, others by name.
  std::map<std::pair<Id, GroupKey>, std::vector<const Machine*>> sorted;
  std::map<Id, GroupKey> keyByFolder;
  const std::set<Id> favourites = machinesWith(s, "look.favourite"),
                     templates = machinesWith(s, "look.template");
  for (const auto& [id, m] : s.machines) {
    if (favourites.contains(id)) {
      sorted[{kBeforeAll, {"Favourites", ""}}].push_back(&m);
    } else if (templates.contains(id)) {
      sorted[{kAfterAll, {"Templates", ""}}].push_back(&m);
    } else if (groupBy == GroupBy::Place) {
      auto [at, fresh] = keyByFolder.try_emplace(m.folder);
      if (fresh) at->second = keyOf(s, m, groupBy);
      sorted[{m.folder, at->second}].push_back(&m);
    } else if (groupBy == GroupBy::State && stateOf) {
      const RosterState state = stateOf(m);
      sorted[{state.rank, {state.title, ""}}].push_back(&m);
    } else {
      sorted[{0, keyOf(s, m, groupBy)}].push_back(&m);
    }
  }
  entries_.reserve(s.machines.size());
  for (auto& [key, machines] : sorted) {
    std::sort(machines.begin(), machines.end(),
              [](const Machine* a, const Machine* b) { return a->id < b->id; });
    const auto group = static_cast<std::uint32_t>(groups_.size());
    groups_.push_back({key.second.title, key.second.aside,
                       groupBy == GroupBy::Place && key.first > 0 && key.first != kAfterAll ? key.first : 0});
    for (const Machine* m : machines) {
      std::string hay = m->name + "\n" + m->host + "\n" + m->tags + "\n" + key.second.title;
      for (const Endpoint* e : s.endpointsOf(m->id)) hay += "\n" + e->address;
      entries_.push_back({m->id, group, lowered(hay)});
    }
  }
  narrow("");
}

const std::vector<RosterRow>& RosterIndex::narrow(std::string_view text) {
  const std::vector<std::string> words = wordsOf(text);
  const bool grew = !last_.empty() && text.substr(0, last_.size()) == last_;
  const auto fits = [&](const Entry& e) {
    return std::all_of(words.begin(), words.end(),
                       [&](const std::string& w) { return e.haystack.find(w) != std::string::npos; });
  };
  if (grew) {
    std::erase_if(hits_, [&](std::uint32_t i) { return !fits(entries_[i]); });
  } else {
    hits_.clear();
    for (std::uint32_t i = 0; i < entries_.size(); ++i)
      if (fits(entries_[i])) hits_.push_back(i);
  }
  last_ = text;
  buildRows();
  return rows_;
}

void RosterIndex::buildRows() {
  rows_.clear();
  rows_.reserve(hits_.size() + groups_.size());
  std::uint32_t group = UINT32_MAX;
  std::size_t heading = 0;
  for (std::uint32_t i : hits_) {
    const Entry& e = entries_[i];
    if (e.group != group) {
      group = e.group;
      heading = rows_.size();
      RosterRow row;
      row.heading = true;
      row.title = groups_[group].title;
      row.aside = groups_[group].aside;
      row.folder = groups_[group].folder;
      rows_.push_back(std::move(row));
    }
    RosterRow row;
    row.machine = e.machine;
    rows_.push_back(std::move(row));
    ++rows_[heading].count;
  }
}

}  // namespace kw
