// Bits from the highest of each byte on, as RDP's coefficient coders lay them; zeros past the end.
#pragma once
#include <algorithm>
#include <bit>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "base/simd.hpp"

namespace kw::rdp {

class BitReader {
 public:
  explicit BitReader(ByteView data)
      : begin_(data.data()), at_(data.data()), end_(data.data() + data.size()) {}

  [[nodiscard]] KW_INLINE bool atEnd() const { return at_ == end_ && held_ <= 0; }
  /// How many bits were asked for that are not there.
  [[nodiscard]] std::int64_t missing() const { return held_ < 0 ? -held_ : 0; }

  /// How many bits were taken so far.
  [[nodiscard]] std::int64_t position() const { return (at_ - begin_) * 8 - held_; }

  KW_INLINE bool bit() { return bits(1) != 0; }
  /// `count` is 0 to 32.
  KW_INLINE std::uint32_t bits(int count) {
    fill();
    return heldBits(count);
  }
  /// How many bits like `one` come next, up to `most` (at most 32); they are taken, what follows is not.
  KW_INLINE int run(bool one, int most) {
    fill();
    const int n = std::min(std::countl_zero(one ? ~window_ : window_), most);
    drop(n);
    return n;
  }

  /// For those who take several things at once: afterwards heldBits() gives 56 bits without looking for more.
  KW_INLINE void fill() {
    if (held_ > 56) return;
    if (end_ - at_ >= 8) {
      // What is taken in beyond whole bytes is taken in again the next time, as the same bits.
      window_ |= loadBe64(at_) >> held_;
      at_ += (63 - held_) >> 3;
      held_ |= 56;
      return;
    }
    fillSlowly();
  }
  KW_INLINE std::uint32_t heldBits(int count) {
    const auto out = static_cast<std::uint32_t>(window_ >> 1 >> (63 - count));
    drop(count);
    return out;
  }
  /// What comes next; it stays.
  [[nodiscard]] std::size_t next(int count) const { return window_ >> (64 - count); }
  /// How many ones come next; 64 at most. They stay.
  [[nodiscard]] KW_INLINE int heldOnes() const { return std::countl_one(window_); }
  KW_INLINE void drop(int count) {
    window_ <<= count;
    held_ -= count;
  }

  /// Whole bytes from the next byte's edge on. Throws Error{ProtocolBroken} about `what` where they are not
  /// there.
  ByteView bytes(std::size_t count, const char* what) {
    const std::int64_t from = (position() + 7) / 8, size = end_ - begin_;
    if (from > size || count > static_cast<std::size_t>(size - from))
      protocolBroken(what, "ends inside of plain bytes");
    at_ = begin_ + from + count;
    window_ = 0;
    held_ = 0;
    return {begin_ + from, count};
  }

 private:
  KW_INLINE void fillSlowly() {
    for (; held_ <= 56 && at_ != end_; held_ += 8) window_ |= std::uint64_t{*at_++} << (56 - held_);
  }

  const Byte *begin_, *at_, *end_;
  std::uint64_t window_ = 0;  ///< the next bit highest; zeros behind the last byte
  std::int64_t held_ = 0;     ///< whole bytes' bits in it; below zero past the end
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
