// A session over RFB: connecting, signing in, staying connected.
#pragma once
#include <functional>

#include "rfb/client.hpp"
#include "session/sign_in_turns.hpp"
#include "session/way.hpp"

namespace kw {

struct VncConfig {
  std::string label;  ///< the machine, in questions
  std::string host;
  int port = 5900;
  std::string unixPath;  ///< instead of host and port
  std::chrono::nanoseconds connectLimit = std::chrono::seconds(10);
  rfb::ClientOptions options;
  ReconnectPolicy reconnect;
  bool viewOnly = false;
  /// Quality and compression follow from how quickly the peer answers; options' own count for the quickest
  /// lines.
  bool chooseQuality = false;
  KeptSignIns kept;
  std::shared_ptr<TrustStore> trust;
  /// How to get there; null: TCP or unix socket as above.
  std::shared_ptr<Way> way;
};

std::shared_ptr<Session> makeVncSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        VncConfig config);

}  // namespace kw
