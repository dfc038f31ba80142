// Bitmap and palette updates (MS-RDPBCGR 2.2.9.1.1.3) into a Framebuffer.
#pragma once
#include <map>
#include <memory>
#include <string>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"

namespace kw::rdp {

/// One bitmap as classic updates and cache orders have it, bottom row first, into a picture of its size.
/// Throws Error{ProtocolBroken}.
void decodeBitmap(Framebuffer& out, unsigned bits, bool compressed, ByteView data, const ColourMap& colours);

class PictureUpdates {
 public:
  explicit PictureUpdates(std::shared_ptr<Framebuffer> picture) : picture_(std::move(picture)) {}
  /// A bitmap update from its updateType on; gives what it touched. Throws Error{ProtocolBroken}.
  Region bitmaps(ByteView body);
  void palette(ByteView body);
  [[nodiscard]] const ColourMap& colours() const { return palette_; }
  /// How many rectangles came in each form, by its name.
  [[nodiscard]] const std::map<std::string, std::uint64_t>& forms() const { return forms_; }

 private:
  Rect one(LittleReader& in);
  void decode(const Rect& to, Size size, unsigned bits, bool compressed, ByteView data);
  const PixelReader& readerFor(unsigned bits);
  std::shared_ptr<Framebuffer> picture_;
  ColourMap palette_ = defaultColourMap();
  std::map<unsigned, PixelReader> readers_;
  Bytes scratch_;
  std::vector<Pixel> pixels_;
  std::map<std::string, std::uint64_t> forms_;
};

}  // namespace kw::rdp
