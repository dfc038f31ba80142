#include "rdp/input.hpp"

#include <map>
#include <string>
#include <utility>

namespace kw::rdp {

namespace {
// 2.2.8.1.2.2
constexpr unsigned kScanCode = 0, kMouse = 1, kMouseX = 2, kSync = 3, kUnicode = 4;
constexpr unsigned kRelease = 1, kExtended = 2, kExtended1 = 4;
}  // namespace

LittleWriter& InputEvents::event(unsigned code, unsigned flags) {
  ++count_;
  return out_.u8((code << 5) | flags);
}

void InputEvents::key(std::uint32_t scanCode, bool down) {
  unsigned flags = down ? 0 : kRelease;
  const unsigned prefix = scanCode >> 8;
  if (prefix == 0xe0) flags |= kExtended;
  if (prefix == 0xe1) flags |= kExtended1;
  event(kScanCode, flags).u8(scanCode & 0xff);
}

void InputEvents::unicode(char32_t c, bool down) {
  const unsigned flags = down ? 0 : kRelease;
  if (c < 0x10000) {
    event(kUnicode, flags).u16(c);
    return;
  }
  event(kUnicode, flags).u16(0xd800 + ((c - 0x10000) >> 10));
  event(kUnicode, flags).u16(0xdc00 + ((c - 0x10000) & 0x3ff));
}

void InputEvents::mouse(unsigned flags, Point at) {
  event(kMouse, 0).u16(flags).u16(static_cast<unsigned>(at.x)).u16(static_cast<unsigned>(at.y));
}
void InputEvents::extendedMouse(unsigned flags, Point at) {
  event(kMouseX, 0).u16(flags).u16(static_cast<unsigned>(at.x)).u16(static_cast<unsigned>(at.y));
}
void InputEvents::locks(unsigned bits) { event(kSync, bits & 7); }

Bytes InputEvents::take() {
  count_ = 0;
  return std::exchange(out_, LittleWriter()).take();
}

void PointerButtons::move(InputEvents& out, Point at, unsigned buttons) {
  at.x = std::clamp(at.x, 0, 65535);
  at.y = std::clamp(at.y, 0, 65535);
  const unsigned changed = buttons ^ before_;
  if (!(at == at_) || changed == 0) out.mouse(mouse::kMove, at);
  constexpr std::pair<unsigned, unsigned> plain[] = {
      {1, mouse::kLeft}, {2, mouse::kMiddle}, {4, mouse::kRight}};
  for (const auto& [bit, flag] : plain)
    if ((changed & bit) != 0) out.mouse(flag | ((buttons & bit) != 0 ? mouse::kDown : 0), at);
  // A wheel turns when its bit comes; 120 are one notch, negative ones in nine bits of two's complement.
  constexpr unsigned kNotch = 120, kBack = mouse::kWheelNegative | (0x100 - kNotch);
  constexpr std::pair<unsigned, unsigned> wheels[] = {{8, mouse::kWheel | kNotch},
                                                      {16, mouse::kWheel | kBack},
                                                      {32, mouse::kHorizontalWheel | kBack},
                                                      {64, mouse::kHorizontalWheel | kNotch}};
  for (const auto& [bit, flag] : wheels)
    if ((changed & bit) != 0 && (buttons & bit) != 0) out.mouse(flag, at);
  constexpr std::pair<unsigned, unsigned> sides[] = {{128, mouse::kSide1}, {256, mouse::kSide2}};
  for (const auto& [bit, flag] : sides)
    if ((changed & bit) != 0) out.extendedMouse(flag | ((buttons & bit) != 0 ? mouse::kDown : 0), at);
  before_ = buttons;
  at_ = at;
}

std::uint32_t layoutNumber(const std::string& word) {
  static const std::map<std::string, std::uint32_t> numbers{
      {"us", 0x409}, {"gb", 0x809}, {"de", 0x407}, {"fr", 0x40c}, {"es", 0x40a},
      {"it", 0x410}, {"nl", 0x413}, {"se", 0x41d}, {"dk", 0x406}, {"no", 0x414},
      {"fi", 0x40b}, {"pl", 0x415}, {"pt", 0x816}, {"ch", 0x807}, {"jp", 0x411}};
  const auto found = numbers.find(word);
  return found == numbers.end() ? 0x409 : found->second;
}

}  // namespace kw::rdp
