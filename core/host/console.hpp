// What the window and the command line share about a machine's consoles on its host.
#pragma once
#include "host/adapter.hpp"
#include "host/adopt.hpp"
#include "route/opening.hpp"

namespace kw::host {

/// Where the machine's first console is, for a record that has no way in by it yet.
std::optional<OfferedWay> firstConsole(const StockMachine& machine, const HostPlace& place);

/// Where a way in is now: a console whose port its host picks at each start is where the host says; all
/// others where the record says. Nothing while the host has not said it.
std::optional<Address> addressNow(const Snapshot& records, const Endpoint& way, const StockMachine& machine,
                                  const HostPlace& place);

/// The kept password of the machine's console that is to be given to the host after each start; nothing when
/// none is ("host.setagain").
std::optional<ConsoleChange> passwordAgain(const Snapshot& records, const OpeningTools& tools, Id machine);

/// Keeps the password with the machine's first screen and sets "host.setagain". Throws Error{Local} when the
/// machine has no screen.
void setConsolePassword(const OpeningTools& tools, const Snapshot& records, Id machine,
                        const std::string& password);

/// A socket on the host that no serial port of the machine has yet.
std::string serialPathFor(const StockMachine& machine);

/// The nearest port from `from` that neither a console of the stock nor a record of the same host uses.
int freePortFor(const Stock& stock, const Snapshot& records, const std::string& hostAddress, int from);

}  // namespace kw::host
