// Draws a simulated guest's picture: rectangles, gradients and text (FreeType).
#pragma once
#include <memory>
#include <string>

#include "picture/framebuffer.hpp"

namespace kw::lab {

enum class Face { Mono, Sans, SansBold };

/// Glyphs of the fonts the lab uses; made once, shared by all guests of one thread.
class Fonts {
 public:
  /// Throws Error{Local} when the font packages are missing.
  Fonts();
  ~Fonts();
  struct Glyph {
    int left, top, width, height, advance;
    Bytes coverage;
  };
  const Glyph& glyph(Face face, int size, char32_t character);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

class Canvas {
 public:
  Canvas(Fonts& fonts, Framebuffer& picture) : fonts_(fonts), picture_(picture) {}
  [[nodiscard]] Rect area() const { return picture_.rect(); }
  void fill(const Rect& rect, Pixel colour) { picture_.fill(rect, colour); }
  void verticalGradient(const Rect& rect, Pixel top, Pixel bottom);
  void frame(const Rect& rect, Pixel colour, int width = 1);
  void disc(Point centre, int radius, Pixel colour);
  /// Text with its baseline at `at.y`; returns the x after the last glyph.
  int text(Point at, std::string_view utf8, Pixel colour, Face face = Face::Sans, int size = 15);
  int textWidth(std::string_view utf8, Face face, int size);

 private:
  Fonts& fonts_;
  Framebuffer& picture_;
};

/// Mixes two colours; `share` of the second, 0..255.
Pixel mix(Pixel a, Pixel b, unsigned share);

}  // namespace kw::lab
