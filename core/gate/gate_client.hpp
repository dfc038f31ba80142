// A gateway as a desk sees it: signed in with an account, who visits what, passes; kept up to date while
// connected.
#pragma once
#include <functional>
#include <memory>
#include <nlohmann/json.hpp>

#include "base/runtime.hpp"
#include "base/secret.hpp"
#include "session/session.hpp"

namespace kw::gate {

enum class ClientStage { Connecting, SignedIn, Lost };

struct ClientView {
  ClientStage stage = ClientStage::Connecting;
  std::string sentence;  ///< why it is lost; empty else
  nlohmann::json me;     ///< {"name", "role", "gate", …}
  nlohmann::json machines = nlohmann::json::array();
  nlohmann::json passes = nlohmann::json::array();
  nlohmann::json audit;  ///< {"entries": […], "all", "wrongAt"}; null until asked for
  /// What was seen last: {"way", "visit", "serial", "drives", "over"} and, when it is new, "jpeg" (base64) or
  /// "text" (Room::textNow). Null until asked for.
  std::shared_ptr<const nlohmann::json> seen;
  std::string passPath;  ///< of the pass made last: "/#pass=…"
  std::string said;      ///< what the gateway refused last
};

struct ClientPlan {
  std::string host;
  int port = 8443;
  std::string user;
  Secret password;
  std::string code;
  /// Decides about the gateway's certificate.
  std::function<Task<bool>(PeerCertificate)> decide;
};

/// Thread-safe; `told` comes on the strand after each change.
class GateClient : public std::enable_shared_from_this<GateClient> {
 public:
  GateClient(Executor strand, ClientPlan plan, std::function<void(const ClientView&)> told);
  void start();
  void stop();
  /// {"endVisit": {…}}, {"write": {"way", "visit", "text"}}, {"makePass": {…}}, {"endPass": N}, {"passes":
  /// true},
  /// {"audit": {"narrow": "words"}}, {"lookIn": {"way", "visit", "have": serial}}
  void send(nlohmann::json message);

 private:
  Task<void> run();
  Task<std::string> signIn();
  Task<StreamPtr> connect();
  void take(const nlohmann::json& message);
  void tell();

  Executor strand_;
  ClientPlan plan_;
  std::function<void(const ClientView&)> told_;
  ClientView view_;
  std::shared_ptr<class Outbox> out_;
  bool stopping_ = false;
};

}  // namespace kw::gate
