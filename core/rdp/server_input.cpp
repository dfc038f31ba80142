// Keys and pointer of a visitor (MS-RDPBCGR 2.2.8.1).
#include "rdp/input.hpp"
#include "rdp/server.hpp"

namespace kw::rdp {

void Server::mouse(unsigned flags, Point at) {
  at_ = at;
  const auto button = [&](unsigned flag, unsigned bit) {
    if ((flags & flag) != 0) buttons_ = (flags & mouse::kDown) != 0 ? buttons_ | bit : buttons_ & ~bit;
  };
  if ((flags & mouse::kWheel) != 0) {
    const unsigned bit = (flags & mouse::kWheelNegative) != 0 ? 16 : 8;
    events_.pointer(at, buttons_ | bit);
    events_.pointer(at, buttons_);
    return;
  }
  if ((flags & mouse::kHorizontalWheel) != 0) {
    const unsigned bit = (flags & mouse::kWheelNegative) != 0 ? 32 : 64;
    events_.pointer(at, buttons_ | bit);
    events_.pointer(at, buttons_);
    return;
  }
  button(mouse::kLeft, 1);
  button(mouse::kMiddle, 2);
  button(mouse::kRight, 4);
  events_.pointer(at, buttons_);
}

void Server::fastInput(unsigned count, ByteView body) {
  LittleReader in(body, "input");
  if (count == 0) count = in.u8();
  for (unsigned i = 0; i < count; ++i) {
    const unsigned head = in.u8(), code = head >> 5, flags = head & 0x1f;
    if (code == 0) {
      const std::uint32_t key = in.u8();
      events_.scanCode(key | ((flags & 2) != 0   ? 0xe000U
                              : (flags & 4) != 0 ? 0xe100U
                                                 : 0U),
                       (flags & 1) == 0);
    } else if (code == 1 || code == 2) {
      const unsigned pointer = in.u16();
      const int x = in.u16(), y = in.u16();
      if (code == 1) {
        mouse(pointer, {x, y});
      } else {
        const unsigned bit = (pointer & mouse::kSide1) != 0 ? 128 : 256;
        buttons_ = (pointer & mouse::kDown) != 0 ? buttons_ | bit : buttons_ & ~bit;
        events_.pointer({x, y}, buttons_);
      }
    } else if (code == 4) {
      events_.character(in.u16(), (flags & 1) == 0);
    } else if (code != 3) {
      protocolBroken("input", "event kind " + std::to_string(code));
    }
  }
}

/// 2.2.8.1.1.3
void Server::slowInput(ByteView body) {
  LittleReader in(body, "input");
  const unsigned count = in.u16();
  in.skip(2);
  for (unsigned i = 0; i < count; ++i) {
    in.skip(4);
    const unsigned type = in.u16(), flags = in.u16(), a = in.u16(), b = in.u16();
    if (type == 4)
      events_.scanCode((a & 0xff) | ((flags & 0x100) != 0 ? 0xe000U : 0U), (flags & 0x8000) == 0);
    if (type == 5) events_.character(a, (flags & 0x8000) == 0);
    if (type == 0x8001) mouse(flags, {static_cast<int>(a), static_cast<int>(b)});
  }
}

}  // namespace kw::rdp
