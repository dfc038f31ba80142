#include "rdp/codec/bulk.hpp"

#include <algorithm>
#include <unordered_map>
#include <utility>

#include "base/error.hpp"
#include "rdp/codec/bit_reader.hpp"
#include "rdp/codec/wide_history.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "compressed message";
constexpr std::size_t k8KSize = 8192, k64KSize = 65536;

/// 3.1.8.4.1.2, 3.1.8.4.2.2: how far back, by its prefix.
struct Offset {
  unsigned prefixBits, prefix, bits;
  std::size_t least;
};
constexpr Offset kOffsets8K[] = {{4, 0b1111, 6, 0}, {4, 0b1110, 8, 64}, {3, 0b110, 13, 320}};
constexpr Offset kOffsets64K[] = {
    {5, 0b11111, 6, 0}, {5, 0b11110, 8, 64}, {4, 0b1110, 11, 320}, {3, 0b110, 16, 2368}};

std::span<const Offset> offsetsOf(bool large) {
  return large ? std::span<const Offset>(kOffsets64K) : std::span<const Offset>(kOffsets8K);
}

/// After "11": the ones that follow say which.
std::size_t readOffset(BitReader& in, bool large) {
  const int most = large ? 3 : 2, ones = in.run(true, most);
  if (ones < most) in.bits(1);
  const Offset& o = offsetsOf(large)[static_cast<std::size_t>(most - ones)];
  return o.least + in.bits(static_cast<int>(o.bits));
}

/// 3.1.8.4.1.2.2: 0 is 3; n ones and a zero stand for n + 1 bits more.
std::size_t readLength(BitReader& in, bool large) {
  const int ones = in.run(true, 16);
  if (ones > (large ? 14 : 11)) protocolBroken(kWhat, "a match without an end");
  in.bits(1);
  return ones == 0 ? 3 : (std::size_t{1} << (ones + 1)) + in.bits(ones + 1);
}

}  // namespace

BulkReader::BulkReader() : history_(65536) {}
BulkReader::~BulkReader() = default;

ByteView BulkReader::open(unsigned flags, ByteView data) {
  if ((flags & bulk::kFlushed) != 0) std::fill(history_.begin(), history_.end(), Byte{0}), at_ = 0;
  if ((flags & bulk::kAtFront) != 0) at_ = 0;
  if ((flags & bulk::kCompressed) == 0) return data;
  const unsigned type = flags & bulk::kType;
  if (type == bulk::kRdp61) {
    if (!wide_) wide_ = std::make_unique<WideReader>();
    return wide_->open(data);
  }
  if (type > bulk::k64K)
    throw Error(ErrorKind::Unsupported, "the service compresses in a way that was not offered");
  const std::size_t begin = at_;
  decode(data, type == bulk::k64K);
  return ByteView(history_).subspan(begin, at_ - begin);
}

void BulkReader::decode(ByteView data, bool large) {
  const std::size_t size = large ? k64KSize : k8KSize;
  // A token is at least eight bits long: fewer at the end are padding.
  BitReader in(data);
  std::int64_t left = static_cast<std::int64_t>(data.size()) * 8;
  while (left >= 8) {
    const std::int64_t before = in.position();
    if (at_ >= size) protocolBroken(kWhat, "is longer than its history");
    if (!in.bit()) {
      history_[at_++] = static_cast<Byte>(in.bits(7));
    } else if (!in.bit()) {
      history_[at_++] = static_cast<Byte>(0x80 | in.bits(7));
    } else {
      const std::size_t back = readOffset(in, large), count = readLength(in, large);
      if (back == 0 || back > size) protocolBroken(kWhat, "looks back further than anything goes");
      if (count > size - at_) protocolBroken(kWhat, "is longer than its history");
      for (std::size_t i = 0; i < count; ++i, ++at_) history_[at_] = history_[(at_ + size - back) % size];
    }
    left -= in.position() - before;
    if (left < 0) protocolBroken(kWhat, "ends inside of a token");
  }
}

BulkWriter::Packed BulkWriter::close(ByteView data) {
  const std::size_t size = large_ ? k64KSize : k8KSize;
  Packed out;
  out.flags = large_ ? bulk::k64K : bulk::k8K;
  if (data.size() >= size || data.empty()) return {out.flags, Bytes(data.begin(), data.end())};
  if (!std::exchange(begun_, true)) out.flags |= bulk::kFlushed;
  if (history_.size() + data.size() > size) history_.clear(), out.flags |= bulk::kAtFront;
  const std::size_t begin = history_.size();
  history_.insert(history_.end(), data.begin(), data.end());
  std::unordered_map<std::uint32_t, std::size_t> seen;
  const auto key = [&](std::size_t i) {
    return static_cast<std::uint32_t>(history_[i] | history_[i + 1] << 8 | history_[i + 2] << 16);
  };
  for (std::size_t i = 0; i + 3 <= begin; ++i) seen[key(i)] = i;
  BitWriter bits;
  for (std::size_t i = begin; i < history_.size();) {
    std::size_t count = 0, back = 0;
    if (i + 3 <= history_.size()) {
      if (const auto found = seen.find(key(i)); found != seen.end()) {
        back = i - found->second;
        while (i + count < history_.size() && count < size / 2 - 1 &&
               history_[found->second + count] == history_[i + count])
          ++count;
      }
      seen[key(i)] = i;
    }
    if (count < 3) {
      const Byte b = history_[i++];
      (b & 0x80) != 0 ? bits.bits(0b10, 2) : bits.bits(0, 1);
      bits.bits(b & 0x7f, 7);
      continue;
    }
    for (const Offset& o : offsetsOf(large_)) {
      if (back < o.least || back - o.least >= std::size_t{1} << o.bits) continue;
      bits.bits(o.prefix, static_cast<int>(o.prefixBits));
      bits.bits(static_cast<std::uint32_t>(back - o.least), static_cast<int>(o.bits));
      break;
    }
    const int width = static_cast<int>(std::bit_width(count)) - 1;  // count is in [2^width, 2^(width+1))
    if (count == 3) {
      bits.bit(false);
    } else {
      for (int n = 1; n < width; ++n) bits.bit(true);
      bits.bit(false);
      bits.bits(static_cast<std::uint32_t>(count - (std::size_t{1} << width)), width);
    }
    i += count;
  }
  out.data = bits.take();
  out.flags |= bulk::kCompressed;
  return out;
}

}  // namespace kw::rdp
