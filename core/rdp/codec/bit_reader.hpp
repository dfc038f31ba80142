// Bits from the highest of each byte on, as RDP's coefficient coders lay them; zeros past the end.
#pragma once
#include <bit>

#include "base/bytes.hpp"

namespace kw::rdp {

class BitReader {
 public:
  explicit BitReader(ByteView data) : at_(data.data()), end_(data.data() + data.size()) {}

  [[nodiscard]] bool atEnd() const { return at_ == end_ && held_ <= 0; }
  /// How many bits were asked for that are not there.
  [[nodiscard]] int missing() const { return held_ < 0 ? -held_ : 0; }

  /// How many bits were taken so far.
  [[nodiscard]] std::int64_t position() const { return taken_; }

  bool bit() { return bits(1) != 0; }
  /// `count` is 0 to 32.
  std::uint32_t bits(int count) {
    if (count == 0) return 0;
    fill();
    const auto out = static_cast<std::uint32_t>(window_ >> (64 - count));
    drop(count);
    return out;
  }
  /// How many bits like `one` come next, up to `most` (at most 32); they are taken, what follows is not.
  int run(bool one, int most) {
    fill();
    const std::uint64_t seen = one ? ~window_ : window_;
    const int n = std::min(seen == 0 ? 64 : std::countl_zero(seen), most);
    drop(n);
    return n;
  }

 private:
  void fill() {
    while (held_ <= 56 && at_ != end_) {
      window_ |= std::uint64_t{*at_++} << (56 - held_);
      held_ += 8;
    }
  }
  void drop(int count) {
    taken_ += count;
    window_ = count == 64 ? 0 : window_ << count;
    held_ = std::max(held_ - count, -(1 << 20));
  }

  const Byte *at_, *end_;
  std::uint64_t window_ = 0;
  int held_ = 0;
  std::int64_t taken_ = 0;
};

class BitWriter {
 public:
  void bits(std::uint32_t value, int count) {
    for (int i = count - 1; i >= 0; --i) bit((value >> i & 1) != 0);
  }
  void bit(bool one) {
    if (used_ == 0) out_.push_back(0);
    if (one) out_.back() |= static_cast<Byte>(0x80U >> used_);
    used_ = (used_ + 1) % 8;
  }
  /// The rest of the last byte is zero.
  [[nodiscard]] Bytes take() { return std::move(out_); }
  /// Bits of the last byte that are not used.
  [[nodiscard]] unsigned spare() const { return used_ == 0 ? 0 : 8 - static_cast<unsigned>(used_); }

 private:
  Bytes out_;
  int used_ = 0;
};

}  // namespace kw::rdp
