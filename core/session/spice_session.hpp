// A session over SPICE: connecting, signing in, staying connected.
#pragma once
#include "session/sign_in_turns.hpp"
#include "session/way.hpp"
#include "spice/client.hpp"

namespace kw {

struct SpiceConfig {
  std::string label;
  std::string machineId;         ///< the record's; compared with what the console says, where that is a UUID
  std::string host;              ///< checked against the certificate
  int port = 0;                  ///< for the route
  spice::ClientOptions options;  ///< without the password
  bool tls = false;              ///< every channel sealed
  int tlsPort = 0;               ///< where sealed channels are taken besides the plain port; 0: nowhere
  bool sealedOnly = false;
  std::string authorityFile;
  ReconnectPolicy reconnect;
  KeptSignIns kept;
  std::shared_ptr<TrustStore> trust;
  std::shared_ptr<Way> way;
  bool viewOnly = false;
};

std::shared_ptr<Session> makeSpiceSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                          SpiceConfig config);

}  // namespace kw
