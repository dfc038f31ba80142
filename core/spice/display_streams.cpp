// Streams of pictures: frames of JPEG.
#include <algorithm>

#include "spice/display.hpp"

namespace kw::spice {

namespace {
constexpr const char* kWhat = "SPICE stream";
}

void Display::createStream(LittleReader& in) {
  Stream stream;
  stream.surfaceId = in.u32();
  const std::uint32_t id = in.u32();
  stream.topDown = (in.u8() & 1) != 0;
  stream.codec = in.u8();
  in.skip(8 + 16);
  stream.dest = readRect(in);
  stream.clipped = in.u8() == 1;
  if (stream.clipped) {
    const std::uint32_t count = in.u32();
    if (count > kMostRects) protocolBroken(kWhat, "a clip of " + std::to_string(count) + " rectangles");
    for (std::uint32_t i = 0; i < count; ++i) stream.clip.push_back(readRect(in));
  }
  if (streams_.size() >= kMostStreams && !streams_.contains(id))
    protocolBroken(kWhat, "more streams than there may be");
  streams_[id] = std::move(stream);
}

void Display::streamData(LittleReader& in, bool sized) {
  const auto found = streams_.find(in.u32());
  in.u32();
  Rect dest = found == streams_.end() ? Rect() : found->second.dest;
  if (sized) {
    in.skip(8);
    dest = readRect(in);
  }
  const ByteView data = in.bytes(in.u32());
  if (found == streams_.end() || found->second.codec != 1) return;
  const Stream& stream = found->second;
  const Size size = jpeg_.sizeOf(data);
  if (!sizeAllowed(static_cast<std::uint32_t>(size.width), static_cast<std::uint32_t>(size.height)) ||
      size.empty())
    protocolBroken(kWhat, "a frame of an impossible size");
  Surface& surface = surfaceOf(stream.surfaceId);
  Base base{&surface, stream.surfaceId, {dest, {dest}}};
  ++forms_["MJPEG"];
  ++commands_;
  if (stream.topDown && !stream.clipped && dest.size() == size && surface.rect().contains(dest)) {
    jpeg_.decode(data, size, surface.row(dest.y) + dest.x, static_cast<std::size_t>(surface.size.width));
    return touched(base);
  }
  Image frame{size, std::vector<Pixel>(static_cast<std::size_t>(size.area())), false};
  jpeg_.decode(data, size, frame.pixels.data());
  if (!stream.topDown) {
    const std::size_t w = static_cast<std::size_t>(size.width);
    for (std::size_t a = 0, b = static_cast<std::size_t>(size.height) - 1; a < b; ++a, --b)
      std::swap_ranges(frame.pixels.data() + a * w, frame.pixels.data() + (a + 1) * w,
                       frame.pixels.data() + b * w);
  }
  if (stream.clipped) {
    base.target.parts.clear();
    for (const Rect& r : stream.clip) base.target.parts.push_back(r.intersected(dest));
  }
  copyImage(surface, base.target, frame, {0, 0, size.width, size.height}, ropd::kPut, {});
  touched(base);
}

}  // namespace kw::spice
