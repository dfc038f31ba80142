#include <algorithm>

#include "base/error.hpp"
#include "rdp/bitmap_codec.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "interleaved RLE";

/// A pixel of N bytes, kept in a word.
template <int N>
struct Pel {
  static std::uint32_t load(const Byte* p) {
    if constexpr (N == 1) return p[0];
    if constexpr (N == 2) return static_cast<std::uint32_t>(p[0] | (p[1] << 8));
    return static_cast<std::uint32_t>(p[0] | (p[1] << 8)) | (static_cast<std::uint32_t>(p[2]) << 16);
  }
  static void store(Byte* p, std::uint32_t v) {
    p[0] = static_cast<Byte>(v);
    if constexpr (N > 1) p[1] = static_cast<Byte>(v >> 8);
    if constexpr (N > 2) p[2] = static_cast<Byte>(v >> 16);
  }
};

/// What a code says, apart from how long it is.
enum class Order { Background, Foreground, FgBg, Colour, Pixels, Dithered, White, Black, Mask };

struct Code {
  Order order;
  bool setsForeground = false;
  std::size_t length = 0;
  Byte mask = 0;  ///< for Mask
};

class CodeReader {
 public:
  explicit CodeReader(ByteView in) : at_(in.data()), end_(in.data() + in.size()) {}
  [[nodiscard]] bool more() const { return at_ < end_; }
  const Byte* need(std::size_t n) {
    if (static_cast<std::size_t>(end_ - at_) < n) protocolBroken(kWhat, "ends early");
    const Byte* p = at_;
    at_ += n;
    return p;
  }

  /// The table of 2.2.9.1.1.3.1.2.4.
  Code next() {
    const unsigned b = *need(1);
    if ((b & 0xc0) != 0xc0) return regular(b);
    if ((b & 0xf0) != 0xf0) return lite(b);
    return special(b);
  }

 private:
  Code regular(unsigned b) {
    static constexpr Order orders[] = {Order::Background, Order::Foreground, Order::FgBg,
                                       Order::Colour,     Order::Pixels,     Order::Pixels};
    Code code{orders[b >> 5]};
    if ((b >> 5) == 5) protocolBroken(kWhat, "code 5");
    const unsigned length = b & 0x1f;
    if (code.order == Order::FgBg)
      code.length = length != 0 ? length * 8 : *need(1) + 1U;
    else
      code.length = length != 0 ? length : *need(1) + 32U;
    return code;
  }
  Code lite(unsigned b) {
    const unsigned kind = b >> 4, length = b & 0xf;
    Code code{kind == 0xc ? Order::Foreground : kind == 0xd ? Order::FgBg : Order::Dithered};
    code.setsForeground = kind != 0xe;
    if (code.order == Order::FgBg)
      code.length = length != 0 ? length * 8 : *need(1) + 1U;
    else
      code.length = length != 0 ? length : *need(1) + 16U;
    return code;
  }
  Code special(unsigned b) {
    Code code{Order::Black};
    switch (b) {
      case 0xf0: code.order = Order::Background; break;
      case 0xf1: code.order = Order::Foreground; break;
      case 0xf2: code.order = Order::FgBg; break;
      case 0xf3: code.order = Order::Colour; break;
      case 0xf4: code.order = Order::Pixels; break;
      case 0xf6: code = {Order::Foreground, true}; break;
      case 0xf7: code = {Order::FgBg, true}; break;
      case 0xf8: code.order = Order::Dithered; break;
      case 0xf9: return {Order::Mask, false, 8, 0x03};
      case 0xfa: return {Order::Mask, false, 8, 0x05};
      case 0xfd: return {Order::White, false, 1};
      case 0xfe: return {Order::Black, false, 1};
      default: protocolBroken(kWhat, "code " + std::to_string(b));
    }
    const Byte* p = need(2);
    code.length = static_cast<std::size_t>(p[0] | (p[1] << 8));
    return code;
  }

  const Byte* at_;
  const Byte* end_;
};

template <int N>
class Decoder {
 public:
  Decoder(ByteView in, std::size_t width, ByteSpan out)
      : in_(in), row_(width * N), begin_(out.data()), at_(out.data()), end_(out.data() + out.size()) {}

  void run() {
    bool first = true, insert = false;
    while (in_.more()) {
      if (first && static_cast<std::size_t>(at_ - begin_) >= row_) first = insert = false;
      Code code = in_.next();
      if (code.order == Order::Background) {
        background(code.length, first, insert);
        insert = true;
        continue;
      }
      insert = false;
      if (code.setsForeground) foreground_ = P::load(in_.need(N));
      step(code, first);
    }
  }

 private:
  using P = Pel<N>;

  void step(const Code& code, bool first) {
    switch (code.order) {
      case Order::Foreground: foreground(code.length, first); break;
      case Order::FgBg: {
        std::size_t left = code.length;
        while (left > 0) {
          const std::size_t n = std::min<std::size_t>(left, 8);
          masked(*in_.need(1), n, first);
          left -= n;
        }
        break;
      }
      case Order::Mask: masked(code.mask, 8, first); break;
      case Order::Colour: fill(P::load(in_.need(N)), code.length); break;
      case Order::Pixels: {
        const std::size_t bytes = code.length * N;
        room(code.length);
        std::memcpy(at_, in_.need(bytes), bytes);
        at_ += bytes;
        break;
      }
      case Order::Dithered: {
        const std::uint32_t a = P::load(in_.need(N)), b = P::load(in_.need(N));
        room(code.length * 2);
        for (std::size_t i = 0; i < code.length; ++i) put(a), put(b);
        break;
      }
      case Order::White: fill(kWhite, 1); break;
      case Order::Black: fill(0, 1); break;
      case Order::Background: break;
    }
  }

  void room(std::size_t pixels) const {
    if (pixels > static_cast<std::size_t>(end_ - at_) / N)
      protocolBroken(kWhat, "more pixels than the picture has");
  }
  void put(std::uint32_t v) {
    P::store(at_, v);
    at_ += N;
  }
  void fill(std::uint32_t v, std::size_t n) {
    room(n);
    if constexpr (N == 1) {
      std::memset(at_, static_cast<int>(v), n);
      at_ += n;
    } else {
      // Doubling copies are as fast as memory.
      if (n == 0) return;
      Byte* from = at_;
      put(v);
      for (std::size_t done = 1; done < n;) {
        const std::size_t now = std::min(done, n - done);
        std::memcpy(at_, from, now * N);
        at_ += now * N;
        done += now;
      }
    }
  }
  /// Copies from the row before. A run longer than a row repeats what it has just written.
  void above(std::size_t n) {
    room(n);
    std::size_t left = n * N;
    while (left > 0) {
      const std::size_t now = std::min(left, row_);
      std::memcpy(at_, at_ - row_, now);
      at_ += now;
      left -= now;
    }
  }
  void background(std::size_t n, bool first, bool insert) {
    room(n);
    if (insert && n > 0) {
      put(first ? foreground_ : P::load(at_ - row_) ^ foreground_);
      --n;
    }
    first ? fill(0, n) : above(n);
  }
  void foreground(std::size_t n, bool first) {
    room(n);
    if (first) return fill(foreground_, n);
    for (std::size_t i = 0; i < n; ++i) put(P::load(at_ - row_) ^ foreground_);
  }
  void masked(unsigned mask, std::size_t n, bool first) {
    room(n);
    for (std::size_t i = 0; i < n; ++i, mask >>= 1) {
      const std::uint32_t below = first ? 0 : P::load(at_ - row_);
      put((mask & 1) != 0 ? below ^ foreground_ : below);
    }
  }

  static constexpr std::uint32_t kWhite = N == 1 ? 0xff : N == 2 ? 0xffff : 0xffffff;
  CodeReader in_;
  std::size_t row_;
  Byte* begin_;
  Byte* at_;
  Byte* end_;
  std::uint32_t foreground_ = kWhite;
};

template <int N>
class Encoder {
 public:
  Encoder(const Byte* in, std::size_t width, std::size_t pixels) : in_(in), width_(width), pixels_(pixels) {}
  Bytes run() {
    std::size_t plain = 0;
    bool afterBackground = false;
    for (std::size_t at = 0; at < pixels_;) {
      const std::size_t rowEnd = (at / width_ + 1) * width_;
      const std::size_t same = at < width_ ? zeros(at, rowEnd) : asAbove(at, rowEnd);
      const std::size_t colour = equal(at, rowEnd);
      // Two runs of the background after each other would mean a foreground pixel between them.
      if (same >= 3 && !(afterBackground && plain == 0)) {
        flush(at, plain);
        code(0xf0, same);
        at += same;
        afterBackground = true;
      } else if (colour >= 3) {
        flush(at, plain);
        code(0xf3, colour);
        pixel(at);
        at += colour;
        afterBackground = false;
      } else {
        ++plain;
        ++at;
        if (plain == 0xffff) {
          flush(at, plain);
          afterBackground = false;
        }
        continue;
      }
      plain = 0;
    }
    flush(pixels_, plain);
    return std::move(out_);
  }

 private:
  using P = Pel<N>;
  [[nodiscard]] std::uint32_t at(std::size_t i) const { return P::load(in_ + i * N); }
  [[nodiscard]] std::size_t zeros(std::size_t from, std::size_t end) const {
    std::size_t n = from;
    while (n < end && at(n) == 0) ++n;
    return n - from;
  }
  [[nodiscard]] std::size_t asAbove(std::size_t from, std::size_t end) const {
    std::size_t n = from;
    while (n < end && at(n) == at(n - width_)) ++n;
    return n - from;
  }
  [[nodiscard]] std::size_t equal(std::size_t from, std::size_t end) const {
    std::size_t n = from;
    while (n < end && at(n) == at(from)) ++n;
    return n - from;
  }
  void code(unsigned kind, std::size_t length) {
    out_.push_back(static_cast<Byte>(kind));
    out_.push_back(static_cast<Byte>(length));
    out_.push_back(static_cast<Byte>(length >> 8));
  }
  void pixel(std::size_t i) { out_.insert(out_.end(), in_ + i * N, in_ + (i + 1) * N); }
  void flush(std::size_t before, std::size_t& plain) {
    if (plain == 0) return;
    code(0xf4, plain);
    out_.insert(out_.end(), in_ + (before - plain) * N, in_ + before * N);
    plain = 0;
  }

  const Byte* in_;
  std::size_t width_, pixels_;
  Bytes out_;
};

}  // namespace

void decodeInterleaved(ByteView data, int width, int height, int bytesPerPixel, ByteSpan out) {
  const std::size_t w = static_cast<std::size_t>(width);
  if (out.size() != w * static_cast<std::size_t>(height) * static_cast<std::size_t>(bytesPerPixel))
    throw Error(ErrorKind::Local, "the room for a picture has another size");
  if (bytesPerPixel == 1) return Decoder<1>(data, w, out).run();
  if (bytesPerPixel == 2) return Decoder<2>(data, w, out).run();
  Decoder<3>(data, w, out).run();
}

Bytes encodeInterleaved(const Byte* pixels, int width, int height, int bytesPerPixel) {
  const std::size_t w = static_cast<std::size_t>(width), all = w * static_cast<std::size_t>(height);
  if (bytesPerPixel == 1) return Encoder<1>(pixels, w, all).run();
  if (bytesPerPixel == 2) return Encoder<2>(pixels, w, all).run();
  return Encoder<3>(pixels, w, all).run();
}

}  // namespace kw::rdp
