// The JPEG encoding (registry, number 21) and Open H.264 (number 50).
#include "rfb/constants.hpp"
#include "rfb/rect_decoder.hpp"

namespace kw::rfb {

namespace {
constexpr unsigned kSoi = 0xd8, kEoi = 0xd9, kSos = 0xda, kDqt = 0xdb, kDht = 0xc4;

bool standsAlone(unsigned marker) { return marker == 0x01 || (marker >= 0xd0 && marker <= 0xd7); }

/// Collects the JPEG stream of one rectangle, which has no length: markers tell where it ends (ITU-T T.81
/// B.1).
class JpegCollector {
 public:
  explicit JpegCollector(WireReader& in) : in_(in) {}

  Task<void> run() {
    co_await expectStart();
    unsigned marker = co_await nextMarker();
    while (marker != kEoi) {
      if (!standsAlone(marker)) co_await segment(marker);
      marker = marker == kSos ? co_await entropyData() : co_await nextMarker();
    }
    put(0xff), put(kEoi);
  }

  Bytes data, tables;

 private:
  void put(unsigned b) { data.push_back(static_cast<Byte>(b)); }
  void checkSize() const {
    if (data.size() > kMostCompressed) protocolBroken("JPEG rectangle", "is too large");
  }

  Task<void> expectStart() {
    const unsigned word = co_await in_.readU16();
    if (word != (0xff00U | kSoi)) protocolBroken("JPEG rectangle", "does not begin as JPEG");
    put(0xff), put(kSoi);
  }

  Task<unsigned> nextMarker() {
    unsigned b = co_await in_.readU8();
    if (b != 0xff) protocolBroken("JPEG rectangle", "a marker is missing");
    while (b == 0xff) b = co_await in_.readU8();
    co_return b;
  }

  Task<void> segment(unsigned marker) {
    const unsigned length = co_await in_.readU16();
    if (length < 2) protocolBroken("JPEG rectangle", "a segment is too short");
    const Bytes body = co_await in_.readBytes(length - 2U);
    Bytes whole{0xff, static_cast<Byte>(marker), static_cast<Byte>(length >> 8), static_cast<Byte>(length)};
    whole.insert(whole.end(), body.begin(), body.end());
    data.insert(data.end(), whole.begin(), whole.end());
    if (marker == kDqt || marker == kDht) tables.insert(tables.end(), whole.begin(), whole.end());
    checkSize();
  }

  /// Copies entropy-coded bytes up to the next marker that is neither stuffing nor a restart.
  Task<unsigned> entropyData() {
    for (;;) {
      co_await in_.need(1);
      const unsigned b = in_.u8();
      if (b != 0xff) {
        put(b);
        if ((data.size() & 0xffff) == 0) checkSize();
        continue;
      }
      unsigned next = co_await in_.readU8();
      while (next == 0xff) next = co_await in_.readU8();
      if (next != 0 && !standsAlone(next)) co_return next;
      put(0xff), put(next);
    }
  }

  WireReader& in_;
};

constexpr std::size_t kMostH264Streams = 64;
constexpr std::uint32_t kResetContext = 1, kResetAllContexts = 2;

}  // namespace

Task<void> RectDecoder::jpeg(Rect target, WireReader& in, Framebuffer& picture) {
  JpegCollector collector(in);
  co_await collector.run();
  // Tables may be left out when they are those of the rectangle before.
  if (collector.tables.empty()) {
    collector.data.insert(collector.data.begin() + 2, jpegTables_.begin(), jpegTables_.end());
  } else {
    jpegTables_ = collector.tables;
  }
  if (target.empty()) co_return;
  auto lock = picture.lock();
  jpeg_.decode(collector.data, picture, target);
}

Task<void> RectDecoder::h264(Rect target, WireReader& in, Framebuffer& picture) {
  co_await in.need(8);
  const std::uint32_t length = in.u32(), flags = in.u32();
  if (length > kMostCompressed)
    protocolBroken("H.264 rectangle", "announces " + std::to_string(length) + " bytes");
  co_await in.need(length);
  const ByteView unit = in.take(length);
  if ((flags & kResetAllContexts) != 0) h264Streams_.clear();
  if ((flags & kResetContext) != 0)
    std::erase_if(h264Streams_, [&](const auto& s) { return s.area == target; });
  if (unit.empty() || target.empty()) co_return;
  auto found =
      std::find_if(h264Streams_.begin(), h264Streams_.end(), [&](const auto& s) { return s.area == target; });
  if (found == h264Streams_.end()) {
    if (h264Streams_.size() >= kMostH264Streams) h264Streams_.erase(h264Streams_.begin());
    h264Streams_.push_back({target, std::make_unique<H264Decoder>()});
    found = h264Streams_.end() - 1;
  }
  auto lock = picture.lock();
  found->decoder->decode(unit, picture, target);
}

}  // namespace kw::rfb
