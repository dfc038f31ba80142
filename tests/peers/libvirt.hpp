// A libvirtd of the test's own, with machines of the demo, away from whatever libvirt this computer has.
#pragma once
#include <string>
#include <vector>

#include "tests/peers/linux_guest.hpp"
#include "tests/support.hpp"

namespace kw::test {

class Libvirtd {
 public:
  /// Needs root: it lives in a mount namespace of its own. Throws std::runtime_error when it does not come
  /// up.
  Libvirtd();
  ~Libvirtd();
  static bool available();

  /// "qemu+unix:///system?socket=…"
  [[nodiscard]] std::string uri() const;
  /// virsh's output; what it says wrong is thrown as std::runtime_error.
  std::string virsh(const std::string& arguments) const;
  /// Memtest (or a guest with a port for an agent) with what `graphics` says and a serial port on a socket.
  void define(const std::string& name, const std::string& graphics, const LinuxGuest* guest = nullptr) const;
  [[nodiscard]] std::filesystem::path folder() const { return folder_.path; }
  /// Killed and started again, as a host that is restarted; its machines run on.
  void restart();

 private:
  void launch();
  void end();
  TemporaryFolder folder_;
  pid_t process_ = -1;
};

}  // namespace kw::test
