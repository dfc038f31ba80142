// A session over RFB: connecting, signing in, staying connected.
#pragma once
#include <functional>

#include "rfb/client.hpp"
#include "session/session.hpp"

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
  /// Kept credentials; asked first, once per attempt chain. May be empty.
  std::function<std::optional<rfb::SignIn>(const rfb::SignInRequest&)> keptSignIn;
  /// Called with credentials that worked and were to be remembered.
  std::function<void(const rfb::SignIn&)> rememberSignIn;
  std::shared_ptr<TrustStore> trust;
  /// Makes the connection; empty: TCP or unix socket as above. The seam for tunnels, which may ask questions
  /// and write down the hops they found.
  std::function<Task<StreamPtr>(Asker&, RouteFacts&, ConnectFindings*)> connect;
};

std::shared_ptr<Session> makeVncSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                        VncConfig config);

}  // namespace kw
