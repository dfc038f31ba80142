#include "base/little.hpp"

namespace kw {

Bytes utf8ToUtf16(std::string_view utf8) {
  LittleWriter out;
  for (char32_t c : utf8ToUtf32(utf8)) {
    if (c < 0x10000) {
      out.u16(c);
    } else {
      out.u16(0xd800 + ((c - 0x10000) >> 10)).u16(0xdc00 + ((c - 0x10000) & 0x3ff));
    }
  }
  return out.take();
}

std::string utf16ToUtf8(ByteView utf16) {
  std::string out;
  for (std::size_t i = 0; i + 1 < utf16.size(); i += 2) {
    char32_t c = loadLe16(&utf16[i]);
    if (c == 0) break;
    if (c >= 0xd800 && c < 0xdc00 && i + 3 < utf16.size()) {
      const char32_t low = loadLe16(&utf16[i + 2]);
      if (low >= 0xdc00 && low < 0xe000) {
        c = 0x10000 + ((c - 0xd800) << 10) + (low - 0xdc00);
        i += 2;
      }
    }
    appendUtf8(out, c >= 0xd800 && c < 0xe000 ? 0xfffd : c);
  }
  return out;
}

}  // namespace kw
