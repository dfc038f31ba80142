// Modes, looks (SGR), reports and operating system commands.
#include "text/emulator.hpp"

namespace kw::text {

void Emulator::setModes(const ControlSequence& s, bool on) {
  for (int i = 0; i < s.count; ++i) {
    const int mode = s.at(i, 0);
    if (s.prefix == '?')
      setPrivateMode(mode, on);
    else if (mode == 4)
      insert_ = on;
    else if (mode == 20)
      newLine_ = input.newLine = on;
  }
}

void Emulator::setPrivateMode(int mode, bool on) {
  const auto wish = [&](MouseWish w) { input.mouse = on ? w : MouseWish::None; };
  const auto form = [&](MouseForm f) { input.form = on ? f : MouseForm::Classic; };
  switch (mode) {
    case 1: input.cursorKeys = on; break;
    case 2:  // DECANM
      parser_.setVt52(!on);
      input.vt52 = !on;
      break;
    case 3:  // DECCOLM
      setWide(on);
      resetMargins();
      moveTo(0, 0);
      eraseDisplay(2);
      break;
    case 5: reverse = on; break;
    case 6:
      at_.origin = on;
      moveTo(0, 0);
      break;
    case 7:
      autoWrap_ = on;
      at_.wrapNext = false;
      break;
    case 9: wish(MouseWish::Press); break;
    case 25: cursorShown = on; break;
    case 66: input.keypad = on; break;
    case 47: showOther(on, false, false); break;
    case 1047: showOther(on, !on, false); break;
    case 1048: escape(0, on ? '7' : '8'); break;
    case 1049: showOther(on, on, true); break;
    case 69: setSideMode(on); break;
    case 1000: wish(MouseWish::Click); break;
    case 1002: wish(MouseWish::Drag); break;
    case 1003: wish(MouseWish::Move); break;
    case 1004: input.focus = on; break;
    case 1006: form(MouseForm::Sgr); break;
    case 1007: input.wheelKeys = on; break;
    case 1015: form(MouseForm::Urxvt); break;
    case 2004: input.brackets = on; break;
    default: break;
  }
}

void Emulator::setSideMode(bool on) {  // DECLRMM
  left_ = 0;
  right_ = columns();
  sideMargins_ = on;
  if (on)
    for (int r = 0; r < rows(); ++r) grid().setSize(r, RowSize::Normal);
}

/// 132 columns, or again as many as the window has. The screen is erased with it, so nothing is broken anew.
void Emulator::setWide(bool on) {
  constexpr int kWide = 132;
  const int wanted = on ? kWide : ownColumns_;
  if (wanted == columns()) return;
  Place unused{};
  for (Grid* g : {&main_, &other_}) g->resize(rows(), wanted, nullptr, unused);
  const std::size_t before = stops_.size();
  stops_.resize(static_cast<std::size_t>(wanted));
  for (std::size_t c = before; c < stops_.size(); ++c) stops_[c] = c % 8 == 0;
  at_.column = std::min(at_.column, wanted - 1);
  resetMargins();
}

void Emulator::showOther(bool on, bool clear, bool keepCursor) {
  if (on && keepCursor && !alternate) saved_ = at_;
  const bool changes = on != alternate;
  if (clear && !on && alternate)
    for (int r = 0; r < rows(); ++r) other_.fill(r, 0, columns(), Cell{});
  alternate = on;
  if (clear && on && changes)
    for (int r = 0; r < rows(); ++r) other_.fill(r, 0, columns(), blank());
  if (!on && keepCursor && changes) {
    at_ = saved_;
    restoreCursor();
  }
  resetMargins();
}

int Emulator::modeState(int mode) const {
  const auto state = [](bool on) { return on ? 1 : 2; };
  switch (mode) {
    case 1: return state(input.cursorKeys);
    case 3: return state(columns() != ownColumns_);
    case 5: return state(reverse);
    case 6: return state(at_.origin);
    case 7: return state(autoWrap_);
    case 25: return state(cursorShown);
    case 47:
    case 1047:
    case 1049: return state(alternate);
    case 69: return state(sideMargins_);
    case 1000: return state(input.mouse == MouseWish::Click);
    case 1002: return state(input.mouse == MouseWish::Drag);
    case 1003: return state(input.mouse == MouseWish::Move);
    case 1004: return state(input.focus);
    case 1006: return state(input.form == MouseForm::Sgr);
    case 2004: return state(input.brackets);
    default: return 0;
  }
}

void Emulator::reportMode(const ControlSequence& s) {  // DECRQM
  const int mode = s.at(0, 0);
  int state = 0;
  if (s.prefix == '?')
    state = modeState(mode);
  else if (mode == 4)
    state = insert_ ? 1 : 2;
  else if (mode == 20)
    state = newLine_ ? 1 : 2;
  answers += "\x1b[" + std::string(s.prefix == '?' ? "?" : "") + std::to_string(mode) + ";" +
             std::to_string(state) + "$y";
}

void Emulator::deviceStatus(const ControlSequence& s) {  // DSR
  if (s.at(0, 0) == 5) answers += "\x1b[0n";
  if (s.at(0, 0) != 6) return;
  const int row = at_.row - (at_.origin ? top_ : 0) + 1;
  answers += std::string("\x1b[") + (s.prefix == '?' ? "?" : "") + std::to_string(row) + ";" +
             std::to_string(at_.column - (at_.origin ? left_ : 0) + 1) + "R";
}

void Emulator::softReset() {  // DECSTR
  insert_ = false;
  at_.origin = false;
  autoWrap_ = cursorShown = true;
  resetMargins();
  input.cursorKeys = input.keypad = false;
  at_.pen = Cell{};
  at_.sets[0] = at_.sets[1] = 'B';
  at_.shift = 0;
  saved_ = Cursor();
}

namespace {

/// After 38 or 48: 5 ; index, or 2 ; r ; g ; b, with semicolons or colons (then a colour space may stand
/// before r). Moves `i` to the last value used.
Colour extendedColour(const ControlSequence& s, int& i, Colour otherwise) {
  const bool colons = i + 1 < s.count && s.sub[static_cast<std::size_t>(i + 1)];
  int end = i + 1;
  if (colons)
    while (end < s.count && s.sub[static_cast<std::size_t>(end)]) ++end;
  else
    end = s.count;
  const int kind = i + 1 < end ? s.at(i + 1, 0) : 0;
  const auto value = [&](int k) {
    return static_cast<unsigned>(std::clamp(k < end ? s.at(k, 0) : 0, 0, 255));
  };
  Colour colour = otherwise;
  int used = i + 1;
  if (kind == 5) {
    colour = indexedColour(value(i + 2));
    used = i + 2;
  } else if (kind == 2) {
    const int first = colons && end - i >= 6 ? i + 3 : i + 2;
    colour = trueColour(value(first), value(first + 1), value(first + 2));
    used = first + 2;
  }
  i = colons ? end - 1 : std::min(used, s.count - 1);
  return colour;
}

}  // namespace

void Emulator::selectLook(const ControlSequence& s) {  // SGR
  Cell& pen = at_.pen;
  const auto set = [&pen](unsigned bits) { pen.attrs = static_cast<std::uint16_t>(pen.attrs | bits); };
  const auto unset = [&pen](unsigned bits) { pen.attrs = static_cast<std::uint16_t>(pen.attrs & ~bits); };
  constexpr unsigned kAnyUnderline = attr::kUnderline | attr::kDoubleUnderline | attr::kCurlyUnderline;
  if (s.count == 0) {
    pen = Cell{.link = pen.link};
    return;
  }
  for (int i = 0; i < s.count; ++i) {
    const int v = s.at(i, 0);
    if (v >= 30 && v <= 37)
      pen.fg = indexedColour(static_cast<unsigned>(v - 30));
    else if (v >= 40 && v <= 47)
      pen.bg = indexedColour(static_cast<unsigned>(v - 40));
    else if (v >= 90 && v <= 97)
      pen.fg = indexedColour(static_cast<unsigned>(v - 82));
    else if (v >= 100 && v <= 107)
      pen.bg = indexedColour(static_cast<unsigned>(v - 92));
    else
      switch (v) {
        case 0: pen = Cell{.link = pen.link}; break;
        case 1: set(attr::kBold); break;
        case 2: set(attr::kFaint); break;
        case 3: set(attr::kItalic); break;
        case 4: {
          const bool sub = i + 1 < s.count && s.sub[static_cast<std::size_t>(i + 1)];
          const int style = sub ? s.at(++i, 0) : 1;
          unset(kAnyUnderline);
          if (style > 0)
            set(style == 2 ? attr::kDoubleUnderline : style == 3 ? attr::kCurlyUnderline : attr::kUnderline);
          break;
        }
        case 5:
        case 6: set(attr::kBlink); break;
        case 7: set(attr::kReverse); break;
        case 8: set(attr::kHidden); break;
        case 9: set(attr::kStrike); break;
        case 21:
          unset(kAnyUnderline);
          set(attr::kDoubleUnderline);
          break;
        case 22: unset(attr::kBold | attr::kFaint); break;
        case 23: unset(attr::kItalic); break;
        case 24: unset(kAnyUnderline); break;
        case 25: unset(attr::kBlink); break;
        case 27: unset(attr::kReverse); break;
        case 28: unset(attr::kHidden); break;
        case 29: unset(attr::kStrike); break;
        case 38: pen.fg = extendedColour(s, i, pen.fg); break;
        case 39: pen.fg = kOwnColour; break;
        case 48: pen.bg = extendedColour(s, i, pen.bg); break;
        case 49: pen.bg = kOwnColour; break;
        case 58: extendedColour(s, i, 0); break;
        default: break;
      }
  }
}

void Emulator::command(const std::string& osc) {
  const std::size_t semicolon = osc.find(';');
  if (semicolon == std::string::npos) return;
  const std::string number = osc.substr(0, semicolon), rest = osc.substr(semicolon + 1);
  if (number == "0" || number == "2") {
    title = cleanUtf8(rest.substr(0, 256));
    titled = true;
  } else if (number == "8") {  // 8 ; parameters ; target
    const std::size_t second = rest.find(';');
    if (second != std::string::npos) at_.pen.link = links.intern(rest.substr(second + 1));
  }
}

}  // namespace kw::text
