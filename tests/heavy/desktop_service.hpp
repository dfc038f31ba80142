// A real remote desktop service: a Wayland desktop of an ordinary user, without a monitor, in a network of
// its own.
#pragma once
#include <map>

#include "tests/peers/qemu.hpp"

namespace kw::test {

class DesktopService {
 public:
  /// Mirror: the desktop has a monitor of this size, which visitors share. Extend: each visitor's screen is a
  /// monitor of its own, of the size he wishes.
  enum class Mode { Mirror, Extend };
  explicit DesktopService(Mode mode, Size monitor = {1024, 640});
  ~DesktopService();
  DesktopService(const DesktopService&) = delete;
  DesktopService& operator=(const DesktopService&) = delete;

  /// Everything it needs is here; else the test is counted as skipped.
  static bool possible();
  /// Opens a session with these settings.
  [[nodiscard]] std::function<std::shared_ptr<Session>(const Executor&)> opening(
      std::map<std::string, std::string> settings) const;

  /// What its first monitor shows, without the pointer; empty while it has none.
  [[nodiscard]] Framebuffer truth() const;
  [[nodiscard]] std::string clipboard() const;
  /// Somebody there copies the text; returns once it is his.
  void copy(const std::string& text);
  void playTone(int seconds);

 private:
  [[nodiscard]] std::vector<std::string> inside(const std::vector<std::string>& words) const;
  /// Its exit code; what it said is in `said`.
  int run(const std::vector<std::string>& words, std::string* said = nullptr) const;
  void makeAccount() const;
  void begin(Mode mode, Size monitor);

  TemporaryFolder folder_;
  int port_ = 0;
  pid_t namespaces_ = -1, first_ = -1, forwarder_ = -1;
  std::vector<pid_t> helpers_;
};

}  // namespace kw::test
