#include "session/text_keys.hpp"

#include <optional>

namespace kw {

namespace {

using text::TextKey;

std::optional<TextKey> namedKey(std::uint32_t keysym) {
  if (keysym >= 0xFFBE && keysym < 0xFFBE + 20)
    return static_cast<TextKey>(static_cast<int>(TextKey::F1) + static_cast<int>(keysym - 0xFFBE));
  switch (keysym) {
    case 0xFF0D:
    case 0xFF8D: return TextKey::Enter;
    case 0xFF09:
    case 0xFE20: return TextKey::Tab;
    case 0xFF08: return TextKey::Backspace;
    case 0xFF1B: return TextKey::Escape;
    case 0xFF50:
    case 0xFF95: return TextKey::Home;
    case 0xFF51:
    case 0xFF96: return TextKey::Left;
    case 0xFF52:
    case 0xFF97: return TextKey::Up;
    case 0xFF53:
    case 0xFF98: return TextKey::Right;
    case 0xFF54:
    case 0xFF99: return TextKey::Down;
    case 0xFF55:
    case 0xFF9A: return TextKey::PageUp;
    case 0xFF56:
    case 0xFF9B: return TextKey::PageDown;
    case 0xFF57:
    case 0xFF9C: return TextKey::End;
    case 0xFF63:
    case 0xFF9E: return TextKey::Insert;
    case 0xFFFF:
    case 0xFF9F: return TextKey::Delete;
    default: return std::nullopt;
  }
}

char32_t characterOf(std::uint32_t keysym) {
  if (keysym >= 0x20 && keysym <= 0xFF) return keysym;
  if (keysym >= 0x01000100 && keysym <= 0x0110FFFF) return keysym - 0x01000000;
  if (keysym >= 0xFFAA && keysym <= 0xFFB9) return U'*' + (keysym - 0xFFAA);  // keypad * + , - . / 0…9
  return 0;
}

}  // namespace

void TextKeys::key(std::uint32_t keysym, bool down, text::Terminal& terminal) {
  switch (keysym) {
    case 0xFFE1:
    case 0xFFE2: held_.shift = down; return;
    case 0xFFE3:
    case 0xFFE4: held_.ctrl = down; return;
    case 0xFFE7:
    case 0xFFE8:
    case 0xFFE9:
    case 0xFFEA: held_.alt = down; return;
    default: break;
  }
  if (!down) return;
  text::Modifiers with = held_;
  if (const auto named = namedKey(keysym)) {
    if (keysym == 0xFE20) with.shift = true;
    return terminal.key(*named, with);
  }
  if (const char32_t c = characterOf(keysym)) terminal.character(c, with);
}

}  // namespace kw
