// How RDP packs messages: ZGFX, bulk compression of both kinds, RDP 6.1's.
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

namespace {

/// MS-RDPEGFX 3.1.9.1.2, distances only: prefix, its bits, further bits, the least distance.
constexpr std::array<std::array<unsigned, 4>, 11> kDistances{{{17, 5, 5, 0},
                                                              {18, 5, 7, 32},
                                                              {19, 5, 9, 160},
                                                              {20, 5, 10, 672},
                                                              {21, 5, 12, 1696},
                                                              {44, 6, 14, 5792},
                                                              {45, 6, 15, 22176},
                                                              {92, 7, 18, 54944},
                                                              {93, 7, 20, 317088},
                                                              {188, 8, 20, 1365664},
                                                              {189, 8, 21, 2414240}}};
constexpr std::size_t kFurthest = 2500000;

/// Tokens on one side, and on the other what they stand for, kept whole.
struct ZgfxModel {
  Bytes all;
  std::mt19937 dice{5};

  void literal(BitWriter& out) {
    const auto b = static_cast<Byte>(dice());
    out.bits(0, 1), out.bits(b, 8);
    all.push_back(b);
  }
  void match(BitWriter& out, std::size_t distance, std::size_t count) {
    for (const auto& [prefix, length, more, least] : kDistances) {
      if (distance - least >= std::size_t{1} << more) continue;
      out.bits(prefix, static_cast<int>(length));
      out.bits(static_cast<std::uint32_t>(distance - least), static_cast<int>(more));
      break;
    }
    const int width = static_cast<int>(std::bit_width(count)) - 1;
    for (int i = 1; count > 3 && i < width; ++i) out.bit(true);
    out.bit(false);
    if (count > 3) out.bits(static_cast<std::uint32_t>(count - (std::size_t{1} << width)), width);
    for (std::size_t i = 0; i < count; ++i)
      all.push_back(distance > all.size() ? Byte{0} : all[all.size() - distance]);
  }
  void plainBytes(BitWriter& out, std::size_t count) {
    out.bits(17, 5), out.bits(0, 5), out.bits(static_cast<std::uint32_t>(count), 15);
    while (out.spare() != 0) out.bit(false);
    for (std::size_t i = 0; i < count; ++i) {
      all.push_back(static_cast<Byte>(dice()));
      out.bits(all.back(), 8);
    }
  }
  std::size_t someDistance() {
    const std::size_t near = 1 + dice() % 40, far = kFurthest - dice() % 40;
    const std::size_t kinds[] = {near, near, far, 1 + dice() % kFurthest};
    return kinds[dice() % 4];
  }
  /// One segment, of 40,000 bytes at least.
  Bytes segment() {
    const std::size_t begin = all.size();
    BitWriter out;
    while (all.size() < begin + 40000) {
      switch (dice() % 8) {
        case 0: plainBytes(out, dice() % 50); break;
        case 1: match(out, someDistance(), 3 + dice() % 4000); break;
        case 2:
        case 3: match(out, someDistance(), 3 + dice() % 60); break;
        default: literal(out);
      }
    }
    const unsigned spare = out.spare();
    Bytes packed = {0xe0, 0x24};
    const Bytes body = out.take();
    packed.insert(packed.end(), body.begin(), body.end());
    packed.push_back(static_cast<Byte>(spare));
    return packed;
  }
};

}  // namespace

TEST_CASE("ZGFX: matches near and as far as they go, overlapping, over the history's edge", "[rdp][codec]") {
  ZgfxReader reader;
  ZgfxModel model;
  for (int round = 0; round < 150; ++round) {  // more than two turns of the history
    const std::size_t begin = model.all.size();
    const Bytes packed = model.segment();
    const ByteView open = reader.open(packed);
    REQUIRE(open.size() == model.all.size() - begin);
    REQUIRE(std::equal(open.begin(), open.end(), model.all.begin() + static_cast<std::ptrdiff_t>(begin)));
  }
  BitWriter beyond;
  model.match(beyond, kFurthest + 1, 3);
  Bytes packed = {0xe0, 0x24};
  const unsigned spare = beyond.spare();
  const Bytes body = beyond.take();
  packed.insert(packed.end(), body.begin(), body.end());
  packed.push_back(static_cast<Byte>(spare));
  CHECK_THROWS_AS(reader.open(packed), Error);
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
