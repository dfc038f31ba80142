// One visit in the journal: that it was opened, each trouble once, its logs, how it ended.
#pragma once
#include "record/store.hpp"
#include "session/session.hpp"

namespace kw {

/// What it writes throws as Store::journal() does. Without a store it writes nothing.
class VisitNotes {
 public:
  /// `visit`: a word that no other visit has.
  VisitNotes(std::shared_ptr<Store> store, std::string machine, std::string visit)
      : store_(std::move(store)), machine_(std::move(machine)), visit_(std::move(visit)) {}
  void note(Told told, const std::string& what) const;
  /// To be told of every status. True when it was worth a line: a trouble, once until the session is live
  /// again, however often it is tried meanwhile.
  bool status(const SessionStatus& status);
  /// The file that is logged to, empty when none; each is told once.
  bool log(const std::string& file);
  /// `now`: how the session stands when it is put away.
  void ended(const SessionStatus& now) const;

 private:
  std::shared_ptr<Store> store_;
  std::string machine_, visit_, log_;
  bool wasLive_ = false, inTrouble_ = false;
};

}  // namespace kw
