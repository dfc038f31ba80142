// Text lines and SSH routes from addresses and settings.
#pragma once
#include "route/engine.hpp"
#include "session/text_session.hpp"

namespace kw {

/// Speed, frame and flow of an address: its own options (?speed=9600&frame=8N1&flow=none) go before the
/// settings. Throws Error{Local} that names what is wrong.
LineSettings lineSettings(const Address& address, const SettingReader& setting);

TextConfig textConfig(const Address& address, const std::string& label, const SettingReader& setting,
                      const OpeningTools& tools, Owner owner);

/// The jumps before an address; empty when it is reached directly. Machines of the records are looked up in
/// the store. Throws Error{Local} for what cannot be resolved or goes in a circle.
std::vector<SshHop> hopsTo(const Address& address, const SettingReader& setting, const OpeningTools& tools);
/// The address itself as an SSH host.
SshHop sshHop(const Address& address, const SettingReader& setting, const OpeningTools& tools, Owner owner);

/// A stream to the address through the hops; direct when there are none.
Task<StreamPtr> connectThrough(std::vector<SshHop> hops, Address address, std::chrono::nanoseconds limit,
                               OpeningTools tools, Asker& asker, RouteFacts& facts,
                               ConnectFindings* findings);

}  // namespace kw
