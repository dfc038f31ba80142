// Writes QUIC: 32 bits a pixel, with alpha or without.
#include "base/little.hpp"
#include "spice/packing.hpp"
#include "spice/quic_model.hpp"

namespace kw::spice {

namespace {

using namespace quic;

class Writer {
 public:
  static constexpr bool kWrites = true;
  /// The lowest n bits, the highest of them first; words in little endian.
  void push(std::uint32_t value, unsigned n) {
    window_ = window_ << n | (value & mask(n));
    have_ += n;
    if (have_ < 32) return;
    have_ -= 32;
    out_.u32(static_cast<std::uint32_t>(window_ >> have_));
  }
  void put(const Codes& codes, unsigned l, unsigned value) {
    if (value >= codes.plain[l]) return push(value - codes.plain[l], codes.longLength[l]);
    push((1U << l) | (value & mask(l)), (value >> l) + 1 + l);
  }
  void putRun(State& state, unsigned length) {
    while (length >= 1U << state.runBits) {
      length -= 1U << state.runBits;
      push(1, 1);
      state.longerRuns();
    }
    push(0, 1);
    if (state.runBits != 0) push(length, state.runBits);
    state.shorterRuns();
  }
  Bytes take() {
    push(0, 32);  // the last word is filled up
    return out_.take();
  }

 private:
  LittleWriter out_;
  std::uint64_t window_ = 0;
  unsigned have_ = 0;
};

}  // namespace

Bytes encodeQuic(const Pixel* pixels, std::size_t stride, Size size, bool withAlpha) {
  Writer out;
  const unsigned width = static_cast<unsigned>(size.width), height = static_cast<unsigned>(size.height);
  for (const std::uint32_t head : {kMark, 0U, withAlpha ? kRgba : kRgb32, width, height}) out.push(head, 32);
  Bytes planes(static_cast<std::size_t>(size.area()) * 4);
  Byte* plane = planes.data();
  for (int y = 0; y < size.height; ++y)
    for (unsigned x = 0; x < width; ++x, plane += 4) {
      const Pixel p = pixels[static_cast<std::size_t>(y) * stride + x];
      plane[0] = static_cast<Byte>(p >> 16), plane[1] = static_cast<Byte>(p >> 8);
      plane[2] = static_cast<Byte>(p), plane[3] = static_cast<Byte>(p >> 24);
    }
  Rows<3, Writer> colours(out, codesOf(8), width, planes.data(), 4);
  Rows<1, Writer> alpha(out, codesOf(8), width, planes.data() + 3, 4);
  for (int y = 0; y < size.height; ++y) {
    colours.row(y, std::size_t{width} * 4);
    if (withAlpha) alpha.row(y, std::size_t{width} * 4);
  }
  return out.take();
}

}  // namespace kw::spice
