// SPICE from addresses and settings.
#include "route/engine.hpp"
#include "session/spice_session.hpp"

namespace kw {

namespace {

std::shared_ptr<Session> make(Opening o) {
  SpiceConfig config;
  config.label = o.label;
  config.machineId = o.setting("host.id");
  config.host = o.to.host;
  config.port = o.to.port;
  config.way = o.way;
  config.trust = trustIn(o.tools.store);
  config.kept = keptSignInsOf(o.tools, o.owner, o.to, o.setting);
  config.reconnect = reconnectPolicy(o.setting);
  config.viewOnly = isOn(o.setting, "screen.viewonly");
  config.tls = o.to.scheme == "spice+tls";
  config.tlsPort = wholeOf(o.setting, "spice.tlsport");
  if (const auto port = o.to.options.find("tls-port"); port != o.to.options.end())
    config.tlsPort = parseAddress("tcp://host:" + port->second).port;
  config.sealedOnly = isOn(o.setting, "security.sealed");
  config.authorityFile = o.setting("security.authorities");
  config.options.compression = o.setting("spice.compression");
  config.options.sound = isOn(o.setting, "sound.play");
  config.options.clipboard = o.setting("clipboard.way") != "off";
  return makeSpiceSession(o.strand, o.tools.clock, std::move(config));
}

/// A link message that cannot be gets a reply with the mark of the protocol, and opens nothing.
Task<void> greets(ByteStream& stream, const Address& address) {
  if (address.scheme == "spice+tls") co_return;  // TLS speaks first there; opening tells the rest
  ByteWriter probe;
  probe.text("REDQ").bytes(Bytes{2, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0});
  co_await stream.write(probe.view());
  const std::string answer = co_await readGreeting(stream, 4);
  if (answer != "REDQ") protocolBroken(address.forPeople(), "something answers, but no SPICE console");
}

}  // namespace

// A host ends its visitor's session when another one comes (unless it was started otherwise).
const Engine spiceEngine{"spice", make, [](const Address&) { return Look::Connect; }, greets, nullptr, false};

}  // namespace kw
