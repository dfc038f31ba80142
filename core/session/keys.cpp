#include "session/keys.hpp"

#include <array>

#include "base/error.hpp"

namespace kw {

namespace {

struct Named {
  const char* name;
  std::uint32_t keysym;
  std::uint32_t scanCode;
};

constexpr Named kNamed[] = {
    {"ctrl", keysym::kControlLeft, 0x1d},
    {"control", keysym::kControlLeft, 0x1d},
    {"rctrl", keysym::kControlRight, 0xe01d},
    {"alt", keysym::kAltLeft, 0x38},
    {"altgr", keysym::kAltGr, 0xe038},
    {"ralt", keysym::kAltRight, 0xe038},
    {"shift", keysym::kShiftLeft, 0x2a},
    {"rshift", keysym::kShiftRight, 0x36},
    {"super", keysym::kSuperLeft, 0xe05b},
    {"rsuper", keysym::kSuperRight, 0xe05c},
    {"menu", keysym::kMenu, 0xe05d},
    {"delete", keysym::kDelete, 0xe053},
    {"del", keysym::kDelete, 0xe053},
    {"insert", keysym::kInsert, 0xe052},
    {"home", keysym::kHome, 0xe047},
    {"end", keysym::kEnd, 0xe04f},
    {"pageup", keysym::kPageUp, 0xe049},
    {"pagedown", keysym::kPageDown, 0xe051},
    {"up", keysym::kUp, 0xe048},
    {"down", keysym::kDown, 0xe050},
    {"left", keysym::kLeft, 0xe04b},
    {"right", keysym::kRight, 0xe04d},
    {"enter", keysym::kReturn, 0x1c},
    {"return", keysym::kReturn, 0x1c},
    {"tab", keysym::kTab, 0x0f},
    {"esc", keysym::kEscape, 0x01},
    {"escape", keysym::kEscape, 0x01},
    {"backspace", keysym::kBackspace, 0x0e},
    {"space", ' ', 0x39},
    {"print", keysym::kPrint, 0xe037},
    {"pause", keysym::kPause, 0xe046},
    {"scrolllock", keysym::kScrollLock, 0x46},
    {"numlock", keysym::kNumLock, 0x45},
    {"capslock", keysym::kCapsLock, 0x3a},
    {"plus", '+', 0x0d},
    {"minus", '-', 0x0c},
};

/// Rows of a US keyboard: first scan code, then its characters plain and with Shift.
struct KeyRow {
  std::uint32_t first;
  const char* plain;
  const char* shifted;
};
constexpr KeyRow kRows[] = {
    {0x02, "1234567890-=", "!@#$%^&*()_+"},
    {0x10, "qwertyuiop[]", "QWERTYUIOP{}"},
    {0x1e, "asdfghjkl;'`", "ASDFGHJKL:\"~"},
    {0x2b, "\\zxcvbnm,./", "|ZXCVBNM<>?"},
};

struct Place {
  std::uint32_t scanCode = 0;
  bool shifted = false;
};

Place placeOf(std::uint32_t character) {
  if (character == ' ') return {0x39, false};
  if (character == 0 || character > 0x7e) return {};
  for (const KeyRow& row : kRows) {
    const std::string_view plain(row.plain), shifted(row.shifted);
    const auto c = static_cast<char>(character);
    if (const auto at = plain.find(c); at != std::string_view::npos)
      return {row.first + static_cast<std::uint32_t>(at), false};
    if (const auto at = shifted.find(c); at != std::string_view::npos)
      return {row.first + static_cast<std::uint32_t>(at), true};
  }
  return {};
}

std::uint32_t functionKeyCode(unsigned number) { return number <= 10 ? 0x3a + number : 0x4c + number; }

}  // namespace

std::uint32_t keysymOf(char32_t c) {
  if (c == U'\n' || c == U'\r') return keysym::kReturn;
  if (c == U'\t') return keysym::kTab;
  if (c == 0x1b) return keysym::kEscape;
  if (c == 0x08) return keysym::kBackspace;
  if ((c >= 0x20 && c <= 0x7e) || (c >= 0xa0 && c <= 0xff)) return c;
  return 0x01000000U | c;
}

std::uint32_t scanCodeOf(std::uint32_t symbol) {
  if (const Place place = placeOf(symbol); place.scanCode != 0) return place.scanCode;
  if (symbol >= keysym::kF1 && symbol < keysym::kF1 + 12) return functionKeyCode(symbol - keysym::kF1 + 1);
  for (const Named& named : kNamed)
    if (named.keysym == symbol) return named.scanCode;
  return 0;
}

std::optional<KeyStroke> keyFromName(std::string_view name) {
  const std::string low = lowered(name);
  for (const Named& named : kNamed)
    if (low == named.name) return KeyStroke{named.keysym, named.scanCode};
  if (low.size() >= 2 && low.size() <= 3 && low[0] == 'f' &&
      low.find_first_not_of("0123456789", 1) == low.npos) {
    const auto number = static_cast<unsigned>(std::stoul(low.substr(1)));
    if (number >= 1 && number <= 12) return KeyStroke{keysym::kF1 + number - 1, functionKeyCode(number)};
  }
  const std::u32string characters = utf8ToUtf32(name);
  if (characters.size() != 1) return std::nullopt;
  const std::uint32_t symbol = keysymOf(characters[0]);
  return KeyStroke{symbol, placeOf(symbol).scanCode};
}

Chord chordFromText(std::string_view text) {
  Chord chord;
  while (true) {
    const auto plus = text.find('+', text.empty() ? 0 : 1);
    const std::string_view part = text.substr(0, plus);
    const auto stroke = keyFromName(part);
    if (!stroke) throw Error(ErrorKind::Local, "no key is called \"" + std::string(part) + "\"");
    chord.push_back(*stroke);
    if (plus == std::string_view::npos) return chord;
    text = text.substr(plus + 1);
  }
}

std::vector<Chord> chordsForText(std::string_view utf8) {
  std::vector<Chord> chords;
  for (char32_t c : utf8ToUtf32(utf8)) {
    if (c == U'\r') continue;
    const std::uint32_t symbol = keysymOf(c);
    const Place place = placeOf(symbol);
    Chord chord;
    if (place.shifted) chord.push_back({keysym::kShiftLeft, 0x2a});
    chord.push_back({symbol, place.scanCode != 0 ? place.scanCode : scanCodeOf(symbol)});
    chords.push_back(std::move(chord));
  }
  return chords;
}

}  // namespace kw
