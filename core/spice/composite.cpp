// Compositions in the manner of X's Render extension, by pixman.
#include <pixman.h>

#include <memory>

#include "base/error.hpp"
#include "spice/canvas.hpp"

namespace kw::spice {

namespace {

using Bits = std::unique_ptr<pixman_image_t, decltype(&pixman_image_unref)>;

bool isOperator(unsigned op) {
  return op <= PIXMAN_OP_SATURATE || (op >= PIXMAN_OP_DISJOINT_CLEAR && op <= PIXMAN_OP_DISJOINT_XOR) ||
         (op >= PIXMAN_OP_CONJOINT_CLEAR && op <= PIXMAN_OP_CONJOINT_XOR) ||
         (op >= PIXMAN_OP_MULTIPLY && op <= PIXMAN_OP_HSL_LUMINOSITY);
}

/// pixman only reads operands, though it takes pointers to what could be written.
Bits bitsOf(const Pixel* pixels, Size size, bool alpha) {
  Bits bits(pixman_image_create_bits(alpha ? PIXMAN_a8r8g8b8 : PIXMAN_x8r8g8b8, size.width, size.height,
                                     const_cast<Pixel*>(pixels), size.width * 4),
            pixman_image_unref);
  if (!bits) throw Error(ErrorKind::Local, "no memory for a picture");
  return bits;
}

Bits operandBits(const Operand& operand) {
  if (operand.filter > PIXMAN_FILTER_BILINEAR || operand.repeat > PIXMAN_REPEAT_REFLECT)
    protocolBroken("SPICE composition", "a filter or repeat that is none");
  Bits bits =
      bitsOf(operand.image->pixels.data(), operand.image->size, operand.image->hasAlpha && !operand.isOpaque);
  pixman_image_set_filter(bits.get(), static_cast<pixman_filter_t>(operand.filter), nullptr, 0);
  pixman_image_set_repeat(bits.get(), static_cast<pixman_repeat_t>(operand.repeat));
  if (operand.transform) {
    const auto& t = *operand.transform;
    const pixman_transform_t matrix{{{t[0], t[1], t[2]}, {t[3], t[4], t[5]}, {0, 0, pixman_fixed_1}}};
    pixman_image_set_transform(bits.get(), &matrix);
  }
  return bits;
}

}  // namespace

void compose(Surface& s, const Target& t, const Composition& c) {
  if (!isOperator(c.op)) protocolBroken("SPICE composition", "operator " + std::to_string(c.op));
  if (c.source.image->size.empty() || (c.mask.image && c.mask.image->size.empty())) return;
  const Bits source = operandBits(c.source);
  Bits mask(nullptr, pixman_image_unref);
  if (c.mask.image) {
    mask = operandBits(c.mask);
    pixman_image_set_component_alpha(mask.get(), c.componentAlpha ? 1 : 0);
  }
  const Bits dest = bitsOf(s.pixels.data(), s.size, s.hasAlpha);
  for (const Rect& part : t.parts) {
    const Rect r = part.intersected(t.box).intersected(s.rect());
    if (r.empty()) continue;
    const int dx = r.x - t.box.x, dy = r.y - t.box.y;
    pixman_image_composite32(static_cast<pixman_op_t>(c.op), source.get(), mask.get(), dest.get(),
                             c.source.origin.x + dx, c.source.origin.y + dy, c.mask.origin.x + dx,
                             c.mask.origin.y + dy, r.x, r.y, r.width, r.height);
    if (s.hasAlpha) continue;
    for (int y = r.y; y < r.bottom(); ++y)
      for (int x = r.x; x < r.right(); ++x) s.row(y)[x] |= kOpaque;
  }
}

}  // namespace kw::spice
