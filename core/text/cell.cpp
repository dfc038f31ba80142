#include "text/cell.hpp"

#include <algorithm>

namespace kw::text {

void trimEnd(std::vector<Cell>& cells) {
  while (!cells.empty() && cells.back() == Cell{}) cells.pop_back();
}

char32_t Clusters::intern(const char32_t* points, std::size_t count) {
  if (count <= 1) return count == 0 ? 0 : points[0];
  const std::u32string wanted(points, count);
  const auto at = std::find(list_.rbegin(), list_.rend(), wanted);
  if (at != list_.rend()) return kClusterBit | static_cast<char32_t>(list_.rend() - at - 1);
  if (list_.size() >= kMost) return points[0];
  list_.push_back(wanted);
  return kClusterBit | static_cast<char32_t>(list_.size() - 1);
}

std::u32string Clusters::pointsOf(char32_t ch) const {
  if ((ch & kClusterBit) == 0) return std::u32string(1, ch);
  const std::size_t index = ch & ~kClusterBit;
  return index < list_.size() ? list_[index] : std::u32string(1, U'\uFFFD');
}

std::uint16_t Links::intern(const std::string& target) {
  if (target.empty() || target.size() > kLongest) return 0;
  const auto at = std::find(list_.rbegin(), list_.rend(), target);
  if (at != list_.rend()) return static_cast<std::uint16_t>(list_.rend() - at);
  if (list_.size() >= kMost) return 0;
  list_.push_back(target);
  return static_cast<std::uint16_t>(list_.size());
}

std::string Links::target(std::uint16_t number) const {
  return number == 0 || number > list_.size() ? std::string() : list_[number - 1U];
}

char32_t nextPoint(std::string_view text, std::size_t& at) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned lead = byte(at++);
  if (lead < 0x80) return lead;
  const int more = lead >= 0xF0 && lead < 0xF8   ? 3
                   : lead >= 0xE0 && lead < 0xF0 ? 2
                   : lead >= 0xC2 && lead < 0xE0 ? 1
                                                 : 0;
  if (more == 0) return U'\uFFFD';
  char32_t point = lead & (0x3FU >> more);
  for (int i = 0; i < more; ++i) {
    if (at >= text.size() || (byte(at) & 0xC0) != 0x80) return U'\uFFFD';
    point = point << 6 | (byte(at++) & 0x3FU);
  }
  return point;
}

std::string textOf(const std::vector<Cell>& cells, const Clusters& clusters) {
  std::string out;
  std::size_t blanks = 0;
  for (const Cell& cell : cells) {
    if (cell.attrs & attr::kWideTail) continue;
    if (cell.ch == 0 || cell.ch == ' ') {
      ++blanks;
      continue;
    }
    out.append(blanks, ' ');
    blanks = 0;
    if ((cell.ch & kClusterBit) == 0)
      appendUtf8(out, cell.ch);
    else
      for (char32_t p : clusters.pointsOf(cell.ch)) appendUtf8(out, p);
  }
  return out;
}

}  // namespace kw::text
