#include "rdp/codec/zgfx.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <functional>
#include <unordered_map>

#include "base/little.hpp"
#include "rdp/codec/bit_reader.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "compressed graphics";
constexpr unsigned kSingle = 0xe0, kMultipart = 0xe1;  // 2.2.5.1 descriptor
constexpr unsigned kType = 0x4, kCompressed = 0x20;    // 2.2.5.3
constexpr std::size_t kHistory = 2500000;              // 3.1.9.1
constexpr std::size_t kMostSegment = 65535;            // of one segment, opened
constexpr std::size_t kMostMessage = std::size_t{64} << 20;

/// Matches are copied in blocks that may write beyond the match's end; the ring has so much more room than
/// its history, that this never reaches what is still looked back to.
constexpr std::size_t kBlock = 16;
constexpr std::size_t kRing = kHistory + kBlock;

/// 3.1.9.1.2: a prefix, and what it stands for: a byte, or a distance with some more bits.
struct Token {
  std::uint8_t length;
  std::uint16_t code;
  std::uint8_t more;
  bool match;
  std::uint32_t base;
};
constexpr std::array<Token, 40> kTokens{{
    {1, 0, 8, false, 0},          {5, 17, 5, true, 0},         {5, 18, 7, true, 32},
    {5, 19, 9, true, 160},        {5, 20, 10, true, 672},      {5, 21, 12, true, 1696},
    {5, 24, 0, false, 0x00},      {5, 25, 0, false, 0x01},     {6, 44, 14, true, 5792},
    {6, 45, 15, true, 22176},     {6, 52, 0, false, 0x02},     {6, 53, 0, false, 0x03},
    {6, 54, 0, false, 0xff},      {7, 92, 18, true, 54944},    {7, 93, 20, true, 317088},
    {7, 110, 0, false, 0x04},     {7, 111, 0, false, 0x05},    {7, 112, 0, false, 0x06},
    {7, 113, 0, false, 0x07},     {7, 114, 0, false, 0x08},    {7, 115, 0, false, 0x09},
    {7, 116, 0, false, 0x0a},     {7, 117, 0, false, 0x0b},    {7, 118, 0, false, 0x3a},
    {7, 119, 0, false, 0x3b},     {7, 120, 0, false, 0x3c},    {7, 121, 0, false, 0x3d},
    {7, 122, 0, false, 0x3e},     {7, 123, 0, false, 0x3f},    {7, 124, 0, false, 0x40},
    {7, 125, 0, false, 0x80},     {8, 188, 20, true, 1365664}, {8, 189, 21, true, 2414240},
    {8, 252, 0, false, 0x0c},     {8, 253, 0, false, 0x38},    {8, 254, 0, false, 0x39},
    {8, 255, 0, false, 0x66},     {9, 380, 22, true, 4511392}, {9, 381, 23, true, 8705696},
    {9, 382, 24, true, 17094304},
}};

/// What the next nine bits begin with: literals are whole in them.
struct Step {
  std::uint8_t length = 0;  ///< 0: there is no such token
  std::uint8_t more = 0;    ///< bits of a distance behind it
  bool match = false;
  std::uint32_t base = 0;
};
std::array<Step, 512> stepTable() {
  std::array<Step, 512> out{};
  for (const Token& t : kTokens) {
    const unsigned spare = 9U - t.length;
    for (unsigned i = 0; i < 1U << spare; ++i) {
      Step& step = out[(static_cast<unsigned>(t.code) << spare) + i];
      step = {t.length, t.more, t.match, t.base};
      if (!t.match && t.more > 0) step = {9, 0, false, i};
    }
  }
  return out;
}

/// 3.1.9.1.2: 0 is 3; then each one doubles the least and adds a bit.
std::size_t readCount(BitReader& in) {
  in.fill();
  const int ones = in.heldOnes();
  if (ones > 23) protocolBroken(kWhat, "a match without an end");
  in.drop(ones + 1);
  return ones == 0 ? 3 : (std::size_t{2} << ones) + in.heldBits(ones + 1);
}

}  // namespace

ZgfxReader::ZgfxReader() : history_(kRing) {}

ByteView ZgfxReader::open(ByteView segmented) {
  out_.clear();
  LittleReader in(segmented, kWhat);
  const unsigned descriptor = in.u8();
  if (descriptor == kSingle) {
    segment(in.rest());
    return out_;
  }
  if (descriptor != kMultipart) protocolBroken(kWhat, "an unknown beginning");
  const unsigned parts = in.u16();
  const std::size_t whole = in.u32();
  if (whole > kMostMessage) protocolBroken(kWhat, "announces " + std::to_string(whole) + " bytes");
  for (unsigned i = 0; i < parts; ++i) {
    const std::size_t size = in.u32();
    segment(in.bytes(size));
    if (out_.size() > whole) protocolBroken(kWhat, "is longer than it announces");
  }
  if (out_.size() != whole) protocolBroken(kWhat, "is shorter than it announces");
  return out_;
}

void ZgfxReader::segment(ByteView data) {
  LittleReader in(data, kWhat);
  const unsigned flags = in.u8();
  if ((flags & 0xf) != kType) protocolBroken(kWhat, "another kind of compression");
  const ByteView body = in.rest();
  if ((flags & kCompressed) != 0) {
    if (body.empty()) protocolBroken(kWhat, "an empty part");
    return decode(body.first(body.size() - 1), body.back());
  }
  if (body.size() > kMostMessage) protocolBroken(kWhat, "too much at once");
  literals(body);
  out_.insert(out_.end(), body.begin(), body.end());
}

void ZgfxReader::literals(ByteView bytes) {
  while (!bytes.empty()) {
    const std::size_t n = std::min(bytes.size(), kRing - at_);
    std::memcpy(&history_[at_], bytes.data(), n);
    at_ = at_ + n == kRing ? 0 : at_ + n;
    bytes = bytes.subspan(n);
  }
}

void ZgfxReader::match(std::size_t distance, std::size_t count) {
  if (distance > kHistory) protocolBroken(kWhat, "looks back further than anything goes");
  std::size_t from = at_ >= distance ? at_ - distance : at_ + kRing - distance;
  if (std::max(from, at_) + count + kBlock > kRing) {  // it may wrap
    for (; count > 0; --count) {
      history_[at_] = history_[from];
      at_ = at_ + 1 == kRing ? 0 : at_ + 1;
      from = from + 1 == kRing ? 0 : from + 1;
    }
    return;
  }
  Byte* to = &history_[at_];
  const Byte* source = &history_[from];
  at_ += count;
  if (distance >= kBlock) {
    for (std::size_t done = 0; done < count; done += kBlock) std::memcpy(to + done, source + done, kBlock);
    return;
  }
  // What was copied lengthens the pattern.
  for (std::size_t done = 0, n = 0; done < count; done += n) {
    n = std::min(count - done, distance + done);
    std::memcpy(to + done, source, n);
  }
}

void ZgfxReader::decode(ByteView data, unsigned spareBits) {
  static const std::array<Step, 512> table = stepTable();
  if (spareBits > 7 || (data.empty() && spareBits != 0))
    protocolBroken(kWhat, "more spare bits than a byte has");
  BitReader in(data);
  const std::int64_t end = static_cast<std::int64_t>(data.size()) * 8 - spareBits;
  const std::size_t begin = at_;
  std::size_t room = kMostSegment;
  const auto take = [&](std::size_t n) {
    if (n > room) protocolBroken(kWhat, "grows beyond a segment");
    room -= n;
  };
  while (in.position() < end) {
    in.fill();
    const Step& step = table[in.next(9)];
    if (step.length == 0) protocolBroken(kWhat, "a token that there is not");
    in.drop(step.length);
    if (!step.match) {
      take(1);
      history_[at_] = static_cast<Byte>(step.base);
      at_ = at_ + 1 == kRing ? 0 : at_ + 1;
    } else if (const std::size_t distance = step.base + in.heldBits(step.more); distance != 0) {
      const std::size_t count = readCount(in);
      take(count);
      match(distance, count);
    } else {
      const std::size_t count = in.bits(15);
      take(count);
      literals(in.bytes(count, kWhat));
    }
  }
  if (in.position() > end) protocolBroken(kWhat, "ends inside of a token");
  const Byte* ring = history_.data();
  if (at_ < begin) out_.insert(out_.end(), ring + begin, ring + kRing);
  out_.insert(out_.end(), ring + (at_ < begin ? 0 : begin), ring + at_);
}

// The server's side.

namespace {

Bytes segmented(ByteView message, const std::function<Bytes(ByteView)>& segment) {
  LittleWriter out;
  if (message.size() <= kMostSegment) {
    out.u8(kSingle).bytes(segment(message));
    return out.take();
  }
  const std::size_t parts = (message.size() + kMostSegment - 1) / kMostSegment;
  out.u8(kMultipart).u16(static_cast<unsigned>(parts)).u32(static_cast<std::uint32_t>(message.size()));
  for (std::size_t at = 0; at < message.size(); at += kMostSegment) {
    const Bytes part = segment(message.subspan(at, std::min(kMostSegment, message.size() - at)));
    out.u32(static_cast<std::uint32_t>(part.size())).bytes(part);
  }
  return out.take();
}

void writeLiteral(BitWriter& out, Byte b) {
  for (const Token& t : kTokens)
    if (!t.match && t.more == 0 && t.base == b) return out.bits(t.code, t.length);
  out.bits(0, 1);
  out.bits(b, 8);
}
void writeMatch(BitWriter& out, std::size_t distance, std::size_t count) {
  for (const Token& t : kTokens) {
    if (!t.match || distance < t.base || distance - t.base >= std::size_t{1} << t.more) continue;
    out.bits(t.code, t.length);
    out.bits(static_cast<std::uint32_t>(distance - t.base), t.more);
    break;
  }
  if (count == 3) return out.bit(false);
  out.bit(true);
  std::size_t least = 4;
  int more = 2;
  for (; count >= least * 2; least *= 2, ++more) out.bit(true);
  out.bit(false);
  out.bits(static_cast<std::uint32_t>(count - least), more);
}

Bytes compressSegment(ByteView in) {
  BitWriter bits;
  std::unordered_map<std::uint32_t, std::size_t> seen;
  for (std::size_t i = 0; i < in.size();) {
    std::size_t best = 0, distance = 0;
    if (i + 4 <= in.size()) {
      const std::uint32_t key = loadLe32(&in[i]);
      if (const auto found = seen.find(key); found != seen.end()) {
        distance = i - found->second;
        while (i + best < in.size() && in[found->second + best] == in[i + best]) ++best;
      }
      seen[key] = i;
    }
    if (best >= 4) {
      writeMatch(bits, distance, best);
      i += best;
    } else {
      writeLiteral(bits, in[i++]);
    }
  }
  LittleWriter out;
  const unsigned spare = bits.spare();
  out.u8(kType | kCompressed).bytes(bits.take()).u8(spare);
  return out.take();
}

}  // namespace

Bytes writeZgfx(ByteView message) {
  return segmented(message, [](ByteView part) {
    LittleWriter out;
    out.u8(kType).bytes(part);
    return out.take();
  });
}

Bytes compressZgfx(ByteView message) { return segmented(message, compressSegment); }

}  // namespace kw::rdp
