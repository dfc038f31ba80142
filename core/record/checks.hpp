// What can be seen in the records themselves, without asking the network: while somebody types, and over all.
#pragma once
#include <string>
#include <vector>

#include "record/model.hpp"

namespace kw {

struct RecordCheck {
  bool trouble = true;   ///< false: only worth knowing
  std::string sentence;  ///< "port 5907 is also set on audio-guide"
  std::string cure;      ///< what to do; may be empty
  Id machine = 0, wayIn = 0;
};

/// Of one way in as it stands, kept or not (id 0). `changes` count as if they were kept. Reads key files'
/// rights; never throws.
std::vector<RecordCheck> checksOf(const Snapshot& records, const Endpoint& way,
                                  const SettingChanges* changes = nullptr);
/// Of all records: troubles first, then by machine's name.
std::vector<RecordCheck> checksOfAll(const Snapshot& records);

}  // namespace kw
