#include "rdp/codec/progressive.hpp"

#include "base/simd.hpp"
#include "rdp/codec/bit_reader.hpp"
#include "rdp/codec/blocks.hpp"
#include "rdp/codec/rlgr.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "progressive codec";
// 2.2.4.2.1 blockType
constexpr unsigned kFrameBegin = 0xccc1, kFrameEnd = 0xccc2, kContext = 0xccc3, kRegion = 0xccc4,
                   kTileSimple = 0xccc5, kTileFirst = 0xccc6, kTileUpgrade = 0xccc7;
constexpr unsigned kWhole = 0xff;  ///< quality: nothing more will come

std::uint8_t shiftOf(int bits) { return static_cast<std::uint8_t>(std::max(bits - 1, 0)); }

/// Simplified run lengths of coefficients that were zero so far (3.2.8.1.5.1).
class NewOnes {
 public:
  explicit NewOnes(ByteView data) : in_(data) {}
  int next(int bits) {
    if (zeros_ > 0) {
      --zeros_;
      return 0;
    }
    if (!afterRun_) {
      if (!in_.bit()) {
        zeros_ = (std::uint32_t{1} << (fine_ >> 3)) - 1;
        fine_ = std::min(fine_ + 4, 80);
        return 0;
      }
      afterRun_ = true;
      zeros_ = in_.bits(fine_ >> 3);
      if (zeros_ > 0) {
        --zeros_;
        return 0;
      }
    }
    afterRun_ = false;
    fine_ = std::max(fine_ - 6, 0);
    const bool negative = in_.bit();
    int magnitude = 1;
    for (const int most = (1 << bits) - 1; magnitude < most && !in_.bit() && in_.missing() == 0;) ++magnitude;
    return negative ? -magnitude : magnitude;
  }

 private:
  BitReader in_;
  std::uint32_t zeros_ = 0;
  int fine_ = 8;
  bool afterRun_ = false;
};

KW_VECTOR void signsOf(const Coefficients& values, std::array<std::int8_t, kTileArea>& signs) {
  for (std::size_t i = 0; i < kTileArea; ++i)
    signs[i] = static_cast<std::int8_t>((values[i] > 0 ? 1 : 0) - (values[i] < 0 ? 1 : 0));
}

/// What the entropy coder gave, as coefficients: the low band came as differences, all of them without low
/// bits.
void toScale(Coefficients& c, const Quant& bits, BandLayout layout) {
  const Band& low = bandsOf(layout)[kLowBand];
  sumUp(std::span(c).subspan(static_cast<std::size_t>(low.offset), static_cast<std::size_t>(low.count())));
  dequantize(c, bits, layout);
}

}  // namespace

Region ProgressiveDecoder::decode(ByteView stream, Framebuffer& picture) {
  LittleReader in(stream, kWhat);
  Region damage;
  while (in.left() >= kBlockHead) {
    Block block = readBlock(in, kWhat);
    switch (block.type) {
      case kSyncBlock: checkSync(block.body, kWhat); break;
      case kContext:  // 2.2.4.2.1.3
        block.body.skip(3);
        differences_ = (block.body.u8() & 1) != 0;
        break;
      case kRegion: region(block.body, picture, damage); break;
      case kFrameBegin:
      case kFrameEnd: break;
      default: protocolBroken(kWhat, "a block of an unknown kind");
    }
  }
  return damage;
}

/// 2.2.4.2.1.5
void ProgressiveDecoder::region(LittleReader& in, Framebuffer& picture, Region& damage) {
  if (in.u8() != kTileSide) protocolBroken(kWhat, "tiles of another size than 64");
  const unsigned rects = in.u16(), quants = in.u8(), later = in.u8();
  layout_ = (in.u8() & 1) != 0 ? BandLayout::Extended : BandLayout::Even;
  const unsigned tiles = in.u16();
  in.skip(4);
  rects_.clear();
  for (unsigned i = 0; i < rects; ++i) {
    const int x = in.u16(), y = in.u16(), w = in.u16();
    rects_.push_back({x, y, w, in.u16()});
  }
  quants_.clear();
  for (unsigned i = 0; i < quants; ++i) quants_.push_back(quantOfProgressive(in.bytes(5)));
  laterQuants_.clear();
  for (unsigned i = 0; i < later; ++i) {
    in.skip(1);
    ProgressiveQuant q;
    for (Quant& c : q.components) c = quantOfProgressive(in.bytes(5));
    laterQuants_.push_back(q);
  }
  for (unsigned i = 0; i < tiles; ++i) {
    Block block = readBlock(in, kWhat);
    tile(block.body, block.type, picture, damage);
  }
}

const Quant& ProgressiveDecoder::quantAt(unsigned index) const {
  if (index >= quants_.size()) protocolBroken(kWhat, "a tile with quantisation it did not send");
  return quants_[index];
}

const ProgressiveDecoder::ProgressiveQuant& ProgressiveDecoder::laterAt(unsigned index) const {
  static const ProgressiveQuant nothing{};
  if (index == kWhole) return nothing;
  if (index >= laterQuants_.size()) protocolBroken(kWhat, "a tile of a quality it did not send");
  return laterQuants_[index];
}

ProgressiveDecoder::Tile& ProgressiveDecoder::tileAt(int x, int y) {
  auto& slot = tiles_[{x, y}];
  if (!slot) slot = std::make_unique<Tile>();
  return *slot;
}

void ProgressiveDecoder::tile(LittleReader& in, unsigned type, Framebuffer& picture, Region& damage) {
  const Byte* head = in.all().data();
  if (in.left() < 7) protocolBroken(kWhat, "a tile without its head");
  x_ = loadLe16(head + 3);
  y_ = loadLe16(head + 5);
  if (x_ * kTileSide >= picture.width() || y_ * kTileSide >= picture.height())
    protocolBroken(kWhat, "a tile outside of its surface");
  if (type == kTileUpgrade) {
    upgrade(in);
    return show(tileAt(x_, y_), picture, damage);
  }
  if (type != kTileSimple && type != kTileFirst) protocolBroken(kWhat, "a tile of an unknown kind");
  if (const Tile* kept = first(in, type == kTileSimple))
    show(*kept, picture, damage);
  else
    paint(picture, damage);
}

/// 2.2.4.2.1.5.3, 2.2.4.2.1.5.4
const ProgressiveDecoder::Tile* ProgressiveDecoder::first(LittleReader& in, bool simple) {
  const unsigned q[3] = {in.u8(), in.u8(), in.u8()};
  in.skip(4);
  const bool adds = (in.u8() & 1) != 0;
  const unsigned quality = simple ? kWhole : in.u8();
  std::size_t sizes[3];
  for (std::size_t& s : sizes) s = in.u16();
  in.skip(2);
  // A tile that came whole, and whose successors are no differences, need not be kept.
  const bool keep = quality != kWhole || differences_;
  if (!keep) {
    tiles_.erase({x_, y_});
    for (std::size_t c = 0; c < 3; ++c) {
      decodeRlgr(RlgrMode::One, in.bytes(sizes[c]), samples_[c]);
      toScale(samples_[c], quantAt(q[c]), layout_);
    }
    return nullptr;
  }
  Tile& t = tileAt(x_, y_);
  const ProgressiveQuant& later = laterAt(quality);
  for (std::size_t c = 0; c < 3; ++c)
    firstPass(t.components[c], in.bytes(sizes[c]), quantAt(q[c]), later.components[c], adds);
  return &t;
}

void ProgressiveDecoder::firstPass(Component& c, ByteView data, const Quant& quant, const Quant& later,
                                   bool adds) {
  Coefficients fresh;
  decodeRlgr(RlgrMode::One, data, fresh);
  signsOf(fresh, c.sign);
  for (std::size_t b = 0; b < kBands; ++b) c.bits[b] = static_cast<std::uint8_t>(quant[b] + later[b]);
  toScale(fresh, c.bits, layout_);
  if (!adds) {
    c.now = fresh;
    return;
  }
  for (std::size_t i = 0; i < kTileArea; ++i) c.now[i] = static_cast<std::int16_t>(c.now[i] + fresh[i]);
}

/// 2.2.4.2.1.5.5
void ProgressiveDecoder::upgrade(LittleReader& in) {
  const unsigned q[3] = {in.u8(), in.u8(), in.u8()};
  in.skip(4);
  const ProgressiveQuant& later = laterAt(in.u8());
  std::size_t sizes[6];
  for (std::size_t& s : sizes) s = in.u16();
  const auto found = tiles_.find({x_, y_});
  if (found == tiles_.end()) protocolBroken(kWhat, "a better tile where none was before");
  for (std::size_t c = 0; c < 3; ++c) {
    const ByteView newOnes = in.bytes(sizes[2 * c]), grown = in.bytes(sizes[2 * c + 1]);
    nextPass(found->second->components[c], newOnes, grown, quantAt(q[c]), later.components[c]);
  }
}

/// 3.2.8.1.5: coefficients that are known get further bits as they are; the others may come into being.
void ProgressiveDecoder::nextPass(Component& c, ByteView newOnes, ByteView grown, const Quant& quant,
                                  const Quant& later) {
  NewOnes fresh(newOnes);
  BitReader raw(grown);
  const auto& bands = bandsOf(layout_);
  for (std::size_t b = 0; b < kBands; ++b) {
    const int now = quant[b] + later[b], bits = c.bits[b] - now;
    if (bits < 0) protocolBroken(kWhat, "a tile that gets worse");
    if (bits == 0) continue;
    const int step = 1 << shiftOf(now);
    for (int i = 0; i < bands[b].count(); ++i) {
      const auto at = static_cast<std::size_t>(bands[b].offset + i);
      int v = 0;
      if (b == kLowBand) {
        v = static_cast<int>(raw.bits(bits));
      } else if (c.sign[at] != 0) {
        v = static_cast<int>(raw.bits(bits)) * c.sign[at];
      } else {
        v = fresh.next(bits);
        c.sign[at] = static_cast<std::int8_t>(v > 0 ? 1 : v < 0 ? -1 : 0);
      }
      c.now[at] = static_cast<std::int16_t>(c.now[at] + v * step);
    }
    c.bits[b] = static_cast<std::uint8_t>(now);
  }
}

void ProgressiveDecoder::show(const Tile& tile, Framebuffer& picture, Region& damage) {
  for (std::size_t c = 0; c < 3; ++c) samples_[c] = tile.components[c].now;
  paint(picture, damage);
}

void ProgressiveDecoder::paint(Framebuffer& picture, Region& damage) {
  for (Coefficients& c : samples_) inverseTransform(c, layout_);
  toPixels(samples_[0], samples_[1], samples_[2], pixels_.data(), kTileSide);
  paintTile(pixels_, {x_ * kTileSide, y_ * kTileSide}, rects_, picture, damage);
}

// The server's side.

namespace {

/// 2.2.4.2.1.5.3
void simpleTile(LittleWriter& out, const Framebuffer& picture, int x, int y, const Quant& quant) {
  LittleWriter body;
  body.u8(0).u8(0).u8(0).u16(static_cast<unsigned>(x / kTileSide)).u16(static_cast<unsigned>(y / kTileSide));
  body.u8(0);
  const auto data = codedTile(picture, picture.rect(), x, y, BandLayout::Extended, RlgrMode::One, quant);
  for (const Bytes& d : data) body.u16(static_cast<unsigned>(d.size()));
  body.u16(0);
  for (const Bytes& d : data) body.bytes(d);
  writeBlock(out, kTileSimple, body.view());
}

}  // namespace

Bytes encodeProgressive(const Framebuffer& picture, const Rect& area, const Quant& quant, bool withContext,
                        std::uint32_t frame) {
  LittleWriter out, context, begin, region, tiles;
  if (withContext) {
    writeSync(out);
    writeBlock(out, kContext, context.u8(0).u16(kTileSide).u8(0).view());
  }
  writeBlock(out, kFrameBegin, begin.u32(frame).u16(1).view());
  unsigned count = 0;
  for (int y = area.y / kTileSide * kTileSide; y < area.bottom(); y += kTileSide)
    for (int x = area.x / kTileSide * kTileSide; x < area.right(); x += kTileSide, ++count)
      simpleTile(tiles, picture, x, y, quant);
  region.u8(kTileSide).u16(1).u8(1).u8(0).u8(1).u16(count).u32(static_cast<std::uint32_t>(tiles.size()));
  for (int v : {area.x, area.y, area.width, area.height}) region.u16(static_cast<unsigned>(v));
  region.bytes(writeQuantOfProgressive(quant)).bytes(tiles.view());
  writeBlock(out, kRegion, region.view());
  writeBlock(out, kFrameEnd, {});
  return out.take();
}

}  // namespace kw::rdp
