// Clipboard text over the "cliprdr" channel (MS-RDPECLIP): each side announces that it has text; it is
// fetched when it is wanted. Both sides of the protocol.
#pragma once
#include <functional>
#include <string>

#include "base/little.hpp"

namespace kw::rdp {

class Clipboard {
 public:
  struct Events {
    std::function<void(Bytes)> send;                   ///< a whole message for the channel
    std::function<void(const std::string&)> textCame;  ///< what was copied over there
  };
  explicit Clipboard(Events events) : events_(std::move(events)) {}
  void begin();  ///< the server side begins the talk
  void take(ByteView message);
  /// What was copied here; announced now, or once the other side is ready.
  void offer(std::string utf8);

 private:
  void sendCapabilities();
  void announce();
  void formats(ByteView body, bool longNames);
  void request(LittleReader& in);
  void response(ByteView body, bool good);
  Events events_;
  bool ready_ = false, theirLongNames_ = false, wanted_ = false, offered_ = false;
  std::string text_;
};

}  // namespace kw::rdp
