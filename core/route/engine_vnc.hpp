// VNC from addresses and settings.
#pragma once
#include "route/engine.hpp"
#include "session/vnc_session.hpp"

namespace kw {

VncConfig vncConfig(const Address& address, const std::string& label, const SettingReader& setting);

}  // namespace kw
