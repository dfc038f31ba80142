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

/// Every coefficient without its `later` lowest bits; as it is, or what is added to what the tile was before.
Bytes firstPass(const Three& c, int later, bool difference = false) {
  LittleWriter tile, data;
  tile.u8(0).u8(0).u8(0).u16(0).u16(0).u8(difference ? 1 : 0).u8(0);
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

TEST_CASE("Progressive: a tile may be the difference to what it was, in passes, too", "[rdp][codec]") {
  const auto coefficientsOf = [](const Framebuffer& picture) {
    Three c;
    fromPixels(picture.row(0), picture.stride(), c[0], c[1], c[2]);
    for (Coefficients& component : c) forwardTransform(component, BandLayout::Extended);
    return c;
  };
  const Framebuffer before = colourfulPicture({64, 64});
  Framebuffer after = before.cropped(before.rect());
  after.fill({10, 20, 30, 12}, rgb(200, 40, 90));
  const Three old = coefficientsOf(before), fresh = coefficientsOf(after);
  Three change;
  for (std::size_t c = 0; c < 3; ++c)
    for (std::size_t at = 0; at < kTileArea; ++at)
      change[c][at] = static_cast<std::int16_t>(fresh[c][at] - old[c][at]);
  ProgressiveDecoder decoder;
  Framebuffer seen({64, 64});
  const auto say = [&](unsigned type, const Bytes& tile, int later) {
    LittleWriter region;
    regionWith(region, type, tile, later);
    decoder.decode(region.view(), seen);
  };
  const bool told = GENERATE(true, false);
  LittleWriter context;  // 2.2.4.2.1.3, whether its tiles may be differences
  context.u16(0xccc3).u32(10).u8(0).u16(64).u8(told ? 1 : 0);
  decoder.decode(context.view(), seen);
  say(0xccc6, firstPass(old, 0), 0);
  CHECK(largestDifference(seen, before) <= 2);
  SECTION("whole") {
    say(0xccc6, firstPass(change, 0, true), 0);
    CHECK(largestDifference(seen, after) <= 3);
  }
  SECTION("rough at first, then better") {
    say(0xccc6, firstPass(change, 5, true), 5);
    const int rough = largestDifference(seen, after);
    CHECK(rough > 3);
    say(0xccc7, nextPass(change, 5, 2, 0), 2);
    CHECK(largestDifference(seen, after) < rough);
    say(0xccc7, nextPass(change, 2, 0, 0xff), 0);
    CHECK(largestDifference(seen, after) <= 3);
  }
  SECTION("what is no difference begins anew") {
    say(0xccc6, firstPass(change, 0, true), 0);
    say(0xccc6, firstPass(old, 0), 0);
    CHECK(largestDifference(seen, before) <= 2);
  }
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
