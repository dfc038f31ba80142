// What a service has us remember for its drawing orders (MS-RDPEGDI 2.2.2.2.1.2): bitmaps, glyphs, brushes.
#pragma once
#include <map>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"

namespace kw::rdp {

struct Glyph {
  Point origin;
  Size size;
  Bytes rows;  ///< one bit a pixel, each row in whole bytes
};

class OrderCaches {
 public:
  /// The body of a secondary order after its head. Throws Error{ProtocolBroken}.
  void take(unsigned type, unsigned flags, LittleReader in, const ColourMap& colours);
  /// Null when it was not kept.
  [[nodiscard]] const Framebuffer* bitmap(unsigned cache, unsigned index) const;
  [[nodiscard]] const Glyph* glyph(unsigned cache, unsigned index) const;
  /// Eight rows of one bit a pixel.
  [[nodiscard]] const std::array<std::uint8_t, 8>* brush(unsigned index) const;
  void clear();

 private:
  void bitmap1(LittleReader& in, bool compressed, unsigned flags, const ColourMap& colours);
  void bitmap2(LittleReader& in, bool compressed, unsigned flags, const ColourMap& colours);
  void bitmap3(LittleReader& in, unsigned flags, const ColourMap& colours);
  void glyphs(LittleReader& in, unsigned flags);
  void brushOrder(LittleReader& in);
  void keep(unsigned cache, unsigned index, Size size, unsigned bits, bool compressed, ByteView data,
            const ColourMap& colours);
  std::map<std::pair<unsigned, unsigned>, Framebuffer> bitmaps_;
  std::int64_t area_ = 0;
  std::map<std::pair<unsigned, unsigned>, Glyph> glyphs_;
  std::map<unsigned, std::array<std::uint8_t, 8>> brushes_;
};

}  // namespace kw::rdp
