#include "desktop/picture/qt_keys.hpp"

#include <QGuiApplication>
#include <map>

namespace kw::desktop {

namespace {

/// Linux evdev codes past the main block, as set-1 codes; below 89 the two agree.
std::uint32_t scanCodeFromEvdev(std::uint32_t code) {
  static const std::map<std::uint32_t, std::uint32_t> extended{
      {96, 0xe01c},  {97, 0xe01d},  {98, 0xe035},  {99, 0xe037},  {100, 0xe038}, {102, 0xe047}, {103, 0xe048},
      {104, 0xe049}, {105, 0xe04b}, {106, 0xe04d}, {107, 0xe04f}, {108, 0xe050}, {109, 0xe051}, {110, 0xe052},
      {111, 0xe053}, {119, 0xe046}, {125, 0xe05b}, {126, 0xe05c}, {127, 0xe05d}};
  if (code >= 1 && code <= 88) return code;
  const auto found = extended.find(code);
  return found == extended.end() ? 0 : found->second;
}

/// On X11 and Wayland native codes are evdev codes plus eight, and native virtual keys are keysyms.
bool hasNativeKeysyms() {
  static const QString platform = QGuiApplication::platformName();
  return platform == "xcb" || platform.startsWith("wayland");
}

std::uint32_t keysymFromQt(const QKeyEvent& event) {
  static const std::map<int, std::uint32_t> named{{Qt::Key_Escape, keysym::kEscape},
                                                  {Qt::Key_Tab, keysym::kTab},
                                                  {Qt::Key_Backtab, keysym::kTab},
                                                  {Qt::Key_Backspace, keysym::kBackspace},
                                                  {Qt::Key_Return, keysym::kReturn},
                                                  {Qt::Key_Enter, keysym::kReturn},
                                                  {Qt::Key_Insert, keysym::kInsert},
                                                  {Qt::Key_Delete, keysym::kDelete},
                                                  {Qt::Key_Pause, keysym::kPause},
                                                  {Qt::Key_Print, keysym::kPrint},
                                                  {Qt::Key_Home, keysym::kHome},
                                                  {Qt::Key_End, keysym::kEnd},
                                                  {Qt::Key_Left, keysym::kLeft},
                                                  {Qt::Key_Up, keysym::kUp},
                                                  {Qt::Key_Right, keysym::kRight},
                                                  {Qt::Key_Down, keysym::kDown},
                                                  {Qt::Key_PageUp, keysym::kPageUp},
                                                  {Qt::Key_PageDown, keysym::kPageDown},
                                                  {Qt::Key_CapsLock, keysym::kCapsLock},
                                                  {Qt::Key_NumLock, keysym::kNumLock},
                                                  {Qt::Key_ScrollLock, keysym::kScrollLock},
                                                  {Qt::Key_Menu, keysym::kMenu},
                                                  {Qt::Key_AltGr, keysym::kAltGr},
                                                  {Qt::Key_Super_L, keysym::kSuperLeft},
                                                  {Qt::Key_Super_R, keysym::kSuperRight},
                                                  {Qt::Key_Meta, keysym::kSuperLeft}};
  const bool right = isRightHand(event);
  switch (event.key()) {
    case Qt::Key_Shift: return right ? keysym::kShiftRight : keysym::kShiftLeft;
    case Qt::Key_Control: return right ? keysym::kControlRight : keysym::kControlLeft;
    case Qt::Key_Alt: return right ? keysym::kAltRight : keysym::kAltLeft;
    default: break;
  }
  if (const auto found = named.find(event.key()); found != named.end()) return found->second;
  if (event.key() >= Qt::Key_F1 && event.key() <= Qt::Key_F24)
    return keysym::kF1 + static_cast<std::uint32_t>(event.key() - Qt::Key_F1);
  const QString text = event.text();
  if (!text.isEmpty() && text.at(0).unicode() >= 0x20 && text.at(0).unicode() != 0x7f) {
    const auto codePoints = text.toUcs4();
    return keysymOf(codePoints.at(0));
  }
  // With Ctrl held there is no text; the key itself names the character.
  if (event.key() >= 0x20 && event.key() <= 0x7e) {
    const auto c = static_cast<std::uint32_t>(event.key());
    return c >= 'A' && c <= 'Z' && !(event.modifiers() & Qt::ShiftModifier) ? c + 32 : c;
  }
  return 0;
}

}  // namespace

bool isRightHand(const QKeyEvent& event) {
  switch (event.nativeScanCode()) {
    case 62:   // right Shift
    case 105:  // right Ctrl
    case 108:  // right Alt
      return true;
    default: return false;
  }
}

KeyStroke keyStrokeOf(const QKeyEvent& event) {
  const auto native = static_cast<std::uint32_t>(event.nativeScanCode());
  KeyStroke stroke;
  stroke.keysym = hasNativeKeysyms() ? event.nativeVirtualKey() : keysymFromQt(event);
  if (stroke.keysym == 0) stroke.keysym = keysymFromQt(event);
  stroke.scanCode = native > 8 ? scanCodeFromEvdev(native - 8) : scanCodeOf(stroke.keysym);
  return stroke;
}

}  // namespace kw::desktop
