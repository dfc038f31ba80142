// Functions of the terminal one by one, as ECMA-48 and the VT100/VT220 manuals describe them.
#include <catch2/catch.hpp>

#include "tests/support.hpp"
#include "text/terminal.hpp"

using namespace kw;
using namespace kw::text;

namespace {

/// The screen after some bytes, rows joined by |, trailing blanks and empty rows left out.
std::string after(const std::string& bytes, int rows = 5, int columns = 10) {
  Terminal t(rows, columns);
  t.feed(viewOf(bytes));
  std::string text = t.screenText();
  while (!text.empty() && text.back() == '\n') text.pop_back();
  for (char& c : text)
    if (c == '\n') c = '|';
  return text;
}

Cell firstCell(const std::string& bytes) {
  Terminal t(3, 20);
  t.feed(viewOf(bytes));
  return t.screen().rows[0].cells[0];
}

std::string answerTo(const std::string& bytes) {
  Terminal t(24, 80);
  std::string out;
  t.onAnswer = [&](const std::string& s) { out += s; };
  t.feed(viewOf(bytes));
  return out;
}

}  // namespace

TEST_CASE("moving the cursor: CUU CUD CUF CUB CNL CPL CHA VPA CUP HPR", "[emulator]") {
  CHECK(after("\x1b[3;4HX") == "||   X");
  CHECK(after("\x1b[3;4H\x1b[2AX") == "   X");
  CHECK(after("\x1b[2BX\x1b[2DY") == "||Y");
  CHECK(after("ab\x1b[3CX") == "ab   X");
  CHECK(after("ab\x1b[EX") == "ab|X");
  CHECK(after("\x1b[3;3H\x1b[2FX") == "X");
  CHECK(after("abc\x1b[5GX") == "abc X");
  CHECK(after("abc\x1b[2dX") == "abc|   X");
  CHECK(after("a\x1b[2aX") == "a  X");
  CHECK(after("\x1b[99;99HX") == "||||         X");  // never outside
  CHECK(after("\x1b[0;0HX") == "X");
}

TEST_CASE("erasing: ED EL ECH, and what they leave", "[emulator]") {
  const std::string full = "aaaaa\r\nbbbbb\r\nccccc\x1b[2;3H";
  CHECK(after(full + "\x1b[J") == "aaaaa|bb");
  CHECK(after(full + "\x1b[1J") == "|   bb|ccccc");
  CHECK(after(full + "\x1b[2J") == "");
  CHECK(after(full + "\x1b[K") == "aaaaa|bb|ccccc");
  CHECK(after(full + "\x1b[1K") == "aaaaa|   bb|ccccc");
  CHECK(after(full + "\x1b[2K") == "aaaaa||ccccc");
  CHECK(after(full + "\x1b[2X") == "aaaaa|bb  b|ccccc");
}

TEST_CASE("erased places take the ground in force", "[emulator]") {
  Terminal t(2, 4);
  t.feed(viewOf("\x1b[44m\x1b[2J"));
  CHECK(t.screen().rows[1].cells[3].bg == indexedColour(4));
}

TEST_CASE("inserting and deleting: ICH DCH IL DL, insert mode", "[emulator]") {
  CHECK(after("abcdef\x1b[3G\x1b[2@") == "ab  cdef");
  CHECK(after("abcdef\x1b[3G\x1b[2P") == "abef");
  CHECK(after("a\r\nb\r\nc\x1b[2;1H\x1b[L") == "a||b|c");
  CHECK(after("a\r\nb\r\nc\x1b[2;1H\x1b[M") == "a|c");
  CHECK(after("abc\x1b[4h\x1b[2GXY\x1b[4lZ") == "aXYZc");
  CHECK(after("abcdefghij\x1b[1G\x1b[99@") == "");
}

TEST_CASE("scrolling regions keep what is outside", "[emulator]") {
  CHECK(after("1\r\n2\r\n3\r\n4\r\n5\x1b[2;4r\x1b[4;1H\n") == "1|3|4||5");
  CHECK(after("1\r\n2\r\n3\r\n4\r\n5\x1b[2;4r\x1b[2;1H\x1bM") == "1||2|3|5");
  CHECK(after("1\r\n2\r\n3\r\n4\r\n5\x1b[2;4r\x1b[S") == "1|3|4||5");
  CHECK(after("1\r\n2\r\n3\r\n4\r\n5\x1b[2;4r\x1b[T") == "1||2|3|5");
  CHECK(after("1\r\n2\r\n3\x1b[4;2rX") == "1|2|3X");  // margins the wrong way round do nothing
  CHECK(after("\x1b[2;4r\x1b[?6h\x1b[1;1HX\x1b[9;1HY") == "|X||Y");
}

TEST_CASE("rows above a fixed bottom are history, too", "[emulator]") {
  Terminal t(3, 10);
  t.feed(viewOf("\x1b[1;2r1\r\n2\r\n3\r\n4"));
  CHECK(t.scrollbackRows() == 2);
}

TEST_CASE("tabs: every eighth column, set, cleared, backwards", "[emulator]") {
  CHECK(after("\tX", 2, 20) == "        X");
  CHECK(after("\x1b[3g\x1b[4G\x1bH\r\tX", 2, 20) == "   X");
  CHECK(after("\x1b[12G\x1b[ZX", 2, 20) == "        X");
  CHECK(after("\x1b[2IX", 2, 20) == "                X");
  CHECK(after("\t\t\t\t\tX", 2, 20) == "                   X");
}

TEST_CASE("the last column: waits to wrap, or is written over", "[emulator]") {
  CHECK(after("1234567890X") == "1234567890|X");
  CHECK(after("1234567890\rX") == "X234567890");
  CHECK(after("\x1b[?7l1234567890XYZ") == "123456789Z");
  CHECK(after("123456789温") == "123456789|温");
  CHECK(after("1234567890\b\bX") == "1234567X90");
}

TEST_CASE("REP repeats, DECALN fills, RIS begins anew", "[emulator]") {
  CHECK(after("ab\x1b[3b") == "abbbb");
  CHECK(after("x\x1b#8", 2, 4) == "EEEE|EEEE");
  CHECK(after("\x1b[31mabc\x1b[?6h\x1b"
              "cX") == "X");
}

TEST_CASE("line drawing by G0 and by shifting to G1", "[emulator]") {
  CHECK(after("\x1b(0lqk\x1b(Bq") == "┌─┐q");
  CHECK(after("\x1b)0a\x0ex\x0fx") == "a│x");
}

TEST_CASE("looks: each attribute on and off", "[emulator]") {
  const auto [on, off, bit] =
      GENERATE(table<const char*, const char*, int>({{"1", "22", attr::kBold},
                                                     {"2", "22", attr::kFaint},
                                                     {"3", "23", attr::kItalic},
                                                     {"4", "24", attr::kUnderline},
                                                     {"21", "24", attr::kDoubleUnderline},
                                                     {"4:3", "4:0", attr::kCurlyUnderline},
                                                     {"5", "25", attr::kBlink},
                                                     {"7", "27", attr::kReverse},
                                                     {"8", "28", attr::kHidden},
                                                     {"9", "29", attr::kStrike}}));
  CHECK(firstCell(std::string("\x1b[") + on + "mX").attrs == bit);
  CHECK(firstCell(std::string("\x1b[") + on + "m\x1b[" + off + "mX").attrs == 0);
  CHECK(firstCell(std::string("\x1b[") + on + "m\x1b[mX").attrs == 0);
}

TEST_CASE("colours in all their forms", "[emulator]") {
  CHECK(firstCell("\x1b[95mX").fg == indexedColour(13));
  CHECK(firstCell("\x1b[103mX").bg == indexedColour(11));
  CHECK(firstCell("\x1b[38;2;1;2;3;1mX").fg == trueColour(1, 2, 3));
  CHECK(firstCell("\x1b[38;2;1;2;3;1mX").attrs == attr::kBold);
  CHECK(firstCell("\x1b[38:2:1:2:3mX").fg == trueColour(1, 2, 3));
  CHECK(firstCell("\x1b[38:2::1:2:3mX").fg == trueColour(1, 2, 3));  // with an empty colour space
  CHECK(firstCell("\x1b[48:5:200;3mX").bg == indexedColour(200));
  CHECK(firstCell("\x1b[48:5:200;3mX").attrs == attr::kItalic);
  CHECK(firstCell("\x1b[31m\x1b[39mX").fg == kOwnColour);
  CHECK(firstCell("\x1b[58;5;1;4mX").attrs == attr::kUnderline);  // a colour for underlines is read over
  CHECK(firstCell("\x1b[38mX").fg == kOwnColour);
}

TEST_CASE("reports: what it is, where the cursor is, which modes are set", "[emulator]") {
  CHECK(answerTo("\x1b[c") == "\x1b[?62;22c");
  CHECK(answerTo("\x1b[>c") == "\x1b[>1;10;0c");
  CHECK(answerTo("\x1b[5n") == "\x1b[0n");
  CHECK(answerTo("\x1b[3;7H\x1b[6n") == "\x1b[3;7R");
  CHECK(answerTo("\x1b[5;10r\x1b[?6h\x1b[2;1H\x1b[6n") == "\x1b[2;1R");
  CHECK(answerTo("\x1b[?2004h\x1b[?2004$p") == "\x1b[?2004;1$y");
  CHECK(answerTo("\x1b[?2004$p") == "\x1b[?2004;2$y");
  CHECK(answerTo("\x1b[?4711$p") == "\x1b[?4711;0$y");
  CHECK(answerTo("\x1b[18t") == "\x1b[8;24;80t");
  CHECK(answerTo("\x1b]52;c;?\x07").empty());  // nobody reads the clipboard
  CHECK(answerTo("\x1b[21t").empty());         // nor the title, which a program could have set to a command
}

TEST_CASE("saving the cursor keeps place and look, on each screen its own", "[emulator]") {
  CHECK(after("ab\x1b"
              "7\x1b[4;4Hx\x1b"
              "8c") == "abc|||   x");
  Terminal t(3, 10);
  t.feed(viewOf("\x1b[31mab\x1b[?1049h\x1b[32mother\x1b[?1049lc"));
  const auto cells = t.screen().rows[0].cells;
  CHECK(cells[2].ch == 'c');
  CHECK(cells[2].fg == indexedColour(1));
  CHECK(after("ab\x1b[s\x1b[3;3Hx\x1b[uc") == "abc||  x");
}

TEST_CASE("the other screen has no history of its own", "[emulator]") {
  Terminal t(3, 10);
  t.feed(viewOf("\x1b[?1049h1\r\n2\r\n3\r\n4\r\n5\r\n"));
  CHECK(t.scrollbackRows() == 0);
  CHECK(t.screen().oldestRow == t.screen().screenTop);
}

TEST_CASE("cursor: hidden, shown, of other shapes", "[emulator]") {
  Terminal t(3, 10);
  t.feed(viewOf("\x1b[?25l\x1b[5 q"));
  CHECK_FALSE(t.screen().cursorVisible);
  CHECK(t.screen().cursorShape == CursorShape::Bar);
  t.feed(viewOf("\x1b[?25h\x1b[4 q"));
  CHECK(t.screen().cursorVisible);
  CHECK(t.screen().cursorShape == CursorShape::Underline);
  t.feed(viewOf("\x1b[!p\x1b[0 q"));
  CHECK(t.screen().cursorShape == CursorShape::Block);
}

TEST_CASE("strings that concern nobody are swallowed, endless ones are given up", "[emulator]") {
  CHECK(after("a\x1bPq#0;2;0;0;0\x1b\\b") == "ab");
  CHECK(after("a\x1b_secret\x1b\\b\x1b^x\x1b\\c") == "abc");
  CHECK(after("a\x1b]0;never ended" + std::string(10'000, ' ') + "\x1b[2J\x1b[Hb") == "b");
  CHECK(after("a\x1b[1;2;3;4;5;6;7;8;9;10;11;12;13;14;15;16;17;18;19;20;21;22;23;24;25;26;27;28;29;30;31;32;"
              "33;34;35mb") == "ab");
  CHECK(after("a\x1b[99999999999999999999Cb") == "a        b");
}

TEST_CASE("broken UTF-8 shows its mark and loses nothing after it", "[emulator]") {
  CHECK(after("a\xC3(b") == "a\uFFFD(b");
  CHECK(after("a\xE2\x82z") == "a\uFFFDz");
  CHECK(after("\xFF\xFEx") == "\uFFFD\uFFFDx");
  CHECK(after("\xED\xA0\x80x") == "\uFFFDx");  // half of a surrogate pair
}

TEST_CASE("Latin-1 and line feeds that return", "[emulator]") {
  TerminalOptions o;
  o.charset = Charset::Latin1;
  o.newlineReturns = true;
  Terminal t(3, 10, o);
  std::string sent;
  t.onOutput = [&](const std::string& s) { sent += s; };
  t.feed(
      viewOf("Gr\xF6\xDF"
             "e\nx"));
  CHECK(t.screenText() == "Größe\nx\n\n");
  t.character(U'ü', {});
  CHECK(sent == "\xFC");
  CHECK(t.pasteBytes("ö") == "\xF6");
}

TEST_CASE("keys with modifiers, as xterm sends them", "[emulator]") {
  const InputModes usual;
  CHECK(bytesOfKey(TextKey::Up, {.ctrl = true}, usual) == "\x1b[1;5A");
  CHECK(bytesOfKey(TextKey::Delete, {.shift = true}, usual) == "\x1b[3;2~");
  CHECK(bytesOfKey(static_cast<TextKey>(static_cast<int>(TextKey::F1) + 4), {}, usual) == "\x1b[15~");
  CHECK(bytesOfKey(static_cast<TextKey>(static_cast<int>(TextKey::F1) + 11), {.alt = true}, usual) ==
        "\x1b[24;3~");
  CHECK(bytesOfKey(TextKey::F1, {.shift = true}, usual) == "\x1b[1;2P");
  CHECK(bytesOfKey(TextKey::Tab, {.shift = true}, usual) == "\x1b[Z");
  CHECK(bytesOfKey(TextKey::Backspace, {.ctrl = true}, usual) == "\b");
  CHECK(bytesOfKey(TextKey::Enter, {.alt = true}, usual) == "\x1b\r");
  CHECK(bytesOfCharacter('a', {.alt = true}) ==
        "\x1b"
        "a");
  CHECK(bytesOfCharacter(' ', {.ctrl = true}) == std::string(1, '\0'));
  CHECK(bytesOfCharacter('[', {.ctrl = true}) == "\x1b");
  CHECK(bytesOfCharacter(U'é', {}) == "é");
}

TEST_CASE("the mouse in every form and wish", "[emulator]") {
  InputModes m;
  const MouseEvent press{MouseEvent::Kind::Press, 4, 9, 1}, release{MouseEvent::Kind::Release, 4, 9, 1},
      drag{MouseEvent::Kind::Move, 4, 9, 1}, move{MouseEvent::Kind::Move, 4, 9, 0},
      wheel{MouseEvent::Kind::Press, 4, 9, 5};
  CHECK(bytesOfMouse(press, {}, m).empty());
  m.mouse = MouseWish::Press;
  CHECK(bytesOfMouse(press, {}, m) == "\x1b[M *%");
  CHECK(bytesOfMouse(release, {}, m).empty());
  m.mouse = MouseWish::Click;
  CHECK(bytesOfMouse(release, {}, m) == "\x1b[M#*%");
  CHECK(bytesOfMouse(drag, {}, m).empty());
  m.mouse = MouseWish::Drag;
  CHECK_FALSE(bytesOfMouse(drag, {}, m).empty());
  CHECK(bytesOfMouse(move, {}, m).empty());
  m.mouse = MouseWish::Move;
  m.form = MouseForm::Sgr;
  CHECK(bytesOfMouse(move, {}, m) == "\x1b[<35;10;5M");
  CHECK(bytesOfMouse(drag, {}, m) == "\x1b[<32;10;5M");
  CHECK(bytesOfMouse(wheel, {.ctrl = true}, m) == "\x1b[<81;10;5M");
  CHECK(bytesOfMouse(release, {}, m) == "\x1b[<0;10;5m");
  m.form = MouseForm::Urxvt;
  CHECK(bytesOfMouse(press, {}, m) == "\x1b[32;10;5M");
  m.form = MouseForm::Classic;
  CHECK(bytesOfMouse({MouseEvent::Kind::Press, 4, 300, 1}, {}, m).empty());  // too far for the classic form
}
