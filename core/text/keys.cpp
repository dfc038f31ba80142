#include "text/keys.hpp"

#include "base/bytes.hpp"

namespace kw::text {

namespace {

int modifierCode(Modifiers m) { return 1 + (m.shift ? 1 : 0) + (m.alt ? 2 : 0) + (m.ctrl ? 4 : 0); }

/// Arrows, Home, End, F1 to F4: CSI 1 ; m X, or the short form without modifiers.
std::string letterKey(char letter, Modifiers with, const char* shortForm) {
  const int m = modifierCode(with);
  if (m == 1) return shortForm + std::string(1, letter);
  return "\x1b[1;" + std::to_string(m) + letter;
}

std::string tildeKey(int number, Modifiers with) {
  const int m = modifierCode(with);
  return "\x1b[" + std::to_string(number) + (m == 1 ? "" : ";" + std::to_string(m)) + "~";
}

std::string functionKey(int n, Modifiers with) {
  if (n <= 4) return letterKey(static_cast<char>('P' + n - 1), with, "\x1bO");
  static constexpr int kNumbers[] = {15, 17, 18, 19, 20, 21, 23, 24, 25, 26, 28, 29, 31, 32, 33, 34};
  return n <= 20 ? tildeKey(kNumbers[n - 5], with) : std::string();
}

}  // namespace

std::string bytesOfKey(TextKey key, Modifiers with, const InputModes& modes) {
  if (modes.vt52) {
    if (key >= TextKey::Up && key <= TextKey::Left) {
      static constexpr char kArrows[] = {'A', 'B', 'D', 'C'};
      return {'\x1b', kArrows[static_cast<int>(key) - static_cast<int>(TextKey::Up)]};
    }
    const int f = static_cast<int>(key) - static_cast<int>(TextKey::F1);
    if (f >= 0 && f < 4) return {'\x1b', static_cast<char>('P' + f)};
  }
  const char* cursor = modes.cursorKeys ? "\x1bO" : "\x1b[";
  const std::string alt = with.alt ? "\x1b" : "";
  switch (key) {
    case TextKey::Enter: return alt + (modes.newLine ? "\r\n" : "\r");
    case TextKey::Tab: return with.shift ? "\x1b[Z" : alt + "\t";
    case TextKey::Backspace: return alt + (with.ctrl ? "\b" : "\x7f");
    case TextKey::Escape: return alt + "\x1b";
    case TextKey::Up: return letterKey('A', with, cursor);
    case TextKey::Down: return letterKey('B', with, cursor);
    case TextKey::Right: return letterKey('C', with, cursor);
    case TextKey::Left: return letterKey('D', with, cursor);
    case TextKey::Home: return letterKey('H', with, cursor);
    case TextKey::End: return letterKey('F', with, cursor);
    case TextKey::Insert: return tildeKey(2, with);
    case TextKey::Delete: return tildeKey(3, with);
    case TextKey::PageUp: return tildeKey(5, with);
    case TextKey::PageDown: return tildeKey(6, with);
    default: return functionKey(static_cast<int>(key) - static_cast<int>(TextKey::F1) + 1, with);
  }
}

std::string bytesOfCharacter(char32_t point, Modifiers with) {
  std::string out = with.alt ? "\x1b" : "";
  if (with.ctrl) {
    if (point >= 'a' && point <= 'z')
      point -= 'a' - 1;
    else if (point >= '@' && point <= '_')
      point -= '@';
    else if (point == ' ' || point == '2')
      point = 0;
    else if (point >= '3' && point <= '7')
      point = 0x1B + (point - '3');
    else if (point == '8' || point == '?')
      point = 0x7F;
    else if (point == '/')
      point = 0x1F;
  }
  appendUtf8(out, point);
  return out;
}

std::string bytesOfMouse(const MouseEvent& e, Modifiers with, const InputModes& modes) {
  if (modes.mouse == MouseWish::None) return {};
  if (e.kind == MouseEvent::Kind::Release && (modes.mouse == MouseWish::Press || e.button > 3)) return {};
  if (e.kind == MouseEvent::Kind::Move &&
      (modes.mouse == MouseWish::Press || modes.mouse == MouseWish::Click ||
       (modes.mouse == MouseWish::Drag && e.button == 0)))
    return {};
  const bool release = e.kind == MouseEvent::Kind::Release;
  int code = e.button == 0 ? 3 : e.button <= 3 ? e.button - 1 : 64 + e.button - 4;
  if (e.kind == MouseEvent::Kind::Move) code += 32;
  if (modes.mouse != MouseWish::Press)
    code += (with.shift ? 4 : 0) + (with.alt ? 8 : 0) + (with.ctrl ? 16 : 0);
  const int x = e.column + 1, y = e.row + 1;
  if (modes.form == MouseForm::Sgr)
    return "\x1b[<" + std::to_string(code) + ";" + std::to_string(x) + ";" + std::to_string(y) +
           (release ? "m" : "M");
  if (release) code = (code & ~3) | 3;
  if (modes.form == MouseForm::Urxvt)
    return "\x1b[" + std::to_string(code + 32) + ";" + std::to_string(x) + ";" + std::to_string(y) + "M";
  if (x > 223 || y > 223) return {};
  std::string out = "\x1b[M";
  for (int v : {code, x, y}) out += static_cast<char>(v + 32);
  return out;
}

}  // namespace kw::text
