// The codecs of RDP's later pictures, each against its own way back and against bytes written from the
// specification.
#include "rdp/codec/bit_reader.hpp"
#include "rdp/codec/clear_codec.hpp"
#include "rdp/codec/nscodec.hpp"
#include "rdp/codec/progressive.hpp"
#include "rdp/codec/remote_fx.hpp"
#include "rdp/codec/rlgr.hpp"
#include "rdp/codec/wide_history.hpp"
#include "rdp/codec/zgfx.hpp"
#include "rdp/surface_commands.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

std::vector<std::int16_t> coefficients(unsigned seed, int density) {
  std::mt19937 dice(seed);
  std::vector<std::int16_t> out(kTileArea);
  for (std::int16_t& v : out)
    if (static_cast<int>(dice() % 100) < density)
      v = static_cast<std::int16_t>(static_cast<int>(dice() % 400) - 200);
  return out;
}

Quant quantOf(std::uint8_t bits) {
  Quant q;
  q.fill(bits);
  return q;
}

std::vector<Pixel> pixelsOf(const Framebuffer& f) { return {f.row(0), f.row(0) + f.size().area()}; }

int largest(const std::vector<Pixel>& a, const std::vector<Pixel>& b) {
  REQUIRE(a.size() == b.size());
  int most = 0;
  for (std::size_t i = 0; i < a.size(); ++i)
    for (int shift : {0, 8, 16})
      most = std::max(
          most, std::abs(static_cast<int>(a[i] >> shift & 255) - static_cast<int>(b[i] >> shift & 255)));
  return most;
}

/// Flat areas, as a desktop has them.
Framebuffer flatPicture(Size size) {
  Framebuffer out(size);
  out.fill(out.rect(), rgb(230, 228, 220));
  out.fill({20, 10, 60, 50}, rgb(30, 60, 140));
  out.fill({90, 33, 30, 70}, rgb(200, 40, 30));
  return out;
}

}  // namespace

TEST_CASE("RLGR: coefficients survive in both modes, sparse and dense", "[rdp][codec]") {
  const RlgrMode mode = GENERATE(RlgrMode::One, RlgrMode::Three);
  for (int density : {0, 1, 5, 30, 100}) {
    const auto values = coefficients(static_cast<unsigned>(density) + 1, density);
    const Bytes coded = encodeRlgr(mode, values);
    std::vector<std::int16_t> back(values.size(), 99);
    decodeRlgr(mode, coded, back);
    CHECK(back == values);
  }
}

TEST_CASE("RLGR: the first values of a stream, bit by bit from the specification", "[rdp][codec]") {
  // k is 1: "0" is a run of two zeros and k's parameter grows to 12; "1" ends the run, "1" says one more
  // zero, "0" positive, and "10" with the remainder bit "1" of the Golomb code is 3, so the value is 4.
  const Bytes bits{0b01101010};  // 0 1 1 0 | 1 0 1 | 0
  std::int16_t out[4] = {9, 9, 9, 9};
  decodeRlgr(RlgrMode::One, bits, out);
  CHECK(out[0] == 0);
  CHECK(out[1] == 0);
  CHECK(out[2] == 0);
  CHECK(out[3] == 4);
}

TEST_CASE("RLGR: any bytes give some coefficients and end", "[rdp][codec]") {
  std::mt19937 dice(3);
  std::vector<std::int16_t> out(kTileArea);
  for (int round = 0; round < 200; ++round) {
    Bytes noise(dice() % 300);
    for (Byte& b : noise) b = static_cast<Byte>(round % 3 == 0 ? 0xff : dice());
    decodeRlgr(round % 2 == 0 ? RlgrMode::One : RlgrMode::Three, noise, out);
  }
  decodeRlgr(RlgrMode::One, {}, out);
  CHECK(out[0] == 0);
}

TEST_CASE("Wavelet: both layouts give back what went in", "[rdp][codec]") {
  const BandLayout layout = GENERATE(BandLayout::Even, BandLayout::Extended);
  std::mt19937 dice(5);
  Coefficients before;
  for (std::int16_t& v : before) v = static_cast<std::int16_t>(static_cast<int>(dice() % 8192) - 4096);
  Coefficients after = before;
  forwardTransform(after, layout);
  CHECK(after != before);
  inverseTransform(after, layout);
  int most = 0;
  for (std::size_t i = 0; i < kTileArea; ++i) most = std::max(most, std::abs(after[i] - before[i]));
  // Halving the high parts loses their lowest bit on each of three levels.
  CHECK(most <= 16);
  int bands = 0;
  for (const Band& b : bandsOf(layout)) bands += b.count();
  CHECK(bands == static_cast<int>(kTileArea));
}

TEST_CASE("Quantisation halves lie in the order of each codec", "[rdp][codec]") {
  const Bytes five{0x21, 0x43, 0x65, 0x87, 0xa9};
  // MS-RDPRFX 2.2.2.1.5: LL3 LH3 HL3 HH3 LH2 HL2 HH2 LH1 HL1 HH1
  const Quant fx = quantOfRemoteFx(five);
  CHECK(fx == Quant{9, 8, 10, 6, 5, 7, 3, 2, 4, 1});
  // MS-RDPEGFX 2.2.4.2.1.5.2: LL3 HL3 LH3 HH3 HL2 LH2 HH2 HL1 LH1 HH1
  const Quant progressive = quantOfProgressive(five);
  CHECK(progressive == Quant{8, 9, 10, 5, 6, 7, 2, 3, 4, 1});
  CHECK(writeQuantOfRemoteFx(fx) == five);
  CHECK(writeQuantOfProgressive(progressive) == five);
}

TEST_CASE("RemoteFX: a picture comes back within its rounding, and only inside its rectangles",
          "[rdp][codec]") {
  const RlgrMode mode = GENERATE(RlgrMode::One, RlgrMode::Three);
  const Framebuffer source = colourfulPicture({200, 150});
  const Bytes message = encodeRemoteFx(source, source.rect(), mode, quantOf(1));
  Framebuffer seen({260, 200});
  RemoteFxDecoder decoder;
  const Region damage = decoder.decode(message, seen, {30, 20});
  CHECK(damage.bounds() == Rect{30, 20, 200, 150});
  CHECK(seen.pixel(29, 20) == kOpaque);
  CHECK(seen.pixel(230, 100) == kOpaque);
  CHECK(largestDifference(seen.cropped({30, 20, 200, 150}), source) <= 2);
  // Coarser steps lose more, and never fail.
  Framebuffer coarse({200, 150});
  decoder.decode(encodeRemoteFx(source, source.rect(), mode, quantOf(9)), coarse, {0, 0});
  CHECK(largestDifference(coarse, source) > 3);
}

TEST_CASE("RemoteFX and progressive: broken messages are refused, cut anywhere", "[rdp][codec]") {
  const Framebuffer source = colourfulPicture({64, 64});
  const Bytes fx = encodeRemoteFx(source, source.rect(), RlgrMode::One, quantOf(8));
  const Bytes progressive = encodeProgressive(source, source.rect(), quantOf(8), true, 1);
  Framebuffer seen({64, 64});
  for (std::size_t n = 0; n < fx.size(); n += 7) {
    RemoteFxDecoder decoder;
    try {
      decoder.decode(ByteView(fx).first(n), seen, {0, 0});
    } catch (const Error& e) {
      CHECK(e.kind() == ErrorKind::ProtocolBroken);
    }
  }
  for (std::size_t n = 0; n < progressive.size(); n += 7) {
    ProgressiveDecoder decoder;
    try {
      decoder.decode(ByteView(progressive).first(n), seen);
    } catch (const Error& e) {
      CHECK(e.kind() == ErrorKind::ProtocolBroken);
    }
  }
}

TEST_CASE("Progressive: whole tiles come back within their rounding", "[rdp][codec]") {
  const Framebuffer source = colourfulPicture({200, 140});
  ProgressiveDecoder decoder;
  Framebuffer seen(source.size());
  decoder.decode(encodeProgressive(source, source.rect(), quantOf(1), true, 1), seen);
  CHECK(largestDifference(seen, source) <= 2);
  CHECK(decoder.tilesKept() == 0);
  // A part later on touches nothing else.
  Framebuffer changed = source.cropped(source.rect());
  changed.fill(changed.rect(), rgb(1, 200, 3));
  const Region damage =
      decoder.decode(encodeProgressive(changed, {70, 10, 50, 40}, quantOf(1), false, 2), seen);
  CHECK(damage.bounds() == Rect{70, 10, 50, 40});
  CHECK(largestDifference(seen.cropped({0, 0, 70, 140}), source.cropped({0, 0, 70, 140})) <= 2);
  CHECK(largestDifference(seen.cropped({70, 10, 50, 40}), changed.cropped({70, 10, 50, 40})) <= 2);
}

namespace {

void regionWith(LittleWriter& out, unsigned type, ByteView tile, int later) {
  LittleWriter body;
  body.u16(type).u32(static_cast<std::uint32_t>(tile.size() + 6)).bytes(tile);
  LittleWriter region;
  region.u8(64).u16(1).u8(1).u8(1).u8(1).u16(1).u32(static_cast<std::uint32_t>(body.size()));
  for (unsigned v : {0U, 0U, 64U, 64U}) region.u16(v);
  region.bytes(writeQuantOfProgressive(quantOf(1))).u8(50);
  for (int i = 0; i < 3; ++i)
    region.bytes(writeQuantOfProgressive(quantOf(static_cast<std::uint8_t>(later))));
  region.bytes(body.view());
  out.u16(0xccc4).u32(static_cast<std::uint32_t>(region.size() + 6)).bytes(region.view());
}

int towardsZero(int v, int bits) { return v < 0 ? -(-v >> bits) : v >> bits; }

/// 3.2.8.1.5.1 written the other way round.
class NewOnesWriter {
 public:
  void put(int v, int bits) {
    if (v == 0) {
      ++zeros_;
      return;
    }
    flushZeros(true);
    out_.bit(v < 0);
    fine_ = std::max(fine_ - 6, 0);
    const int most = (1 << bits) - 1;
    for (int i = 1; i < std::abs(v); ++i) out_.bit(false);
    if (std::abs(v) < most) out_.bit(true);
  }
  Bytes take() {
    flushZeros(false);
    return out_.take();
  }

 private:
  void flushZeros(bool more) {
    while (zeros_ >= 1U << (fine_ >> 3)) {
      out_.bit(false);
      zeros_ -= 1U << (fine_ >> 3);
      fine_ = std::min(fine_ + 4, 80);
    }
    if (!more && zeros_ == 0) return;
    out_.bit(true);
    out_.bits(zeros_, fine_ >> 3);
    zeros_ = 0;
  }
  BitWriter out_;
  unsigned zeros_ = 0;
  int fine_ = 8;
};

}  // namespace

namespace {

using Three = std::array<Coefficients, 3>;
const Band kLow = bandsOf(BandLayout::Extended)[kLowBand];
bool isLow(std::size_t at) { return static_cast<int>(at) >= kLow.offset; }
/// A coefficient without its lowest bits, as a pass shows it.
int cut(int v, int bits, bool low) { return low ? v >> bits : towardsZero(v, bits); }

/// Every coefficient without its `later` lowest bits.
Bytes firstPass(const Three& c, int later) {
  LittleWriter tile, data;
  tile.u8(0).u8(0).u8(0).u16(0).u16(0).u8(0).u8(0);
  for (const Coefficients& whole : c) {
    Coefficients rough;
    for (std::size_t at = 0; at < kTileArea; ++at)
      rough[at] = static_cast<std::int16_t>(cut(whole[at], later, isLow(at)));
    for (auto at = static_cast<std::size_t>(kLow.offset + kLow.count() - 1);
         at > static_cast<std::size_t>(kLow.offset); --at)
      rough[at] = static_cast<std::int16_t>(rough[at] - rough[at - 1]);
    const Bytes coded = encodeRlgr(RlgrMode::One, rough);
    tile.u16(static_cast<unsigned>(coded.size()));
    data.bytes(coded);
  }
  return tile.u16(0).bytes(data.view()).take();
}

/// The bits between `from` and `to`: of coefficients that are known as they are, of others as they come into
/// being.
Bytes nextPass(const Three& c, int from, int to, unsigned quality) {
  LittleWriter tile, data;
  tile.u8(0).u8(0).u8(0).u16(0).u16(0).u8(quality);
  const int bits = from - to;
  for (const Coefficients& whole : c) {
    NewOnesWriter fresh;
    BitWriter raw;
    for (std::size_t at = 0; at < kTileArea; ++at) {
      const bool low = isLow(at);
      const int before = cut(whole[at], from, low), after = cut(whole[at], to, low);
      if (!low && before == 0)
        fresh.put(after, bits);
      else
        raw.bits(static_cast<std::uint32_t>(low ? after - before * (1 << bits)
                                                : std::abs(after) - (std::abs(before) << bits)),
                 bits);
    }
    const Bytes newOnes = fresh.take(), grown = raw.take();
    tile.u16(static_cast<unsigned>(newOnes.size())).u16(static_cast<unsigned>(grown.size()));
    data.bytes(newOnes).bytes(grown);
  }
  return tile.bytes(data.view()).take();
}

}  // namespace

TEST_CASE("Progressive: pass after pass brings the coefficients of one whole pass", "[rdp][codec]") {
  const Framebuffer source = colourfulPicture({64, 64});
  Three c;
  fromPixels(source.row(0), source.stride(), c[0], c[1], c[2]);
  for (Coefficients& component : c) forwardTransform(component, BandLayout::Extended);
  ProgressiveDecoder decoder;
  Framebuffer seen({64, 64});
  int before = 256;
  // Without seven bits, then without four, without one, and whole: each time closer.
  const auto pass = [&](unsigned type, const Bytes& tile, int later) {
    LittleWriter region;
    regionWith(region, type, tile, later);
    decoder.decode(region.view(), seen);
    const int now = largestDifference(seen, source);
    CHECK(now < before);
    before = now;
  };
  pass(0xccc6, firstPass(c, 7), 7);
  CHECK(decoder.tilesKept() == 1);
  pass(0xccc7, nextPass(c, 7, 4, 0), 4);
  pass(0xccc7, nextPass(c, 4, 1, 0), 1);
  pass(0xccc7, nextPass(c, 1, 0, 0xff), 0);
  CHECK(before <= 2);
}

TEST_CASE("ZGFX: plain and compressed segments open, over many messages and past their history",
          "[rdp][codec]") {
  ZgfxReader reader;
  std::mt19937 dice(11);
  for (int round = 0; round < 60; ++round) {
    Bytes message(1 + dice() % 150000);
    const bool text = round % 2 == 0;
    for (std::size_t i = 0; i < message.size(); ++i)
      message[i] =
          static_cast<Byte>(text ? "fern and moss "[i % (7 + static_cast<unsigned>(round) % 7)] : dice());
    const Bytes packed = round % 3 == 0 ? writeZgfx(message) : compressZgfx(message);
    const ByteView open = reader.open(packed);
    REQUIRE(open.size() == message.size());
    CHECK(std::equal(open.begin(), open.end(), message.begin()));
    if (text && round % 3 != 0) CHECK(packed.size() < message.size() / 4 + 64);
  }
}

TEST_CASE("ZGFX: the tokens of the specification, bit by bit", "[rdp][codec]") {
  // MS-RDPEGFX 3.1.9.1.2: literal 'A' (0 01000001), literal 0x00 by its short token (11000), then a match:
  // token 10001 with 5 bits of distance 2, count 4 (1 0 00).
  BitWriter bits;
  bits.bits(0, 1), bits.bits('A', 8);
  bits.bits(0b11000, 5);
  bits.bits(0b10001, 5), bits.bits(2, 5), bits.bits(0b1000, 4);
  const unsigned spare = bits.spare();
  Bytes packed{0xe0, 0x24};
  const Bytes body = bits.take();
  packed.insert(packed.end(), body.begin(), body.end());
  packed.push_back(static_cast<Byte>(spare));
  ZgfxReader reader;
  const ByteView open = reader.open(packed);
  CHECK(Bytes(open.begin(), open.end()) == Bytes{'A', 0, 'A', 0, 'A', 0});
}

TEST_CASE("ZGFX: what grows without end, looks back too far or lies about its size is refused",
          "[rdp][codec]") {
  ZgfxReader reader;
  BitWriter bomb;
  bomb.bits(0, 1), bomb.bits('x', 8);
  bomb.bits(0b10001, 5), bomb.bits(1, 5);
  for (int i = 0; i < 20; ++i) bomb.bit(true);
  bomb.bit(false), bomb.bits(0, 22);
  const unsigned spare = bomb.spare();
  Bytes packed{0xe0, 0x24};
  const Bytes body = bomb.take();
  packed.insert(packed.end(), body.begin(), body.end());
  packed.push_back(static_cast<Byte>(spare));
  CHECK_THROWS_AS(reader.open(packed), Error);
  CHECK_THROWS_AS(reader.open(Bytes{0xe1, 1, 0, 0xff, 0xff, 0xff, 0xff, 1, 0, 0, 0, 4}), Error);
  CHECK_THROWS_AS(reader.open(Bytes{0xe0, 0x24, 0x80, 9}), Error);
  CHECK_THROWS_AS(reader.open(Bytes{0x55}), Error);
  const Bytes good = compressZgfx(Bytes(5000, 7));
  for (std::size_t n = 0; n < good.size(); ++n) {
    ZgfxReader fresh;
    CHECK_THROWS_AS(fresh.open(ByteView(good).first(n)), Error);
  }
}

TEST_CASE("Bulk compression: messages open again, over many turns of the history, in both sizes",
          "[rdp][codec]") {
  const bool large = GENERATE(false, true);
  BulkReader reader;
  BulkWriter writer(large);
  std::mt19937 dice(7);
  std::size_t plain = 0, packedSize = 0;
  for (int round = 0; round < 300; ++round) {
    Bytes message(1 + dice() % 6000);
    for (std::size_t i = 0; i < message.size(); ++i)
      message[i] = static_cast<Byte>(
          round % 4 == 3 ? dice() : "moss and fern, "[i % (9 + static_cast<unsigned>(round) % 6)]);
    const BulkWriter::Packed packed = writer.close(message);
    const ByteView open = reader.open(packed.flags, packed.data);
    REQUIRE(Bytes(open.begin(), open.end()) == message);
    if (round % 4 != 3) plain += message.size(), packedSize += packed.data.size();
  }
  CHECK(packedSize < plain / 5);
}

TEST_CASE("Bulk compression: a sentence, token by token as the specification has them", "[rdp][codec]") {
  // MS-RDPBCGR 3.1.8.4.1: for.whom.the.bell.tolls,<16,15>.for.<35,3>e!
  BitWriter bits;
  const auto literals = [&](const char* text) {
    for (; *text != 0; ++text) bits.bits(0, 1), bits.bits(static_cast<unsigned char>(*text), 7);
  };
  literals("for.whom.the.bell.tolls,");
  bits.bits(0b1111, 4), bits.bits(16, 6), bits.bits(0b110, 3), bits.bits(15 - 8, 3);
  literals(".for.");
  bits.bits(0b1111, 4), bits.bits(35, 6), bits.bits(0, 1);
  literals("e!");
  BulkReader reader;
  const Bytes packed = bits.take();
  const ByteView open = reader.open(bulk::kCompressed | bulk::kAtFront, packed);
  CHECK(textOf(open) == "for.whom.the.bell.tolls,.the.bell.tolls.for.thee!");
}

TEST_CASE("RDP 6.1's compression: messages open again, over many turns of both histories", "[rdp][codec]") {
  BulkReader reader;
  WideWriter writer;
  std::mt19937 dice(11);
  std::size_t plain = 0, packedSize = 0;
  Bytes once(6000);  // comes again much later than 64 KiB look back
  for (Byte& b : once) b = static_cast<Byte>(dice());
  for (int round = 0; round < 400; ++round) {
    Bytes message(1 + dice() % 16000);
    for (Byte& b : message) b = static_cast<Byte>(dice());
    if (round % 8 == 7) message = once;
    const Bytes packed = writer.close(message);
    const ByteView open = reader.open(bulk::kRdp61 | bulk::kCompressed, packed);
    REQUIRE(Bytes(open.begin(), open.end()) == message);
    if (round > 8 && round % 8 == 7) plain += message.size(), packedSize += packed.size();
  }
  CHECK(packedSize < plain / 3);
}

TEST_CASE("RDP 6.1's compression: matches and literals as the specification lays them", "[rdp][codec]") {
  WideReader reader;
  const auto open = [&](const Bytes& message) { return textOf(reader.open(message)); };
  // No matches, at the front of the history, not packed twice.
  LittleWriter first;
  first.u8(0x02 | 0x04).u8(0).bytes(viewOf("moss, fern and mist; "));
  CHECK(open(first.take()) == "moss, fern and mist; ");
  // "fern" from 6 on, a literal, and a match that overlaps what it writes.
  LittleWriter second;
  second.u8(0x01).u8(0).u16(2).u16(4).u16(2).u32(6).u16(5).u16(7).u32(21 + 6);
  second.bytes(viewOf("a b!"));
  const Bytes message = second.take();
  CHECK(open(message) == "a fernb" + std::string("bbbbb") + "!");
}

TEST_CASE("RDP 6.1's compression: lies are refused", "[rdp][codec]") {
  const auto refuses = [](std::initializer_list<unsigned> bytes) {
    WideReader reader;
    Bytes message;
    for (unsigned b : bytes) message.push_back(static_cast<Byte>(b));
    CHECK_THROWS_AS(reader.open(message), Error);
  };
  refuses({});
  refuses({0x01});
  refuses({0x01, 0, 2, 0, 1, 0, 0, 0, 0, 0, 0, 0});                          // fewer matches than said
  refuses({0x01, 0, 1, 0, 4, 0, 9, 0, 0, 0, 0, 0, 'a'});                     // past its literals
  refuses({0x01, 0, 1, 0, 4, 0, 0, 0, 0x7f, 0x84, 0x1e, 0, 'a'});            // past the history
  refuses({0x01, 0, 1, 0, 4, 0, 0, 0, 0xff, 0xff, 0xff, 0xff});              // far past it
  refuses({0x01, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 4, 0, 2, 0, 0, 0, 0, 0});  // overlapping
  refuses({0x11, 0x23, 1, 2, 3});                                            // packed by itself again
  // More than the history holds: match after match of itself.
  WideReader reader;
  LittleWriter bomb;
  bomb.u8(0x05).u8(0).u16(40);
  for (unsigned i = 0; i < 40; ++i) bomb.u16(0xffff).u16(std::min(i * 0xffff, 0xffffU)).u32(0);
  CHECK_THROWS_AS(reader.open(bomb.take()), Error);
}

TEST_CASE("Bulk compression: lies are refused, and what is plain passes", "[rdp][codec]") {
  BulkReader reader;
  const Bytes plain{1, 2, 3};
  CHECK(reader.open(0, plain).data() == plain.data());
  CHECK_THROWS_AS(reader.open(bulk::kCompressed | 2, plain), Error);
  BitWriter endless;
  endless.bits(0, 1), endless.bits('x', 7);
  for (int i = 0; i < 6000; ++i)
    endless.bits(0b1111, 4), endless.bits(1, 6), endless.bits(0b11111111110, 11), endless.bits(0x7ff, 11);
  CHECK_THROWS_AS(reader.open(bulk::kCompressed | bulk::kAtFront, endless.take()), Error);
  BitWriter nowhere;
  nowhere.bits(0b1111, 4), nowhere.bits(0, 6), nowhere.bits(0, 1), nowhere.bits(0, 5);
  CHECK_THROWS_AS(reader.open(bulk::kCompressed | bulk::kAtFront, nowhere.take()), Error);
}

TEST_CASE("NSCodec: pictures come back within their loss, thinned or not, odd sizes too", "[rdp][codec]") {
  for (const Size size : {Size{64, 64}, Size{37, 21}, Size{1, 1}, Size{3, 2}}) {
    const Framebuffer picture = size.width > 30 ? flatPicture(size) : colourfulPicture(size);
    std::vector<Pixel> out;
    decodeNsCodec(encodeNsCodec(pixelsOf(picture), size, 1, false), size, out);
    CHECK(largest(out, pixelsOf(picture)) <= 4);
    decodeNsCodec(encodeNsCodec(pixelsOf(picture), size, 3, true), size, out);
    CHECK(out.size() == static_cast<std::size_t>(size.area()));
  }
  const Framebuffer flat = flatPicture({128, 128});
  const Bytes packed = encodeNsCodec(pixelsOf(flat), flat.size(), 1, false);
  CHECK(packed.size() < 6000);
  std::vector<Pixel> out;
  for (std::size_t n = 0; n < packed.size(); n += 11)
    CHECK_THROWS_AS(decodeNsCodec(ByteView(packed).first(n), flat.size(), out), Error);
}

TEST_CASE("ClearCodec: runs, glyphs kept and shown again", "[rdp][codec]") {
  const Framebuffer picture = flatPicture({20, 30});
  ClearDecoder decoder;
  std::vector<Pixel> out;
  decoder.decode(encodeClearRuns(pixelsOf(picture), 0, 17), picture.size(), out);
  CHECK(out == pixelsOf(picture));
  out.clear();
  const Bytes again{3, 1, 17, 0};  // a glyph, and it is kept
  decoder.decode(again, picture.size(), out);
  CHECK(out == pixelsOf(picture));
  CHECK_THROWS_AS(decoder.decode(Bytes{3, 2, 18, 0}, picture.size(), out), Error);
  CHECK_THROWS_AS(decoder.decode(again, Size{19, 30}, out), Error);
  const Framebuffer wide = flatPicture({300, 300});
  decoder.decode(encodeClearRuns(pixelsOf(wide), 3), wide.size(), out);
  CHECK(out == pixelsOf(wide));
}

TEST_CASE("ClearCodec: bands of columns, short ones remembered, and tables of colours", "[rdp][codec]") {
  ClearDecoder decoder;
  std::vector<Pixel> out;
  LittleWriter bands;
  for (unsigned v : {0U, 3U, 1U, 4U}) bands.u16(v);           // x 0 to 3, y 1 to 4
  bands.u8(10).u8(20).u8(30);                                 // background, blue first
  bands.u16(1 | 3 << 8).u8(1).u8(2).u8(3).u8(4).u8(5).u8(6);  // new: rows 1 and 2
  bands.u16(0x4000 | 0).u8(2);                                // the same short one, from row 2
  bands.u16(0x8000 | 0);                                      // the first whole column
  bands.u16(0 | 0 << 8);                                      // background only
  LittleWriter table;
  table.u8(3).u8(0).u8(0).u8(255).u8(0).u8(255).u8(0).u8(255).u8(0).u8(0);  // red, green, blue
  table.u8(0).u8(2);                                                        // red twice and its own pixel
  table.u8(2 | 1 << 2).u8(1);                                               // one green, then green and blue
  LittleWriter pictures;
  pictures.u16(0)
      .u16(5)
      .u16(6)
      .u16(1)
      .u32(static_cast<std::uint32_t>(table.size()))
      .u8(2)
      .bytes(table.view());
  pictures.u16(0).u16(6).u16(1).u16(1).u32(3).u8(0).u8(9).u8(8).u8(7);
  LittleWriter stream;
  stream.u8(0)
      .u8(0)
      .u32(4)
      .u32(static_cast<std::uint32_t>(bands.size()))
      .u32(static_cast<std::uint32_t>(pictures.size()));
  stream.u8(1).u8(1).u8(1).u8(48);  // 48 pixels of one colour below everything
  stream.bytes(bands.view()).bytes(pictures.view());
  const Size size{6, 8};
  decoder.decode(stream.view(), size, out);
  const auto at = [&](int x, int y) { return out[static_cast<std::size_t>(y * 6 + x)]; };
  const Pixel ground = rgb(30, 20, 10), a = rgb(3, 2, 1), b = rgb(6, 5, 4);
  CHECK(at(0, 0) == rgb(1, 1, 1));
  CHECK(at(0, 1) == ground);
  CHECK(at(0, 2) == a);
  CHECK(at(0, 3) == b);
  CHECK(at(0, 4) == ground);
  CHECK(at(1, 2) == ground);
  CHECK(at(1, 3) == a);
  CHECK(at(1, 4) == b);
  CHECK(at(2, 2) == a);
  CHECK(at(3, 2) == ground);
  CHECK(at(4, 2) == rgb(1, 1, 1));
  const Pixel row[6] = {rgb(255, 0, 0), rgb(255, 0, 0), rgb(255, 0, 0),
                        rgb(0, 255, 0), rgb(0, 255, 0), rgb(0, 0, 255)};
  for (int x = 0; x < 6; ++x) CHECK(at(x, 5) == row[x]);
  CHECK(at(0, 6) == rgb(7, 8, 9));
  // Cut anywhere, it is refused or shows less; it never reads past its end.
  for (std::size_t n = 0; n < stream.size(); ++n) {
    ClearDecoder fresh;
    try {
      fresh.decode(stream.view().first(n), size, out);
    } catch (const Error& e) {
      CHECK(e.kind() == ErrorKind::ProtocolBroken);
    }
  }
}

TEST_CASE("Surface commands: NSCodec bottom row first, frames answered, unknown codecs refused",
          "[rdp][codec]") {
  auto picture = std::make_shared<Framebuffer>(Size{100, 80});
  std::vector<std::uint32_t> frames;
  SurfaceCommands commands(picture, [&](std::uint32_t f) { frames.push_back(f); });
  const Framebuffer source = flatPicture({40, 40});
  std::vector<Pixel> upsideDown;
  for (int y = 39; y >= 0; --y) upsideDown.insert(upsideDown.end(), source.row(y), source.row(y) + 40);
  const Bytes data = encodeNsCodec(upsideDown, {40, 40}, 1, false);
  const Region damage = commands.take(writeSurfaceBits({10, 20, 40, 40}, kNsCodecId, data, 77));
  CHECK(damage.bounds() == Rect{10, 20, 40, 40});
  CHECK(frames == std::vector<std::uint32_t>{77});
  CHECK(largestDifference(picture->cropped({10, 20, 40, 40}), source) <= 4);
  CHECK_THROWS_AS(commands.take(writeSurfaceBits({0, 0, 4, 4}, 9, data, 78)), Error);
  CHECK_THROWS_AS(commands.take(Bytes{9, 0}), Error);
  // A picture that hangs over the edge is cut there.
  const Region cut = commands.take(writeSurfaceBits({80, 60, 40, 40}, kNsCodecId, data, 79));
  CHECK(cut.bounds() == Rect{80, 60, 20, 20});
}
