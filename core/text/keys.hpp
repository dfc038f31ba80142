// What keys and the mouse send (xterm's control sequences, PC-style function keys).
#pragma once
#include <string>

namespace kw::text {

/// Keys that are not characters; F2 is F1 + 1.
enum class TextKey {
  Enter,
  Tab,
  Backspace,
  Escape,
  Up,
  Down,
  Left,
  Right,
  Insert,
  Delete,
  Home,
  End,
  PageUp,
  PageDown,
  F1 = 100
};
struct Modifiers {
  bool shift = false, alt = false, ctrl = false;
};

enum class MouseWish { None, Press, Click, Drag, Move };
enum class MouseForm { Classic, Sgr, Urxvt };

/// Modes that the program over there set and that change what is sent.
struct InputModes {
  bool cursorKeys = false;  ///< DECCKM
  bool keypad = false;      ///< DECKPAM
  bool vt52 = false;        ///< DECANM put back: arrows and PF keys as a VT52 sends them
  bool newLine = false;     ///< LNM
  bool brackets = false;    ///< paste in brackets, mode 2004
  bool focus = false;       ///< mode 1004
  bool wheelKeys = true;    ///< mode 1007: on the other screen the wheel is arrow keys
  MouseWish mouse = MouseWish::None;
  MouseForm form = MouseForm::Classic;
};

std::string bytesOfKey(TextKey key, Modifiers with, const InputModes& modes);
/// UTF-8 or a control character.
std::string bytesOfCharacter(char32_t point, Modifiers with);

struct MouseEvent {
  enum class Kind { Press, Release, Move } kind = Kind::Press;
  int row = 0, column = 0;
  int button = 1;  ///< 1 left, 2 middle, 3 right, 4 and 5 wheel; 0: a move with no button
};
/// Empty when the program did not ask for this.
std::string bytesOfMouse(const MouseEvent& event, Modifiers with, const InputModes& modes);

}  // namespace kw::text
