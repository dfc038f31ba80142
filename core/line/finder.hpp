// What lines this machine has, so that a path is picked, not typed.
#pragma once
#include <string>
#include <vector>

namespace kw {

struct FoundLine {
  enum class Kind { Serial, Socket } kind = Kind::Serial;
  std::string path;    ///< the stable one (/dev/serial/by-id/…) when there is one
  std::string device;  ///< "/dev/ttyUSB0", or the socket's path
  std::string
      description;      ///< "USB: maker and product", "on board", "socket of process 812 (qemu-system-x86)"
  std::string address;  ///< a URI to put into a way in
};

/// Serial devices that exist in hardware, and listening stream sockets of hypervisor processes on this
/// machine. `root` is / outside of tests.
std::vector<FoundLine> findLines(const std::string& root = "/");

/// Looks at a path that was typed or pasted: empty when it can be used, else one sentence that says what is
/// wrong. `socket`: a socket is expected, else a character device.
std::string problemWithPath(const std::string& path, bool socket);

}  // namespace kw
