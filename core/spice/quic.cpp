// Reads QUIC.
#include "base/little.hpp"
#include "spice/pixels.hpp"
#include "spice/quic_model.hpp"

namespace kw::spice {

namespace {

using namespace quic;
constexpr const char* kWhat = "QUIC image";

class Reader {
 public:
  static constexpr bool kWrites = false;
  explicit Reader(ByteView data) : at_(data.data()), end_(data.data() + data.size()) { refill(); }
  [[nodiscard]] std::uint32_t peek() const { return static_cast<std::uint32_t>(window_ >> 32); }
  void eat(unsigned n) {
    window_ <<= n;
    have_ -= static_cast<int>(n);
    if (have_ < 32) refill();
  }
  std::uint32_t word() {
    const std::uint32_t v = peek();
    eat(32);
    return v;
  }

  unsigned get(const Codes& codes, unsigned l) {
    const std::uint32_t word = peek();
    unsigned length, value;
    if (word > codes.longMask[l]) {
      const unsigned zeros = static_cast<unsigned>(std::countl_zero(word));
      length = zeros + 1 + l;
      value = (zeros << l) | (word >> (32 - length) & mask(l));
    } else {
      length = codes.longLength[l];
      value = codes.plain[l] + (word >> (32 - length) & mask(codes.longSuffix[l]));
    }
    eat(length);
    return value;
  }

  /// A run of more than `most` pixels is an error.
  unsigned getRun(State& state, unsigned most) {
    unsigned length = 0;
    for (;;) {
      const unsigned ones = std::min(8U, static_cast<unsigned>(std::countl_one(peek())));
      for (unsigned i = 0; i < ones; ++i) {
        length += 1U << state.runBits;
        state.longerRuns();
        if (length > most) protocolBroken(kWhat, "a run is longer than a row");
      }
      if (ones != 8) {
        eat(ones + 1);
        break;
      }
      eat(8);
    }
    if (state.runBits != 0) {
      length += peek() >> (32 - state.runBits);
      eat(state.runBits);
    }
    state.shorterRuns();
    if (length > most) protocolBroken(kWhat, "a run is longer than a row");
    return length;
  }

 private:
  /// Words in little endian, their highest bit first. A little past the end zeros are read, then it is an
  /// error.
  void refill() {
    while (have_ <= 32) {
      std::uint32_t w = 0;
      if (end_ - at_ >= 4) {
        w = loadLe32(at_);
        at_ += 4;
      } else if (++past_ > 4) {
        protocolBroken(kWhat, "ends early");
      }
      window_ |= static_cast<std::uint64_t>(w) << (32 - have_);
      have_ += 32;
    }
  }
  const Byte* at_;
  const Byte* end_;
  std::uint64_t window_ = 0;
  int have_ = 0, past_ = 0;
};

}  // namespace

Image decodeQuic(ByteView data, Size size) {
  Reader bits(data);
  if (bits.word() != kMark) protocolBroken(kWhat, "its mark is missing");
  bits.word();  // version
  const std::uint32_t type = bits.word();
  const Size own{static_cast<int>(bits.word() & 0xffffff), static_cast<int>(bits.word() & 0xffffff)};
  if (!(own == size)) protocolBroken(kWhat, "two sizes that do not agree");
  if (type < kGray || type > kRgba) protocolBroken(kWhat, "kind " + std::to_string(type));
  Image image{size, std::vector<Pixel>(static_cast<std::size_t>(size.area())), type == kRgba};
  const std::size_t stride = static_cast<std::size_t>(size.width) * 4;
  // Red, green, blue and alpha in the order in which they are coded.
  Bytes planes(static_cast<std::size_t>(size.area()) * 4);
  const unsigned width = static_cast<unsigned>(size.width);
  const Codes& codes = codesOf(type == kRgb16 ? 5 : 8);
  if (type == kGray) {
    Rows<1, Reader> gray(bits, codes, width, planes.data(), 4);
    for (int y = 0; y < size.height; ++y) gray.row(y, stride);
  } else {
    Rows<3, Reader> colours(bits, codes, width, planes.data(), 4);
    Rows<1, Reader> alpha(bits, codes, width, planes.data() + 3, 4);
    for (int y = 0; y < size.height; ++y) {
      colours.row(y, stride);
      if (type == kRgba) alpha.row(y, stride);
    }
  }
  const auto wide = [](unsigned five) { return (five << 3) | (five >> 2); };
  for (std::size_t i = 0; i < image.pixels.size(); ++i) {
    const Byte* p = planes.data() + i * 4;
    if (type == kGray)
      image.pixels[i] = rgb(p[0], p[0], p[0]);
    else if (type == kRgb16)
      image.pixels[i] = rgb(wide(p[0]), wide(p[1]), wide(p[2]));
    else
      image.pixels[i] =
          (rgb(p[0], p[1], p[2]) & 0xffffff) | (type == kRgba ? static_cast<Pixel>(p[3]) << 24 : kOpaque);
  }
  return image;
}

}  // namespace kw::spice
