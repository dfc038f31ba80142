// Domain XML of libvirt (its "Domain XML format"): read for the stock, and changed for consoles.
#pragma once
#include <string>

#include "host/adapter.hpp"

namespace kw::host {

/// Fills name, ID, title, consoles, serial ports, memory and processors. Throws Error{ProtocolBroken} when it
/// is no domain.
void readDomainXml(const std::string& xml, StockMachine& into);

/// The one graphics device of the kind, with a password laid in, as an update of the running domain takes it.
/// Throws Error{Unsupported} when the domain has none.
std::string graphicsWithPassword(const std::string& xml, const std::string& scheme,
                                 const std::string& password);
/// The same with another port or listen address, for the domain's kept definition.
std::string graphicsWithPlace(const std::string& xml, const std::string& scheme, std::optional<int> port,
                              const std::optional<std::string>& listen);
/// A serial port on a socket that the host makes.
std::string serialDeviceXml(const std::string& path);

}  // namespace kw::host
