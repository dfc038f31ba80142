// A QEMU with its console, driven through QMP; the truth that pictures are compared with.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "picture/framebuffer.hpp"
#include "session/session.hpp"
#include "session/vnc_session.hpp"
#include "tests/peers/peer.hpp"
#include "tests/support.hpp"

namespace kw::test {

class Qemu {
 public:
  /// Starts qemu-system-x86_64 without a window; its VNC server listens on a unix socket or (with `tcp`) on
  /// loopback.
  Qemu(std::vector<std::string> arguments, std::string vncOptions = "", bool tcp = false);
  ~Qemu();

  /// One QMP command; throws std::runtime_error with QEMU's reason.
  nlohmann::json qmp(const std::string& command, nlohmann::json arguments = nlohmann::json::object());
  void stop() { qmp("stop"); }
  void cont() { qmp("cont"); }
  /// The guest's picture as QEMU itself sees it.
  Framebuffer screendump();

  /// How to reach its console.
  [[nodiscard]] VncConfig config() const;
  [[nodiscard]] std::string address() const;
  [[nodiscard]] const std::filesystem::path& folder() const { return folder_.path; }

 private:
  void connectQmp();
  std::string readLine();
  TemporaryFolder folder_;
  pid_t process_ = -1;
  int qmp_ = -1;
  std::string pending_;
  int port_ = 0;
};

/// Waits until the guest's own picture is not one colour any more, and stops it.
void stopWhenPainted(Qemu& qemu);

/// A session over the real engine, watched from the test's thread.
class Viewer {
 public:
  explicit Viewer(VncConfig config);
  /// Any engine's session.
  explicit Viewer(const std::function<std::shared_ptr<Session>(const Executor&)>& make);
  Viewer(const Viewer&) = delete;
  Viewer& operator=(const Viewer&) = delete;
  ~Viewer();
  bool until(const std::function<bool()>& condition,
             std::chrono::milliseconds limit = std::chrono::seconds(20));
  bool live(std::chrono::milliseconds limit = std::chrono::seconds(20));
  [[nodiscard]] Framebuffer picture() const;
  /// True when the picture equals `truth` within the limit.
  bool shows(const Framebuffer& truth, int allowed = 0,
             std::chrono::milliseconds limit = std::chrono::seconds(10));
  void press(const std::string& chord);
  void type(const std::string& text);
  void click(Point at);
  [[nodiscard]] SessionStatus status() const;
  [[nodiscard]] int damageCount() const;
  [[nodiscard]] Capabilities capabilities() const;
  [[nodiscard]] RouteFacts route() const;
  [[nodiscard]] std::vector<Question> questions() const;
  [[nodiscard]] std::vector<std::string> remarks() const;
  [[nodiscard]] std::size_t soundBytes() const;
  /// True once pictures came in this form, by its name in the figures.
  bool saw(const std::string& form, std::chrono::milliseconds limit = std::chrono::seconds(5));
  /// True once the guest's pointer takes differences instead of places.
  [[nodiscard]] bool relative() const;
  Session& session() { return *session_; }

  Answer answer;  ///< given to every question

 private:
  class Observer;
  struct State;
  Runtime runtime_{2};
  std::shared_ptr<State> state_;
  std::shared_ptr<Session> session_;
};

}  // namespace kw::test
