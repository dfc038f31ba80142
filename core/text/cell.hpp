// What one place of a text screen holds. Colours stay as the program over there named them, so that a colour
// scheme can change while text is on screen.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace kw::text {

/// 0: the scheme's own; 0x01000000 | index: one of 256; 0x02RRGGBB: true colour.
using Colour = std::uint32_t;
constexpr Colour kOwnColour = 0;
constexpr Colour indexedColour(unsigned index) { return 0x01000000U | (index & 0xFF); }
constexpr Colour trueColour(unsigned r, unsigned g, unsigned b) {
  return 0x02000000U | (r & 0xFF) << 16 | (g & 0xFF) << 8 | (b & 0xFF);
}

namespace attr {
constexpr std::uint16_t kBold = 1, kItalic = 2, kUnderline = 4, kDoubleUnderline = 8, kCurlyUnderline = 16,
                        kBlink = 32, kReverse = 64, kStrike = 128, kFaint = 512, kHidden = 1024;
/// The right half of a wide character; `ch` is 0.
constexpr std::uint16_t kWideTail = 256;
}  // namespace attr

/// Set in Cell::ch when it is an index into Clusters rather than a code point.
constexpr char32_t kClusterBit = 0x80000000U;

struct Cell {
  char32_t ch = 0;  ///< 0: nothing was written here
  Colour fg = kOwnColour, bg = kOwnColour;
  std::uint16_t attrs = 0;
  std::uint16_t link = 0;  ///< 0: none; else an index into Links
  bool operator==(const Cell&) const = default;
  [[nodiscard]] bool plain() const { return fg == 0 && bg == 0 && attrs == 0 && link == 0; }
};
static_assert(sizeof(Cell) == 16);

/// DECSWL, DECDWL, DECDHL: how large a row's characters are. Large rows hold half as many of them.
enum class RowSize : std::uint8_t { Normal, Wide, TallTop, TallBottom };

/// One row as it stands on a screen of some width.
struct Row {
  std::vector<Cell> cells;
  bool wrapped = false;  ///< the next row goes on with the same line
  RowSize size = RowSize::Normal;
};

/// Cells that no longer differ from nothing are not kept.
void trimEnd(std::vector<Cell>& cells);

/// Characters with marks above or below them, by number; at most kMost, so that nobody can fill the memory.
class Clusters {
 public:
  static constexpr std::size_t kMost = 8192;
  /// The `ch` of a cell that shows `points`.
  char32_t intern(const char32_t* points, std::size_t count);
  [[nodiscard]] std::u32string pointsOf(char32_t ch) const;

 private:
  std::vector<std::u32string> list_;
};

/// Targets of OSC 8 links, by number from 1; at most kMost.
class Links {
 public:
  static constexpr std::size_t kMost = 4096, kLongest = 2048;
  /// 0 when the target is empty, too long, or the table is full.
  std::uint16_t intern(const std::string& target);
  [[nodiscard]] std::string target(std::uint16_t number) const;

 private:
  std::vector<std::string> list_;
};

/// Decodes one code point at `at` and moves it on; broken bytes give U+FFFD.
char32_t nextPoint(std::string_view text, std::size_t& at);

/// The text of a row, tails and trailing blanks left out.
std::string textOf(const std::vector<Cell>& cells, const Clusters& clusters);

}  // namespace kw::text
