// Keys by name, by character and by code: X11 keysyms (RFC 6143 7.5.4) and PC set-1 scan codes.
#pragma once
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"

namespace kw {

namespace keysym {
constexpr std::uint32_t kBackspace = 0xff08, kTab = 0xff09, kReturn = 0xff0d, kEscape = 0xff1b,
                        kInsert = 0xff63, kDelete = 0xffff, kHome = 0xff50, kLeft = 0xff51, kUp = 0xff52,
                        kRight = 0xff53, kDown = 0xff54, kPageUp = 0xff55, kPageDown = 0xff56, kEnd = 0xff57,
                        kPrint = 0xff61, kPause = 0xff13, kScrollLock = 0xff14, kNumLock = 0xff7f,
                        kCapsLock = 0xffe5, kF1 = 0xffbe, kShiftLeft = 0xffe1, kShiftRight = 0xffe2,
                        kControlLeft = 0xffe3, kControlRight = 0xffe4, kAltLeft = 0xffe9, kAltRight = 0xffea,
                        kSuperLeft = 0xffeb, kSuperRight = 0xffec, kMenu = 0xff67, kAltGr = 0xfe03;
}

struct KeyStroke {
  std::uint32_t keysym = 0;
  std::uint32_t scanCode = 0;  ///< set 1, 0xe0xx when extended; 0 when unknown
  bool operator==(const KeyStroke&) const = default;
};
/// Keys pressed in order and released in reverse.
using Chord = std::vector<KeyStroke>;

/// The keysym of a character: Latin-1 as it is, others as 0x01000000 + code point.
std::uint32_t keysymOf(char32_t character);
/// The scan code on a US keyboard; 0 when there is none.
std::uint32_t scanCodeOf(std::uint32_t keysym);
/// "ctrl", "delete", "f5", "a"; names do not mind case.
std::optional<KeyStroke> keyFromName(std::string_view name);
/// "ctrl+alt+delete". Throws Error{Local} naming the part it does not know.
Chord chordFromText(std::string_view text);
/// One chord per character, with Shift where a US keyboard needs it. Line feeds become Return.
std::vector<Chord> chordsForText(std::string_view utf8);

}  // namespace kw
