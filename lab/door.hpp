// How visitors come to a guest: one door a protocol, all behind one shape, so that a console serves each
// alike.
#pragma once
#include <functional>
#include <memory>
#include <vector>

#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/server.hpp"
#include "rfb/server.hpp"
#include "spice/server.hpp"
#include "wire/stream.hpp"

namespace kw::lab {

/// What a visitor does to the guest.
class Hands {
 public:
  virtual ~Hands() = default;
  virtual void signedIn(bool shared) = 0;
  virtual void key(std::uint32_t keysym, bool down) = 0;
  virtual void pointer(Point at, unsigned buttons) = 0;
  virtual void clipboard(const std::string& utf8) = 0;
  /// True: taken; the picture has that size now.
  virtual bool resize(Size size) = 0;
  /// The machine's screens in their order, off ones empty; true: taken.
  virtual bool arrange(const std::vector<Rect>& screens) = 0;
  virtual void reboot() = 0;
};

/// One visitor's server.
class DoorServer {
 public:
  virtual ~DoorServer() = default;
  virtual Task<void> run(StreamPtr stream) = 0;
  virtual void close() = 0;
  virtual void damaged(const Region& region) = 0;
  virtual void resized(const std::vector<Screen>& screens) = 0;
  virtual void setClipboard(const std::string& utf8) = 0;
  virtual void bell() = 0;
};

using DoorMaker = std::function<std::unique_ptr<DoorServer>(const Executor&, std::shared_ptr<Framebuffer>,
                                                            std::vector<Screen>, Hands&)>;
DoorMaker vncDoor(rfb::ServerOptions options);
DoorMaker rdpDoor(rdp::ServerOptions options);
DoorMaker spiceDoor(spice::ServerOptions options);

/// A place where a guest can be reached besides its console's own port.
struct DoorPlan {
  std::string address = "127.0.0.1";
  std::uint16_t port = 0;  ///< 0: any free one
  DoorMaker make;
  /// The service answers only so long after the machine runs; refused before.
  std::chrono::milliseconds answersAfter{0};
  /// Set when this is a console of the machine's host and no service inside the machine: "spice".
  std::string console = {};
};

}  // namespace kw::lab
