#include "rdp/codec/rlgr.hpp"

#include <algorithm>

#include "base/simd.hpp"
#include "rdp/codec/bit_reader.hpp"

namespace kw::rdp {

namespace {

// 3.1.8.1.7.1: parameters are kept eight times finer than they are used.
constexpr int kMost = 80, kUpRun = 4, kDownRun = 6, kUpZero = 3, kDownZero = 3;

struct Parameter {
  int fine = 8;
  [[nodiscard]] int value() const { return fine >> 3; }
  void add(int delta) { fine = std::clamp(fine + delta, 0, kMost); }
};

/// Of ones, which a zero ends that is taken, too. By value, so that a reader that never comes here may stay
/// in registers.
std::pair<int, BitReader> longRun(BitReader in) {
  int ones = 0;
  for (;;) {
    const int n = in.run(true, 32);
    ones += n;
    if (n < 32 || in.missing() > 0) break;
  }
  in.bits(1);
  in.fill();
  return {ones, in};
}

/// A Golomb-Rice number: as many ones as `remainder` bits overflow, a zero, the remainder.
KW_INLINE inline std::uint32_t golomb(BitReader& in, Parameter& remainder) {
  in.fill();
  int high = in.heldOnes();
  if (high < 32)
    in.drop(high + 1);
  else
    std::tie(high, in) = longRun(in);
  const int low = remainder.value();
  const std::uint32_t out = (static_cast<std::uint32_t>(high) << low) | in.heldBits(low);
  remainder.add(high == 0 ? -2 : high == 1 ? 0 : std::min(high, kMost));
  return out;
}

/// Even ones are their half, odd ones less than zero.
std::int16_t signedFrom(std::uint32_t folded) {
  return static_cast<std::int16_t>((folded >> 1) ^ (0 - (folded & 1)));
}
std::uint32_t folded(int v) {
  return v < 0 ? static_cast<std::uint32_t>(-v * 2 - 1) : static_cast<std::uint32_t>(v * 2);
}

class Decoder {
 public:
  Decoder(ByteView data, std::span<std::int16_t> out) : in_(data), out_(out) {}

  KW_INLINE void run(RlgrMode mode) {
    std::fill(out_.begin(), out_.end(), std::int16_t{0});
    while (at_ < out_.size() && !in_.atEnd()) {
      if (run_.value() != 0)
        zerosAndOne();
      else if (mode == RlgrMode::One)
        one();
      else
        two();
    }
  }

 private:
  KW_INLINE void put(std::int16_t v) {
    if (at_ < out_.size()) out_[at_++] = v;
  }
  /// They are there already.
  void zeros(std::size_t n) { at_ = std::min(at_ + n, out_.size()); }
  KW_INLINE void zerosAndOne() {
    for (int stretches = 32; stretches == 32;) {
      stretches = in_.run(false, 32);
      for (int i = 0; i < stretches; ++i) {
        zeros(std::size_t{1} << run_.value());
        run_.add(kUpRun);
      }
      if (at_ >= out_.size() || in_.atEnd()) return;
    }
    in_.fill();
    in_.drop(1);
    zeros(in_.heldBits(run_.value()));
    const bool negative = in_.heldBits(1) != 0;
    const auto magnitude = static_cast<std::int64_t>(golomb(in_, remainder_)) + 1;
    put(static_cast<std::int16_t>(negative ? -magnitude : magnitude));
    run_.add(-kDownRun);
  }
  KW_INLINE void one() {
    const std::uint32_t v = golomb(in_, remainder_);
    put(signedFrom(v));
    run_.add(v == 0 ? kUpZero : -kDownZero);
  }
  KW_INLINE void two() {
    const std::uint32_t sum = golomb(in_, remainder_);
    const std::uint32_t first = in_.bits(static_cast<int>(std::bit_width(sum))), second = sum - first;
    put(signedFrom(first));
    put(signedFrom(second));
    constexpr int kChange[] = {2 * kUpZero, 0, -2 * kDownZero};
    run_.add(kChange[(first != 0 ? 1 : 0) + (second != 0 ? 1 : 0)]);
  }

  BitReader in_;
  std::span<std::int16_t> out_;
  std::size_t at_ = 0;
  Parameter run_, remainder_;
};

class Encoder {
 public:
  explicit Encoder(std::span<const std::int16_t> values) : values_(values) {}

  Bytes run(RlgrMode mode) {
    while (at_ < values_.size()) {
      if (run_.value() != 0)
        zerosAndOne();
      else if (mode == RlgrMode::One)
        one();
      else
        two();
    }
    return out_.take();
  }

 private:
  int next() { return at_ < values_.size() ? values_[at_++] : 0; }
  void golomb(std::uint32_t v) {
    const std::uint32_t high = v >> remainder_.value();
    for (std::uint32_t i = 0; i < high; ++i) out_.bit(true);
    out_.bit(false);
    out_.bits(v, remainder_.value());
    if (high == 0)
      remainder_.add(-2);
    else if (high > 1)
      remainder_.add(static_cast<int>(std::min<std::uint32_t>(high, kMost)));
  }
  void zerosAndOne() {
    std::size_t zeros = 0;
    while (at_ < values_.size() && values_[at_] == 0) ++zeros, ++at_;
    while (zeros >= std::size_t{1} << run_.value()) {
      out_.bit(false);
      zeros -= std::size_t{1} << run_.value();
      run_.add(kUpRun);
    }
    out_.bit(true);
    out_.bits(static_cast<std::uint32_t>(zeros), run_.value());
    // Zeros at the end: any value closes the run, and the reader drops it.
    const int v = at_ < values_.size() ? next() : 1;
    out_.bit(v < 0);
    golomb(static_cast<std::uint32_t>(std::abs(v)) - 1);
    run_.add(-kDownRun);
  }
  void one() {
    const int v = next();
    golomb(folded(v));
    run_.add(v == 0 ? kUpZero : -kDownZero);
  }
  void two() {
    const std::uint32_t first = folded(next()), second = folded(next()), sum = first + second;
    golomb(sum);
    out_.bits(first, static_cast<int>(std::bit_width(sum)));
    if (first != 0 && second != 0)
      run_.add(-2 * kDownZero);
    else if (first == 0 && second == 0)
      run_.add(2 * kUpZero);
  }

  std::span<const std::int16_t> values_;
  std::size_t at_ = 0;
  BitWriter out_;
  Parameter run_, remainder_;
};

}  // namespace

KW_BITS void decodeRlgr(RlgrMode mode, ByteView data, std::span<std::int16_t> out) {
  Decoder(data, out).run(mode);
}
Bytes encodeRlgr(RlgrMode mode, std::span<const std::int16_t> values) { return Encoder(values).run(mode); }

}  // namespace kw::rdp
