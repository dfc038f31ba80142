// What a desk opens: a session that is made and not yet started, with its names for people and the settings
// it was made from.
#pragma once
#include "exchange/exchange.hpp"
#include "route/opening.hpp"

namespace kw {

struct Opened {
  std::shared_ptr<Session> session;
  std::string machine;    ///< "mist-bench", or the address of one that no record has
  std::string label;      ///< "screen · vnc"
  std::string address;    ///< for the journal
  Id wayIn = 0;           ///< 0: no record's
  SettingReader setting;  ///< keeps what it reads from alive
};

/// All throw what makeSession() and parseAddress() throw; {Local} for a way in that the records have not.
Opened openedWayIn(const Executor& strand, std::shared_ptr<const Snapshot> records, Id wayIn,
                   OpeningTools tools);
/// With the built-in settings.
Opened openedAddress(const Executor& strand, const std::string& address, const OpeningTools& tools);
/// What a file names, with its settings and the password it hands over; nothing is kept.
Opened openedOnce(const Executor& strand, const exchange::Entry& entry, OpeningTools tools);

}  // namespace kw
