#include "lab/canvas.hpp"

#include <ft2build.h>
#include FT_FREETYPE_H

#include <map>

#include "base/error.hpp"

namespace kw::lab {

namespace {
constexpr const char* kFiles[] = {
    "/usr/share/fonts/truetype/jetbrains-mono/JetBrainsMono-Regular.ttf",
    "/usr/share/fonts/opentype/inter/Inter-Regular.otf",
    "/usr/share/fonts/opentype/inter/Inter-SemiBold.otf",
};
}

struct Fonts::State {
  FT_Library library = nullptr;
  FT_Face faces[3] = {};
  std::map<std::tuple<int, int, char32_t>, Glyph> cache;
  ~State() {
    for (FT_Face face : faces)
      if (face != nullptr) FT_Done_Face(face);
    if (library != nullptr) FT_Done_FreeType(library);
  }
};

Fonts::Fonts() : state_(std::make_unique<State>()) {
  if (FT_Init_FreeType(&state_->library) != 0) throw Error(ErrorKind::Local, "FreeType does not start");
  for (int i = 0; i < 3; ++i)
    if (FT_New_Face(state_->library, kFiles[i], 0, &state_->faces[i]) != 0)
      throw Error(ErrorKind::Local, "this font is missing (packages fonts-inter, fonts-jetbrains-mono)",
                  kFiles[i]);
}
Fonts::~Fonts() = default;

const Fonts::Glyph& Fonts::glyph(Face face, int size, char32_t character) {
  const auto key = std::tuple(static_cast<int>(face), size, character);
  if (const auto found = state_->cache.find(key); found != state_->cache.end()) return found->second;
  FT_Face ft = state_->faces[static_cast<int>(face)];
  FT_Set_Pixel_Sizes(ft, 0, static_cast<FT_UInt>(size));
  Glyph glyph{};
  if (FT_Load_Char(ft, character, FT_LOAD_RENDER | FT_LOAD_NO_HINTING) == 0) {
    const FT_GlyphSlot slot = ft->glyph;
    glyph = {slot->bitmap_left,
             slot->bitmap_top,
             static_cast<int>(slot->bitmap.width),
             static_cast<int>(slot->bitmap.rows),
             static_cast<int>((slot->advance.x + 32) >> 6),
             {}};
    for (int y = 0; y < glyph.height; ++y) {
      const Byte* row = slot->bitmap.buffer + std::ptrdiff_t{y} * slot->bitmap.pitch;
      glyph.coverage.insert(glyph.coverage.end(), row, row + glyph.width);
    }
  }
  return state_->cache.emplace(key, std::move(glyph)).first->second;
}

Pixel mix(Pixel a, Pixel b, unsigned share) {
  const auto channel = [&](int shift) {
    const unsigned x = a >> shift & 0xff, y = b >> shift & 0xff;
    return (x * (255 - share) + y * share + 127) / 255;
  };
  return rgb(channel(16), channel(8), channel(0));
}

void Canvas::verticalGradient(const Rect& rect, Pixel top, Pixel bottom) {
  for (int y = 0; y < rect.height; ++y)
    fill({rect.x, rect.y + y, rect.width, 1},
         mix(top, bottom, static_cast<unsigned>(y * 255 / std::max(1, rect.height - 1))));
}

void Canvas::frame(const Rect& r, Pixel colour, int w) {
  fill({r.x, r.y, r.width, w}, colour);
  fill({r.x, r.bottom() - w, r.width, w}, colour);
  fill({r.x, r.y, w, r.height}, colour);
  fill({r.right() - w, r.y, w, r.height}, colour);
}

void Canvas::disc(Point centre, int radius, Pixel colour) {
  for (int y = -radius; y <= radius; ++y) {
    int half = 0;
    while ((half + 1) * (half + 1) + y * y <= radius * radius) ++half;
    fill({centre.x - half, centre.y + y, 2 * half + 1, 1}, colour);
  }
}

int Canvas::text(Point at, std::string_view utf8, Pixel colour, Face face, int size) {
  for (char32_t c : utf8ToUtf32(utf8)) {
    const Fonts::Glyph& g = fonts_.glyph(face, size, c);
    for (int y = 0; y < g.height; ++y) {
      const int py = at.y - g.top + y;
      if (py < 0 || py >= picture_.height()) continue;
      for (int x = 0; x < g.width; ++x) {
        const int px = at.x + g.left + x;
        const unsigned share = g.coverage[static_cast<std::size_t>(y * g.width + x)];
        if (px < 0 || px >= picture_.width() || share == 0) continue;
        Pixel* p = picture_.at(px, py);
        *p = mix(*p, colour, share);
      }
    }
    at.x += g.advance;
  }
  return at.x;
}

int Canvas::textWidth(std::string_view utf8, Face face, int size) {
  int width = 0;
  for (char32_t c : utf8ToUtf32(utf8)) width += fonts_.glyph(face, size, c).advance;
  return width;
}

}  // namespace kw::lab
