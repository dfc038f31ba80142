// A session over RDP: connecting, signing in, staying connected.
#pragma once
#include "rdp/client.hpp"
#include "session/sign_in_turns.hpp"
#include "session/way.hpp"

namespace kw {

struct RdpConfig {
  std::string label;  ///< the machine, in questions
  int port = 0;       ///< for the route
  rdp::ClientOptions options;
  ReconnectPolicy reconnect;
  KeptSignIns kept;
  std::shared_ptr<TrustStore> trust;
  std::shared_ptr<Way> way;
  bool viewOnly = false;
};

std::shared_ptr<Session> makeRdpSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        RdpConfig config);

}  // namespace kw
