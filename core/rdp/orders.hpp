// Drawing orders (MS-RDPEGDI 2.2.2.2): fills, copies, remembered bitmaps, lines, shapes and text, each
// written as what differs from the one before of its kind.
#pragma once
#include <functional>
#include <memory>

#include "picture/region.hpp"
#include "rdp/nine_grid.hpp"
#include "rdp/order_caches.hpp"
#include "rdp/order_surfaces.hpp"
#include "rdp/raster.hpp"
#include "rdp/shapes.hpp"

namespace kw::rdp {

/// Which orders a client of this program says it takes: the 32 bytes of 2.2.7.1.3 orderSupport.
std::array<std::uint8_t, 32> orderSupport();

class Orders {
 public:
  explicit Orders(std::shared_ptr<Framebuffer> picture) : picture_(std::move(picture)) {}
  /// `count` orders; gives what they touched. Throws Error{ProtocolBroken}.
  Region take(ByteView orders, unsigned count, unsigned bitsPerPixel, const ColourMap& colours);
  /// A new share begins: nothing of the old one is remembered.
  void reset();
  [[nodiscard]] std::uint64_t drawn() const { return drawn_; }

 private:
  struct Brush {
    unsigned x = 0, y = 0, style = 0, hatch = 0;
    std::array<std::uint8_t, 7> extra{};
  };
  /// Fields of all primary orders; each kind has its own, kept from one to the next.
  struct Fields {
    int a[4] = {};     ///< left, top, width, height; or a line's ends
    int from[2] = {};  ///< source, or where text begins
    unsigned rop = 0, backMode = 0, penStyle = 0, penWidth = 0;
    std::uint32_t back = 0, fore = 0;
    std::uint8_t rgb[3] = {};
    Brush brush;
    unsigned cache = 0, index = 0, accel = 0, increment = 0, redundant = 0;
    int ground[4] = {}, opaque[4] = {};
    unsigned entries = 0, fillMode = 0;
    std::uint32_t position = 0;
    Bytes list;
  };
  class FieldReader;
  void one(LittleReader& in, Region& damage);
  void secondary(LittleReader& in);
  void alternate(LittleReader& in, unsigned flags);
  void primary(LittleReader& in, unsigned flags, Region& damage);
  void bounds(LittleReader& in);
  void read(FieldReader& in, Fields& f);
  void readBrush(FieldReader& in, Brush& brush);
  void draw(const Fields& f, Region& damage);
  void fillMany(const Fields& f, Region& damage);
  [[nodiscard]] std::vector<Rect> rectangles(const Fields& f) const;
  void many(const Fields& f, unsigned rop, const Pattern& pattern, bool copies, Region& damage);
  void polygon(const Fields& f, Region& damage);
  void ellipse(const Fields& f, Region& damage);
  void fillSpans(const std::vector<Span>& spans, const Fields& f, const Pattern& pattern, Region& damage);
  void saveOrRestore(const Fields& f, Region& damage);
  void polyline(const Fields& f, Region& damage);
  void nineGrid(const Fields& f, Region& damage);
  void text(const Fields& f, Region& damage);
  void drawGlyph(const Glyph& g, Point at, Pixel colour, Region& damage);
  void fill(const Rect& to, unsigned rop, const Pattern& pattern, Region& damage);
  void copy(const Rect& to, unsigned rop, const Pattern& pattern, const Framebuffer* from, Point at,
            Region& damage);
  [[nodiscard]] Pattern patternOf(const Fields& f) const;
  [[nodiscard]] Pattern shapePattern(const Fields& f) const;
  [[nodiscard]] Pixel colour(std::uint32_t wire) const;
  [[nodiscard]] std::vector<Point> deltas(const Fields& f, unsigned most) const;

  /// What orders draw into now.
  [[nodiscard]] Framebuffer& target();
  /// Of the screen only.
  void touched(const Rect& area, Region& damage);

  std::shared_ptr<Framebuffer> picture_;
  OrderSurfaces surfaces_;
  OrderCaches caches_;
  NineGrids nineGrids_;
  std::map<unsigned, Fields> fields_;
  std::map<std::pair<unsigned, unsigned>, Bytes> fragments_;  ///< of text, by cache and index
  unsigned type_ = 1;  ///< 2.2.2.2.1.1: a pattern fill, until one is named
  int edge_[4] = {};
  Rect bounds_;  ///< as the order has them; the whole target when it has none
  Rect clip_;    ///< what of them lies on the target
  unsigned bits_ = 32;
  const ColourMap* colours_ = nullptr;
  std::uint64_t drawn_ = 0;
};

}  // namespace kw::rdp
