#include "desk/visit_notes.hpp"

#include <utility>

namespace kw {

void VisitNotes::note(Told told, const std::string& what) const {
  if (store_) store_->journal({machine_, what, told, visit_});
}

bool VisitNotes::status(const SessionStatus& status) {
  if (status.stage == SessionStage::Live) wasLive_ = true;
  if (!status.problem) {
    if (status.stage == SessionStage::Live) inTrouble_ = false;
    return false;
  }
  if (std::exchange(inTrouble_, true)) return false;
  note(Told::Trouble, status.sentence);
  return true;
}

bool VisitNotes::log(const std::string& file) {
  if (file == log_) return false;
  log_ = file;
  if (file.empty()) return false;
  note(Told::Log, file);
  return true;
}

void VisitNotes::ended(const SessionStatus& now) const {
  note(Told::Ended, now.problem ? now.sentence : wasLive_ ? "closed" : "given up");
}

}  // namespace kw
