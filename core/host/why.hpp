// Why a way in does not open: looked at step by step, each finding a sentence with a cure. Touches only the
// addresses of the record, its jumps, and its host.
#pragma once
#include <memory>

#include "host/host.hpp"
#include "host/why_open.hpp"
#include "record/model.hpp"
#include "route/opening.hpp"

namespace kw::host {

enum class Weight {
  Good,     ///< as it should be
  Remark,   ///< does not hinder
  Trouble,  ///< this is why
};
struct Finding {
  std::string code;  ///< "refused", "other-service", … (docs/formats.md lists them)
  Weight weight = Weight::Remark;
  std::string sentence;
  std::string cure;    ///< what a person can do
  std::string change;  ///< what a click may do about it: "port:5901", "via:ssh://…",
                       ///< "tunnel:ADDRESS JUMP" (goThroughTunnel), "start", "drift",
                       ///< "again", "size", "inside"; may be empty
};

/// To look from inside the machine through a way in of its own, which signs in there.
struct InsideTools {
  OpeningTools tools;  ///< with its SSH pool
  std::shared_ptr<Asker> asker;
};

struct WhyTools {
  std::shared_ptr<Clock> clock = systemClock();
  std::chrono::nanoseconds limit = std::chrono::seconds(3);
  /// The host of the machine, when one is known and watched; may be null.
  std::shared_ptr<Host> host;
  /// Pins are read in its store; may be null. Nothing kept is shown to the peer.
  std::shared_ptr<Store> store;
  std::optional<InsideTools>
      inside{};                       ///< not set: its SSH is left alone, and that it could be asked is told
  std::optional<OpenPicture> open{};  ///< when a session of this way in is live
};

/// `wayIn` 0: only the address is looked at. Never throws.
Task<std::vector<Finding>> whyNot(std::shared_ptr<const Snapshot> records, Id wayIn, Address address,
                                  WhyTools tools);
/// The change that takes a way in through `jump` to where it listens beyond it.
std::string tunnelChange(const std::string& listens, const std::string& jump);
/// Does that, for the words of a change.
void goThroughTunnel(StoreWriter& writer, Endpoint way, const std::string& change);
/// The jump of such a change, for people.
std::string jumpOfTunnel(const std::string& change);
/// True when a finding is a Trouble.
bool anyTrouble(const std::vector<Finding>& findings);

}  // namespace kw::host
