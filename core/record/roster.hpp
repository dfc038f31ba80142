// The rows of the roster: machines under their groups, narrowed by what is typed. No interface code, so that
// 50,000 machines can be measured and tested without a window.
#pragma once
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "record/model.hpp"

namespace kw {

enum class GroupBy { Place, Host, Tag, State };

/// For grouping by state, which only the window knows: groups stand in the order of `rank`.
struct RosterState {
  int rank = 0;
  std::string title;
};
using RosterStateOf = std::function<RosterState(const Machine&)>;

struct RosterRow {
  bool heading = false;
  std::string title;  ///< heading: group; machine: empty (see machine)
  std::string aside;  ///< heading: "host fernery"
  Id machine = 0;
  Id folder = 0;  ///< heading by place: the group itself
  int count = 0;  ///< heading: machines below it now
};

class RosterIndex {
 public:
  RosterIndex() = default;
  /// `stateOf` is needed for GroupBy::State only.
  RosterIndex(std::shared_ptr<const Snapshot> snapshot, GroupBy groupBy, const RosterStateOf& stateOf = {});
  /// Rows whose name, host, tags or address contain every word of `text`. Empty text: all rows.
  /// A text that only grew since the last call is searched in the last result.
  const std::vector<RosterRow>& narrow(std::string_view text);
  [[nodiscard]] const std::vector<RosterRow>& rows() const { return rows_; }
  [[nodiscard]] std::size_t machineCount() const { return entries_.size(); }

 private:
  struct Entry {
    Id machine;
    std::uint32_t group;
    std::string haystack;  ///< lower case
  };
  struct Group {
    std::string title, aside;
    Id folder = 0;
  };
  void buildRows();

  std::shared_ptr<const Snapshot> snapshot_;
  std::vector<Entry> entries_;  ///< in the order of the roster
  std::vector<Group> groups_;
  std::vector<std::uint32_t> hits_;
  std::string last_;
  std::vector<RosterRow> rows_;
};

}  // namespace kw
