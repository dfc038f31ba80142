// Findings from what the peer itself shows before anybody signs in: certificate, name, a black picture.
#pragma once
#include "host/why.hpp"

namespace kw::host {

/// Only for ways in that show a screen; adds nothing for others.
Task<void> lookAtWhatItShows(const Snapshot& records, Id wayIn, Address address, SettingReader setting,
                             const WhyTools& tools, std::vector<Finding>& out);

}  // namespace kw::host
