// The roster's rows, one by one, for screen readers.
#pragma once

namespace kw::desktop {

/// To be called once, before the first window is made.
void installRosterAccessibility();

}  // namespace kw::desktop
