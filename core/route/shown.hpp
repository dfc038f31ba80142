// What a peer shows of itself to somebody who does not sign in: its certificate, the name it gives itself,
// and, where it lets anybody in, whether its picture is black. Nothing that is kept here is shown to it.
#pragma once
#include <optional>

#include "route/opening.hpp"

namespace kw {

struct Shown {
  std::optional<PeerCertificate> certificate;  ///< one that nobody vouches for
  bool asksSignIn = false;
  bool letIn = false;         ///< without being asked for anything
  std::string machineName;    ///< of a peer that let us in; may be empty
  std::optional<bool> black;  ///< its whole picture; nothing while no picture came in time
};

/// For ways in that show a screen; nothing where a further visitor would turn others out. Never throws for
/// what the peer does; a peer that goes wrong has shown nothing. Throws Error{Local} for settings that make
/// no sense.
Task<Shown> shownBy(Address address, SettingReader setting, OpeningTools tools,
                    std::chrono::nanoseconds limit);

}  // namespace kw
