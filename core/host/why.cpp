#include "host/why.hpp"

#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>

#include "host/adopt.hpp"
#include "host/why_inside.hpp"
#include "host/why_shown.hpp"
#include "line/finder.hpp"
#include "record/catalogue.hpp"
#include "route/checker.hpp"
#include "route/engine.hpp"
#include "route/listens.hpp"

namespace kw::host {

namespace {

using Findings = std::vector<Finding>;

std::string milliseconds(std::chrono::nanoseconds took) {
  char text[32];
  const double ms = std::chrono::duration<double, std::milli>(took).count();
  std::snprintf(text, sizeof text, ms < 10 ? "%.1f ms" : "%.0f ms", ms);
  return text;
}

/// All numeric addresses of a name; empty (and a finding) when it has none.
Task<std::vector<std::string>> resolved(const std::string& name, Findings& out) {
  boost::system::error_code code;
  asio::ip::tcp::resolver resolver(co_await asio::this_coro::executor);
  asio::ip::tcp::resolver::results_type found;
  if (neverResolves(name))
    code = asio::error::host_not_found;
  else
    found = co_await resolver.async_resolve(name, "0", asio::ip::tcp::resolver::numeric_service,
                                            asio::redirect_error(asio::use_awaitable, code));
  std::vector<std::string> addresses;
  if (code) {
    out.push_back({"name-unknown",
                   Weight::Trouble,
                   "the name \"" + name +
                       "\" is known neither to this desk's hosts file nor to its name server (" +
                       code.message() + ")",
                   "Check the spelling, write the numeric address, or ask whoever runs the name server.",
                   {}});
    co_return addresses;
  }
  for (const auto& entry : found) addresses.push_back(entry.endpoint().address().to_string());
  if (addresses.size() > 1 || addresses.front() != name) {
    std::string all;
    for (const std::string& a : addresses) all += (all.empty() ? "" : ", ") + a;
    out.push_back({"name", Weight::Good, name + " is " + all, {}, {}});
  }
  co_return addresses;
}

Finding couldNotConnect(const Error& e, const std::string& address, int port) {
  const std::string where = address + " port " + std::to_string(port);
  switch (e.kind()) {
    case ErrorKind::Refused:
      return {
          "refused",
          Weight::Trouble,
          where + " refuses: the host is there, but nothing listens on this port",
          "The machine may be off or still starting, the port may have changed, or the service listens on "
          "its own loopback only.",
          {}};
    case ErrorKind::TimedOut:
      return {"filtered",
              Weight::Trouble,
              where + " gives no answer at all: a firewall drops it, or no host has this address",
              "Let the port through on the host and on the way, or go through a jump that may reach it.",
              {}};
    case ErrorKind::ClosedByPeer:
      return {"reset",
              Weight::Trouble,
              where + " takes the connection and drops it at once",
              "Something in between, or the service itself, turns this desk away: its list of allowed "
              "addresses, or too many visitors.",
              {}};
    default:
      return {"unreachable",
              Weight::Trouble,
              "there is no way to " + where + " (" + e.detail() + ")",
              "Check this desk's network, a VPN, or the route of the record.",
              {}};
  }
}

/// Tries each address in turn; the one that took a connection, or nothing.
Task<std::optional<std::string>> connects(const std::vector<std::string>& addresses, int port,
                                          std::chrono::nanoseconds limit, Findings& out) {
  Findings failures;
  for (const std::string& address : addresses) {
    try {
      ConnectFindings found;
      const StreamPtr stream = co_await connectTcp(address, static_cast<std::uint16_t>(port), limit, &found);
      stream->close();
      for (Finding& f : failures) f.weight = Weight::Remark;
      out.insert(out.end(), failures.begin(), failures.end());
      out.push_back({"connects",
                     Weight::Good,
                     address + " port " + std::to_string(port) + " takes connections, after " +
                         milliseconds(found.took),
                     {},
                     {}});
      co_return address;
    } catch (const Error& e) {
      failures.push_back(couldNotConnect(e, address, port));
    }
  }
  out.insert(out.end(), failures.begin(), failures.end());
  co_return std::nullopt;
}

/// host:1 typed as a port of 1: the display's real port is tried.
Task<void> displayNumber(const Address& address, std::chrono::nanoseconds limit, Findings& out) {
  const WayKind* kind = findWayKind(address.scheme);
  if (kind == nullptr || kind->displayBase == 0 || address.port <= 0 || address.port >= 100) co_return;
  Address real = address;
  real.port += kind->displayBase;
  const CheckResult look = co_await checkAddress(real, limit);
  if (look.answers)
    out.push_back({"display-number", Weight::Trouble,
                   std::to_string(address.port) + " is a display number; that display answers on port " +
                       std::to_string(real.port),
                   "Write port " + std::to_string(real.port) + ".", "port:" + std::to_string(real.port)});
}

/// True when it is what the way in needs.
Task<bool> whatIsThere(const Address& address, const std::string& at, std::chrono::nanoseconds limit,
                       Findings& out) {
  const WayKind* kind = findWayKind(address.scheme);
  const Engine* engine = engineFor(address.scheme);
  if (kind == nullptr || engine == nullptr || engine->greets == nullptr ||
      engine->look(address) != Look::Connect)
    co_return false;
  Address numeric = address;
  numeric.host = at;
  const CheckResult look = co_await checkAddress(numeric, limit);
  if (look.answers) {
    out.push_back({"answers",
                   Weight::Good,
                   std::string("a service of the kind \"") + kind->chip + "\" answers there",
                   {},
                   {}});
    co_return true;
  }
  const Listening there = co_await whatListens(at, static_cast<std::uint16_t>(address.port), limit);
  if (there.family == kind->family) {
    out.push_back({"answers", Weight::Good, there.people + " answers there", {}, {}});
    co_return true;
  }
  std::string fits;
  for (const WayKind& other : allWayKinds())
    if (there.family == other.family && fits.empty()) fits = other.name;
  out.push_back({"other-service",
                 Weight::Trouble,
                 there.people + " listens there, not what a way in of the kind \"" + kind->chip + "\" needs",
                 fits.empty() ? "Check the port; another service has it."
                              : "Check the port; or this is a way in of the kind " + fits + ".",
                 {}});
  co_return false;
}

/// The port belongs to another machine of the same host.
void othersConsole(const Stock& stock, const std::string& id, const std::string& host, const Address& address,
                   Findings& out) {
  // Several loopback addresses of one host have ports of their own.
  const auto sameAddress = [&address](const ConsoleFacts& c) {
    return !address.host.starts_with("127.") || c.listen.empty() || c.listen == "0.0.0.0" ||
           c.listen == "::" || c.listen == address.host;
  };
  for (const auto& [otherId, other] : stock)
    for (const ConsoleFacts& c : other.consoles)
      if (otherId != id && !c.byId && address.port > 0 && c.scheme == address.scheme && sameAddress(c) &&
          (c.port == address.port || c.tlsPort == address.port))
        out.push_back({"other-machine", Weight::Trouble,
                       host + " says: port " + std::to_string(address.port) + " is the console of \"" +
                           other.name + "\", another machine",
                       "Take the port that the host says for this machine.", "stock"});
}

/// What the machine's own host says about it.
Task<void> askHost(const Snapshot& records, const Endpoint& way, const WhyTools& tools, Findings& out) {
  if (!tools.host) co_return;
  const std::string id = idOnHost(records, way.machine);
  const std::string host = tools.host->record().name;
  try {
    const std::function<bool(const HostView&)> settled = [](const HostView& v) {
      return v.stage == HostStage::Live || v.stage == HostStage::Waiting;
    };
    co_await awaitView(tools.host, settled, tools.limit * 2, host);
  } catch (const Error&) {
    // Told of below.
  }
  const HostView view = tools.host->view();
  if (view.stage != HostStage::Live) {
    out.push_back({"host-lost",
                   Weight::Remark,
                   "its host " + host +
                       " cannot be asked: " + (view.sentence.empty() ? "no answer yet" : view.sentence),
                   view.cure,
                   {}});
    co_return;
  }
  const auto found = view.stock->find(id);
  if (found == view.stock->end()) {
    out.push_back({"gone", Weight::Trouble, host + " has no machine with this ID any more",
                   "It was removed there or made anew; look at the stock and adopt it again.", "stock"});
    co_return;
  }
  const StockMachine& m = found->second;
  if (m.state == Running::Off || m.state == Running::Crashed) {
    out.push_back(
        {"off", Weight::Trouble,
         host + " says: the machine is " + nameOf(m.state) + (m.reason.empty() ? "" : " (" + m.reason + ")"),
         "Start it; Start and open waits until it answers.", "start"});
    co_return;
  }
  if (m.state == Running::Paused)
    out.push_back({"paused", Weight::Trouble,
                   host + " says: the machine is paused" + (m.reason.empty() ? "" : " (" + m.reason + ")"),
                   "Let it go on.", "start"});
  else
    out.push_back({"running", Weight::Good, host + " says: the machine is " + nameOf(m.state), {}, {}});
  for (const StockRow& row : stockRows(records, {host, {}}, *view.stock)) {
    if (row.record != way.machine) continue;
    for (const Drift& d : row.drift)
      if (d.kind == DriftKind::Port && d.wayIn == way.id)
        out.push_back(
            {"port-changed", Weight::Trouble, host + " says: " + d.sentence, "Take the host's.", "drift"});
  }
  const Address address = parseAddress(way.address);
  othersConsole(*view.stock, id, host, address, out);
  for (const ConsoleFacts& c : m.consoles)
    if (c.scheme == address.scheme && c.port == address.port && c.listen.starts_with("127.") &&
        !address.host.starts_with("127.") && address.host != "localhost")
      out.push_back(
          {"loopback-only", Weight::Trouble,
           host + " says: this console listens on " + c.listen + ", which only " + host + " itself reaches",
           "Go through an SSH jump on " + host + ", or let the console listen on another address.",
           tunnelChange(c.listen, "ssh://" + address.host)});
}

void fromRecords(const Snapshot& records, const Endpoint& way, Findings& out) {
  for (const Endpoint* other : records.sharingAddress(way)) {
    const auto m = records.machines.find(other->machine);
    if (m == records.machines.end()) continue;
    out.push_back(
        {"shared-port",
         Weight::Remark,
         "\"" + m->second.name + "\" has a way in with the same host and port; only one of them can be right",
         "Compare with the host's own list; the stock shows it.",
         {}});
  }
}

/// A line that nobody seals, beyond this desk.
void sealing(const Address& address, const SettingReader& setting, Findings& out) {
  if (address.host.empty() || address.host.starts_with("127.") || address.host == "localhost" ||
      address.host == "::1" || !setting("route.via").empty())
    return;
  const WayKind* kind = findWayKind(address.scheme);
  if (kind == nullptr || kind->carriesFiles || std::string(address.scheme).find("tls") != std::string::npos)
    return;
  out.push_back({"maybe-plain", Weight::Remark,
                 "whether this line is sealed shows when it is open; a line of this kind may be plain",
                 "An SSH tunnel before it seals it as far as the jump.", "via:ssh://" + address.host});
}

Task<void> lookAtPath(const Address& address, Findings& out) {
  const CheckResult look = co_await checkAddress(address, std::chrono::seconds(3));
  if (look.answers)
    out.push_back({"path", Weight::Good, look.sentence, {}, {}});
  else
    out.push_back({"path",
                   Weight::Trouble,
                   address.path + ": " + look.sentence,
                   "Check the path; on a machine's host it may change at each start.",
                   {}});
}

}  // namespace

namespace {
constexpr std::string_view kTunnel = "tunnel:";
}

std::string tunnelChange(const std::string& listens, const std::string& jump) {
  return std::string(kTunnel) + listens + " " + jump;
}

std::string jumpOfTunnel(const std::string& change) { return change.substr(change.find(' ') + 1); }

void goThroughTunnel(StoreWriter& writer, Endpoint way, const std::string& change) {
  Address inside = parseAddress(way.address);
  inside.host = change.substr(kTunnel.size(), change.find(' ') - kTunnel.size());
  way.address = inside.uri();
  writer.put(way);
  writer.set({OwnerKind::WayIn, way.id}, "route.via", jumpOfTunnel(change));
}

bool anyTrouble(const Findings& findings) {
  return std::any_of(findings.begin(), findings.end(),
                     [](const Finding& f) { return f.weight == Weight::Trouble; });
}

Task<Findings> whyNot(std::shared_ptr<const Snapshot> records, Id wayIn, Address address, WhyTools tools) {
  Findings out;
  try {
    const auto way = records->endpoints.find(wayIn);
    const SettingReader setting =
        way == records->endpoints.end() ? builtInSettings() : settingsOf(*records, {OwnerKind::WayIn, wayIn});
    const auto jump = nearestJump(*records, wayIn);
    if (jump) {
      out.push_back({"behind-jump",
                     Weight::Remark,
                     "it lies behind " + jump->forPeople() + "; what is beyond shows only when it is opened",
                     {},
                     {}});
      const auto addresses = co_await resolved(jump->host, out);
      if (!addresses.empty()) co_await connects(addresses, jump->port, tools.limit, out);
    } else if (!address.path.empty()) {
      co_await lookAtPath(address, out);
    } else {
      const auto addresses = co_await resolved(address.host, out);
      if (!addresses.empty()) {
        const auto taken = co_await connects(addresses, address.port, tools.limit, out);
        if (!taken)
          co_await displayNumber(address, tools.limit, out);
        else if (co_await whatIsThere(address, *taken, tools.limit, out))
          co_await lookAtWhatItShows(*records, wayIn, address, setting, tools, out);
      }
    }
    if (way != records->endpoints.end()) {
      fromRecords(*records, way->second, out);
      co_await askHost(*records, way->second, tools, out);
      const bool shut = std::any_of(out.begin(), out.end(), [](const Finding& f) {
        return f.weight == Weight::Trouble &&
               (f.code == "refused" || f.code == "filtered" || f.code == "reset");
      });
      if (shut && !jump) co_await lookInside(*records, way->second, address, tools, out);
    }
    sealing(address, setting, out);
    if (tools.open) lookAtOpenPicture(*tools.open, out);
  } catch (const std::exception& e) {
    out.push_back({"cannot-look", Weight::Trouble, e.what(), {}, {}});
  }
  co_return out;
}

}  // namespace kw::host
