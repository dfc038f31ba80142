#include <catch2/catch.hpp>

#include "base/file.hpp"
#include "tests/support.hpp"
#include "text/terminal.hpp"

using namespace kw;
using namespace kw::text;

namespace {

void feed(Terminal& t, const std::string& s) {
  t.feed(ByteView(reinterpret_cast<const Byte*>(s.data()), s.size()));
}

std::string rowText(const Terminal& t, int row) {
  const TextView v = t.screen();
  std::string out;
  for (const Cell& c : v.rows.at(static_cast<std::size_t>(row)).cells)
    if (!(c.attrs & attr::kWideTail)) out += c.ch == 0 ? " " : t.pointsOf(c.ch);
  while (!out.empty() && out.back() == ' ') out.pop_back();
  return out;
}

}  // namespace

TEST_CASE("text lands on the screen, cut at the last column and wrapped", "[terminal]") {
  Terminal t(4, 10);
  feed(t, "mist\r\nbench-of-zones\r\n");
  CHECK(rowText(t, 0) == "mist");
  CHECK(rowText(t, 1) == "bench-of-z");
  CHECK(rowText(t, 2) == "ones");
  const TextView v = t.screen();
  CHECK_FALSE(v.rows[0].wrapped);
  CHECK(v.rows[1].wrapped);
  CHECK_FALSE(v.rows[2].wrapped);
  CHECK(t.textIn({v.screenTop, v.screenTop + 2, 0, 9, false}) == "mist\nbench-of-zones");
}

TEST_CASE("a line end exactly in the last column is not a wrap", "[terminal]") {
  Terminal t(4, 5);
  feed(t, "abcde\r\nfghij\r\n");
  CHECK_FALSE(t.screen().rows[0].wrapped);
  CHECK(t.textIn({t.screen().screenTop, t.screen().screenTop + 1, 0, 4, false}) == "abcde\nfghij");
}

TEST_CASE("rows that leave the top are kept and come back when the screen grows", "[terminal]") {
  Terminal t(3, 20);
  for (int i = 0; i < 10; ++i) feed(t, "line " + std::to_string(i) + "\r\n");
  CHECK(t.scrollbackRows() == 8);
  CHECK(rowText(t, 0) == "line 8");
  t.resize(6, 20);
  CHECK(rowText(t, 0) == "line 5");
  CHECK(t.scrollbackRows() == 5);
  CHECK(t.cursor() == Place{5, 0});
}

TEST_CASE("narrowing breaks lines anew and widening joins them again, cursor on its character",
          "[terminal]") {
  Terminal t(5, 20);
  feed(t, "the propagation bench of palm house one\r\n$ ls");
  const std::string before = t.screenText();
  t.resize(5, 7);
  CHECK(rowText(t, 4) == "$ ls");
  CHECK(t.cursor() == Place{4, 4});
  CHECK(t.scrollbackRows() > 0);
  t.resize(5, 20);
  CHECK(t.screenText() == before);
  CHECK(t.cursor() == Place{2, 4});
  CHECK(t.scrollbackRows() == 0);
}

TEST_CASE("the other screen leaves the first one as it was", "[terminal]") {
  Terminal t(4, 20);
  feed(t, "shell $ vi\x1b[?1049h\x1b[2J\x1b[Hfull screen");
  CHECK(rowText(t, 0) == "full screen");
  CHECK(t.screen().alternate);
  feed(t, "\x1b[?1049l");
  CHECK(rowText(t, 0) == "shell $ vi");
}

TEST_CASE("colours and attributes are kept as they were named", "[terminal]") {
  Terminal t(2, 20);
  feed(t, "\x1b[1;31mA\x1b[0;38;5;200mB\x1b[48;2;1;2;3mC\x1b[0mD");
  const auto cells = t.screen().rows[0].cells;
  CHECK(cells[0].fg == indexedColour(1));
  CHECK(cells[0].attrs == attr::kBold);
  CHECK(cells[1].fg == indexedColour(200));
  CHECK(cells[2].bg == trueColour(1, 2, 3));
  CHECK(cells[3].plain());
  const std::int64_t top = t.screen().screenTop;
  CHECK(t.ansiIn({top, top, 0, 19, false}) ==
        "\x1b[0;1;38;5;1mA\x1b[0;38;5;200mB\x1b[0;38;5;200;48;2;1;2;3mC\x1b[0mD");
}

TEST_CASE("wide and combined characters take the room they need", "[terminal]") {
  Terminal t(2, 10);
  feed(t, "温室e\xCC\x81\xF0\x9F\x8C\xB1!");
  const auto cells = t.screen().rows[0].cells;
  CHECK((cells[1].attrs & attr::kWideTail) != 0);
  CHECK(cells[4].ch >= kClusterBit);
  CHECK(t.pointsOf(cells[4].ch) == "e\xCC\x81");
  CHECK(rowText(t, 0) == "温室e\xCC\x81\xF0\x9F\x8C\xB1!");
  feed(t, "\r\x1b[C*");  // over the right half of the first
  CHECK(rowText(t, 0) == " *室e\xCC\x81\xF0\x9F\x8C\xB1!");
}

TEST_CASE("titles and links come through however the bytes are cut", "[terminal]") {
  const std::string bytes = "\x1b]2;zone panel\x07x\x1b]8;;https://192.0.2.7/" + std::string(200, 'a') +
                            "\x1b\\link\x1b]8;;\x1b\\ plain";
  for (std::size_t step : {std::size_t{1}, std::size_t{3}, bytes.size()}) {
    Terminal t(2, 40);
    std::string title;
    t.onTitle = [&](const std::string& s) { title = s; };
    for (std::size_t at = 0; at < bytes.size(); at += step) feed(t, bytes.substr(at, step));
    CHECK(title == "zone panel");
    CHECK(rowText(t, 0) == "xlink plain");
    const auto cells = t.screen().rows[0].cells;
    CHECK(t.linkTarget(cells[1].link) == "https://192.0.2.7/" + std::string(200, 'a'));
    CHECK(cells[6].link == 0);
  }
}

TEST_CASE("keys become what programs expect", "[terminal]") {
  Terminal t;
  std::string out;
  t.onOutput = t.onAnswer = [&](const std::string& s) { out += s; };
  t.key(TextKey::Up, {});
  t.key(TextKey::F1, {});
  t.character('c', {.ctrl = true});
  t.key(TextKey::Enter, {});
  t.key(TextKey::Backspace, {});
  CHECK(out == "\x1b[A\x1bOP\x03\r\x7f");
  out.clear();
  feed(t, "\x1b[?1h\x1b[c");
  t.key(TextKey::Up, {});
  CHECK(out == "\x1b[?62;22c\x1bOA");
  TerminalOptions o;
  o.enter = EnterSends::CrLf;
  o.backspace = BackspaceSends::Backspace;
  t.setOptions(o);
  out.clear();
  t.key(TextKey::Enter, {});
  t.key(TextKey::Backspace, {});
  CHECK(out == "\r\n\b");
}

TEST_CASE("a paste is put in brackets only when asked for, and carries no escapes", "[terminal]") {
  Terminal t;
  CHECK(t.pasteBytes("a\nb\x1b[c\r\n") == "a\rb[c\r");
  feed(t, "\x1b[?2004h");
  CHECK(t.pasteBytes("a\nb") == "\x1b[200~a\rb\x1b[201~");
}

TEST_CASE("mouse reports in the form that was asked for", "[terminal]") {
  Terminal t(24, 80);
  std::string out;
  t.onOutput = [&](const std::string& s) { out += s; };
  t.mouse({MouseEvent::Kind::Press, 2, 3, 1}, {});
  CHECK(out.empty());
  feed(t, "\x1b[?1000h\x1b[?1006h");
  CHECK(t.screen().input.mouse == MouseWish::Click);
  out.clear();
  t.mouse({MouseEvent::Kind::Press, 4, 9, 1}, {});
  CHECK(out == "\x1b[<0;10;5M");
}

TEST_CASE("finding: in the scrollback, across a wrap, capitals only when asked", "[terminal]") {
  Terminal t(3, 10);
  feed(t, "Valve open\r\n");
  for (int i = 0; i < 5; ++i) feed(t, "line " + std::to_string(i) + "\r\n");
  feed(t, "123456 valve shut\r\n");
  std::vector<TextFind> finds;
  CHECK(t.find("valve", 0, 1000, finds) == t.screen().screenTop + 3);
  REQUIRE(finds.size() == 2);
  CHECK(finds[0] == TextFind{0, 0, 0, 4});
  CHECK(finds[1].column == 7);
  CHECK(finds[1].toRow == finds[1].row + 1);
  CHECK(finds[1].toColumn == 1);
  finds.clear();
  t.find("Valve", 0, 1000, finds);
  CHECK(finds.size() == 1);
  finds.clear();
  t.find("ve shut", 0, 1000, finds);
  CHECK(finds.size() == 1);
}

TEST_CASE("words, lines and blocks are chosen as one expects", "[terminal]") {
  Terminal t(4, 12);
  feed(t, "tail -f /var/log/mist.log\r\nabc\r\n");
  const auto top = t.screen().screenTop - 1;
  const TextRange word = t.wordAt(top, 10);
  CHECK(t.textIn(word) == "/var/log/mist.log");  // over the wrap
  const TextRange line = t.lineAt(top + 1);
  CHECK(t.textIn(line) == "tail -f /var/log/mist.log");
  CHECK(t.textIn({top, top + 1, 0, 2, true}) == "tai\n/lo");
}

TEST_CASE("a packed row is the row that was put in", "[scrollback]") {
  Scrollback s(1000);
  std::vector<Row> rows;
  for (int i = 0; i < 300; ++i) {
    Row row;
    for (int c = 0; c < 10 + i % 90; ++c) {
      Cell cell;
      cell.ch = i % 3 == 0 ? U'a' + static_cast<char32_t>(c % 26) : i % 3 == 1 ? U'\u6E29' : kClusterBit | 5;
      if (i % 3 == 1 && c % 2 == 1) cell = Cell{0, 0, 0, attr::kWideTail, 0};
      if (i % 5 == 0)
        cell.fg = indexedColour(static_cast<unsigned>(c)), cell.attrs |= attr::kBold, cell.link = 3;
      row.cells.push_back(cell);
    }
    row.wrapped = i % 7 == 0;
    rows.push_back(row);
    s.push(row.cells.data(), row.cells.size(), row.wrapped);
  }
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const Row back = s.row(i);
    REQUIRE(back.wrapped == rows[i].wrapped);
    REQUIRE(back.cells == rows[i].cells);
  }
  for (std::size_t i = rows.size(); i-- > 0;) {
    Row back;
    REQUIRE(s.pop(back));
    REQUIRE(back.cells == rows[i].cells);
  }
  CHECK(s.rows() == 0);
  CHECK(s.bytes() == 0);
}

TEST_CASE("the scrollback forgets its oldest rows and keeps counting", "[scrollback]") {
  Scrollback s(2000);
  for (int i = 0; i < 50000; ++i) {
    std::u32string text = U"row " + std::u32string(60, U'x');
    std::vector<Cell> cells;
    for (char32_t c : text) cells.push_back({c, 0, 0, 0, 0});
    const std::string number = std::to_string(i);
    for (std::size_t k = 0; k < number.size(); ++k) cells[5 + k].ch = static_cast<char32_t>(number[k]);
    s.push(cells.data(), cells.size(), false);
  }
  CHECK(s.rows() >= 2000);
  CHECK(s.rows() < 4000);
  CHECK(s.rows() + s.dropped() == 50000);
  const Clusters none;
  CHECK(textOf(s.row(0).cells, none).find(std::to_string(s.dropped())) == 5);
}

TEST_CASE("a million rows of 120 columns stay under 200 MB and can be broken anew", "[scrollback]") {
  Scrollback s;
  std::vector<Cell> cells(120);
  unsigned seed = 7;
  for (int i = 0; i < 1'000'000; ++i) {
    for (Cell& c : cells) c.ch = 'a' + ((seed = seed * 1103515245 + 12345) >> 16) % 26;
    s.push(cells.data(), cells.size(), i % 100 == 0);
  }
  CHECK(s.rows() == 1'000'000);
  CHECK(s.bytes() < (200U << 20));
  s.reflow(100);
  CHECK(s.row(0).cells.size() == 100);
  CHECK(s.row(0).wrapped);
  CHECK(s.bytes() < (200U << 20));
}

TEST_CASE("bytes of any kind leave the terminal alive", "[terminal]") {
  Terminal t(24, 80);
  unsigned seed = 1;
  for (int round = 0; round < 300; ++round) {
    std::string noise;
    for (int i = 0; i < 500; ++i) {
      seed = seed * 1103515245 + 12345;
      const unsigned pick = seed >> 16 & 0xFF;
      noise += pick < 40 ? "\x1b[" : std::string(1, static_cast<char>(pick));
    }
    feed(t, noise);
    t.resize(1 + round % 40, 2 + round % 130);
  }
  feed(t,
       "\x1b"
       "c\x1b[Hdone");
  CHECK(rowText(t, 0) == "done");
}

namespace {
std::string sizesOf(const Terminal& t) {
  std::string sizes;
  for (const Row& row : t.screen().rows) sizes += ".wtb"[static_cast<int>(row.size)];
  return sizes;
}
}  // namespace

// Recorded from vttest 2.7 on an 80x24 pseudo-terminal; the expected screens were read against what each page
// says of itself.
TEST_CASE("the pages of a terminal test program look as they say they should", "[terminal]") {
  namespace fs = std::filesystem;
  const std::string series = GENERATE("cursor", "screen", "sets", "insert", "double", "vt52");
  const bool whole = GENERATE(true, false);
  std::vector<fs::path> pages;
  for (const auto& entry : fs::directory_iterator(KW_TEST_DATA "/vttest")) {
    const std::string name = entry.path().filename();
    if (name.starts_with(series + "-") && entry.path().extension() == ".raw") pages.push_back(entry.path());
  }
  std::sort(pages.begin(), pages.end());
  REQUIRE(pages.size() >= 2);
  Terminal t(24, 80);
  for (fs::path page : pages) {
    const std::string bytes = textOf(readFile(page));
    if (whole)
      feed(t, bytes);
    else
      for (const char c : bytes) feed(t, std::string(1, c));
    page.replace_extension(".txt");
    INFO(page);
    CHECK(t.screenText() == textOf(readFile(page)));
    if (page.stem() == "screen-04") CHECK(t.screen().reverse);
    if (page.stem() == "screen-06") CHECK_FALSE(t.screen().reverse);
    if (page.stem() == "double-01") CHECK(sizesOf(t) == "........w.tb.tb.....w...");
    if (page.stem() == "double-05") CHECK(sizesOf(t) == "...................tbtbt");
    if (page.stem() == "screen-05") CHECK(t.screen().columns == 132);
  }
}

TEST_CASE("side margins: text wraps, scrolls and is edited between them", "[terminal]") {
  Terminal t(4, 12);
  for (const char* row : {"abcdefghijkl", "ABCDEFGHIJKL", "012345678901", "mnopqrstuvwx"})
    feed(t, std::string(row == std::string("abcdefghijkl") ? "\x1b[H" : "\r\n") + row);
  feed(t, "\x1b[?69h\x1b[4;9s");  // columns 4 to 9
  SECTION("what is too long goes on at the left margin") {
    feed(t, "\x1b[2;8HXYZ");
    CHECK(rowText(t, 1) == "ABCDEFGXYJKL");
    CHECK(rowText(t, 2) == "012Z45678901");
    CHECK(t.cursor() == Place{2, 4});
  }
  SECTION("a line feed at the bottom turns only what is between") {
    feed(t, "\x1b[4;5H\n");
    CHECK(rowText(t, 0) == "abcDEFGHIjkl");
    CHECK(rowText(t, 2) == "012pqrstu901");
    CHECK(rowText(t, 3) == "mno      vwx");
    CHECK(t.scrollbackRows() == 0);
  }
  SECTION("outside of them nothing turns") {
    feed(t, "\x1b[4;1H\n");
    CHECK(rowText(t, 3) == "mnopqrstuvwx");
  }
  SECTION("characters and lines are put in and taken out") {
    feed(t, "\x1b[1;5H\x1b[2@");
    CHECK(rowText(t, 0) == "abcd  efgjkl");
    feed(t, "\x1b[2P");
    CHECK(rowText(t, 0) == "abcdefg  jkl");
    feed(t, "\x1b[2;5H\x1b[L");
    CHECK(rowText(t, 1) == "ABC      JKL");
    CHECK(rowText(t, 2) == "012DEFGHI901");
    CHECK(t.cursor() == Place{1, 3});
    feed(t, "\x1b[M");
    CHECK(rowText(t, 1) == "ABCDEFGHIJKL");
    feed(t, "\x1b[1;1H\x1b[P");  // the cursor stands outside
    CHECK(rowText(t, 0) == "abcdefg  jkl");
  }
  SECTION("moving stops at them; with origin mode places count from them") {
    feed(t, "\x1b[1;6H\x1b[20D");
    CHECK(t.cursor().column == 3);
    feed(t, "\x1b[20C");
    CHECK(t.cursor().column == 8);
    feed(t, "\x1b[?6h\x1b[2;2H");
    CHECK(t.cursor() == Place{1, 4});
    std::string answer;
    t.onAnswer = [&](const std::string& a) { answer += a; };
    feed(t, "\x1b[6n");
    CHECK(answer == "\x1b[2;2R");
  }
  SECTION("without the mode, CSI s keeps the cursor, and the margins are gone") {
    feed(t, "\x1b[?69l\x1b[2;12HX\x1b[s\x1b[H\x1b[uY");
    CHECK(rowText(t, 1) == "ABCDEFGHIJKX");
    CHECK(rowText(t, 2) == "Y12345678901");
  }
}

TEST_CASE("132 columns come and go without losing the pane's own width", "[terminal]") {
  Terminal t(3, 40);
  feed(t, "before\x1b[?3hwide");
  CHECK(t.screen().columns == 132);
  CHECK(rowText(t, 0) == "wide");
  t.resize(4, 50);  // the pane changes; the program still has what it asked for
  CHECK(t.screen().columns == 132);
  CHECK(t.screen().screenRows == 4);
  feed(t, "\x1b[1;132HX");
  CHECK(t.cursor() == Place{0, 131});
  const bool byReset = GENERATE(false, true);
  feed(t, byReset ? "\x1b"
                    "c"
                  : "\x1b[?3l");
  CHECK(t.screen().columns == 50);
  CHECK(t.cursor() == Place{0, 0});
}

TEST_CASE("large rows keep their size in the scrollback and hold half as much", "[terminal]") {
  Terminal t(3, 10);
  feed(t, "\x1b#6abcdefg");
  CHECK(rowText(t, 0) == "abcde");
  CHECK(rowText(t, 1) == "fg");
  feed(t, "\r\nx\r\ny\r\nz");
  CHECK(t.view(0, 1).rows[0].size == RowSize::Wide);
  t.resize(3, 8);
  CHECK(t.view(0, 1).rows[0].size == RowSize::Wide);
  feed(t, "\x1b[2J\x1b[H\x1b#3top");
  CHECK(t.screen().rows[0].size == RowSize::TallTop);
  feed(t, "\x1b#5");
  CHECK(t.screen().rows[0].size == RowSize::Normal);
}

TEST_CASE("a VT52's arrows, and the way back to ECMA-48", "[terminal]") {
  Terminal t(3, 10);
  std::string sent;
  t.onOutput = [&](const std::string& bytes) { sent += bytes; };
  feed(t, "\x1b[?2l");
  t.key(TextKey::Left, {});
  t.key(TextKey::F1, {});
  CHECK(sent ==
        "\x1b"
        "D\x1bP");
  feed(t, "\x1bY\x21\x22*\x1b<\x1b[3;1H+");
  CHECK(rowText(t, 1) == "  *");
  CHECK(rowText(t, 2) == "+");
  sent.clear();
  t.key(TextKey::Left, {});
  CHECK(sent == "\x1b[D");
}

TEST_CASE("a word goes on over the rows of its line", "[terminal]") {
  Terminal t(4, 10);
  feed(t, "see /var/log/mist.log now");
  const TextRange word = t.wordAt(0, 6);
  CHECK(t.textIn(word) == "/var/log/mist.log");
  CHECK(t.textIn(t.wordAt(1, 3)) == "/var/log/mist.log");
  CHECK(word.fromRow == 0);
  CHECK(word.toRow == 2);
  feed(t, "\x1b[2J\x1b[H123456789\xE6\xB0\xB4zz");  // 水 does not fit into the last column
  CHECK(t.textIn(t.wordAt(0, 0)) == "123456789\xE6\xB0\xB4zz");
}
