// Findings from inside the machine: what its own tables say listens there, asked of its host's agent or
// through its SSH.
#pragma once
#include "host/inside.hpp"
#include "host/why.hpp"

namespace kw::host {

/// What `listeners` mean for a way in that could not be reached; `by`: "its agent says";
/// `jump`: into the machine, or empty.
void judgeListeners(const std::vector<OpenPort>& listeners, const Address& address, const std::string& by,
                    const std::string& jump, std::vector<Finding>& out);
/// Only for a service of the guest itself, not for a console of its host.
Task<void> lookInside(const Snapshot& records, const Endpoint& way, Address address, const WhyTools& tools,
                      std::vector<Finding>& out);

}  // namespace kw::host
