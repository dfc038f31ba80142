// Fast-path input (MS-RDPBCGR 2.2.8.1.2): events as bytes.
#pragma once
#include <cstdint>
#include <string>

#include "base/little.hpp"
#include "picture/geometry.hpp"

namespace kw::rdp {

/// Collects events; a message holds at most 15 with the short form of the header.
class InputEvents {
 public:
  /// `scanCode`: PC set 1, 0xe0xx for extended keys, 0xe11d for Pause.
  void key(std::uint32_t scanCode, bool down);
  void unicode(char32_t character, bool down);
  /// `flags` as in 2.2.8.1.2.2.3.
  void mouse(unsigned flags, Point at);
  void extendedMouse(unsigned flags, Point at);
  void locks(unsigned bits);  ///< scroll 1, num 2, caps 4

  [[nodiscard]] unsigned count() const { return count_; }
  [[nodiscard]] bool full() const { return count_ >= 14; }
  /// The events, without the message's head; empty again afterwards.
  Bytes take();

 private:
  LittleWriter& event(unsigned code, unsigned flags);
  LittleWriter out_;
  unsigned count_ = 0;
};

namespace mouse {
constexpr unsigned kHorizontalWheel = 0x400, kWheel = 0x200, kWheelNegative = 0x100, kMove = 0x800,
                   kDown = 0x8000, kLeft = 0x1000, kRight = 0x2000, kMiddle = 0x4000, kSide1 = 1, kSide2 = 2;
}

/// Turns button masks of a session (session.hpp) into events.
class PointerButtons {
 public:
  void move(InputEvents& out, Point at, unsigned buttons);

 private:
  unsigned before_ = 0;
  Point at_{-1, -1};
};

/// The number that says a keyboard layout (MS-RDPBCGR 2.2.1.3.2), for the words of "rdp.layout".
std::uint32_t layoutNumber(const std::string& word);

}  // namespace kw::rdp
