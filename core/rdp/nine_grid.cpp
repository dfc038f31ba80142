#include "rdp/nine_grid.hpp"

#include <algorithm>

#include "rdp/bitmap_codec.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "nine-grid order";
// 2.2.2.2.1.3.5.1 BitmapFlags
constexpr unsigned kEnd = 0x01, kCompressed = 0x02, kWideSize = 0x04;
constexpr unsigned kOfNineGrids = 1;  // BitmapType
constexpr std::int64_t kMostArea = std::int64_t{kNineGridKilobytes} * 1024 / 4;

/// Bottom row first, four bytes a pixel, alpha kept.
Framebuffer opened(Size size, bool compressed, ByteView data) {
  Framebuffer out(size);
  const auto width = static_cast<std::size_t>(size.width);
  Bytes alpha;
  if (compressed)
    decodePlanar(data, size.width, size.height, out.row(0), out.stride(), true, &alpha);
  else if (data.size() < static_cast<std::size_t>(size.area()) * 4)
    protocolBroken(kWhat, "a picture ends early");
  for (int y = 0; y < size.height; ++y) {
    const auto from = static_cast<std::size_t>(size.height - 1 - y) * width;
    Pixel* row = out.row(y);
    for (std::size_t x = 0; x < width; ++x) {
      if (!compressed)
        row[x] = LittleReader(data.subspan((from + x) * 4, 4), kWhat).u32();
      else if (!alpha.empty())
        row[x] = (row[x] & 0xffffff) | static_cast<Pixel>(alpha[from + x]) << 24;
    }
  }
  return out;
}

/// Which pixel of the source belongs to each of `to` pixels of an edge: the first and last keep their size,
/// what is between them is stretched or repeated. Those that do not fit are cut in the middle.
std::vector<int> places(int to, int from, int first, int last, bool tile) {
  first = std::clamp(first, 0, from);
  last = std::clamp(last, 0, from - first);
  const int middle = from - first - last, room = to - first - last;
  std::vector<int> out(static_cast<std::size_t>(to));
  for (int i = 0; i < to; ++i) {
    int at = 0;
    if (room < 0)
      at = i < std::int64_t{to} * first / (first + last) ? i : from - (to - i);
    else if (i < first)
      at = i;
    else if (i >= to - last)
      at = from - (to - i);
    else if (middle == 0)
      at = std::max(0, first - 1);
    else
      at = first + (tile ? (i - first) % middle : static_cast<int>(std::int64_t{i - first} * middle / room));
    out[static_cast<std::size_t>(i)] = std::clamp(at, 0, from - 1);
  }
  return out;
}

/// The source's colours are multiplied by its alpha already.
Pixel over(Pixel s, Pixel d) {
  const unsigned through = 255 - (s >> 24);
  const auto channel = [&](unsigned shift) {
    return std::min(255U, (s >> shift & 255) + ((d >> shift & 255) * through + 127) / 255);
  };
  return rgb(channel(16), channel(8), channel(0));
}

}  // namespace

void NineGrid::draw(Framebuffer& target, const Rect& to, const Rect& clip, const Rect& source) const {
  const Rect part = source.intersected(picture.rect());
  const Rect shown = to.intersected(clip).intersected(target.rect());
  if (part.empty() || shown.empty()) return;
  const bool whole = (flags & kTrueSize) != 0, tile = (flags & kTile) != 0;
  // In its own size nothing grows: what lies beyond the picture stays as it is.
  const auto columns = whole ? places(part.width, part.width, part.width, 0, false)
                             : places(to.width, part.width, left, right, tile);
  const auto rows = whole ? places(part.height, part.height, part.height, 0, false)
                          : places(to.height, part.height, top, bottom, tile);
  for (int y = shown.y; y < shown.bottom(); ++y) {
    const auto fromTop = static_cast<std::size_t>(y - to.y);
    if (fromTop >= rows.size()) break;
    const Pixel* from = picture.row(part.y + rows[fromTop]) + part.x;
    Pixel* row = target.row(y);
    for (int x = shown.x; x < shown.right(); ++x) {
      const auto fromLeft = static_cast<std::size_t>(x - to.x);
      if (fromLeft >= columns.size()) break;
      const int column = columns[fromLeft];
      const Pixel s = from[(flags & kMustFlip) != 0 ? part.width - 1 - column : column];
      if ((flags & kTransparent) != 0 && ((s ^ see) & 0xffffff) == 0) continue;
      row[x] = (flags & kPerPixelAlpha) != 0 ? over(s, row[x]) : s | kOpaque;
    }
  }
}

void NineGrids::clear() { *this = {}; }

void NineGrids::streamFirst(LittleReader& in) {
  const unsigned flags = in.u8(), bits = in.u8(), type = in.u16();
  const int width = in.u16();
  const Size size{width, in.u16()};
  const std::size_t length = (flags & kWideSize) != 0 ? in.u32() : in.u16();
  if (bits != 32 || type != kOfNineGrids || size.empty() || size.area() > kMostArea ||
      length > static_cast<std::size_t>(size.area()) * 5 + 16)
    protocolBroken(kWhat, "a picture out of range");
  append(coming_.emplace(Stream{size, flags, length, {}}), flags, in);
}

void NineGrids::streamNext(LittleReader& in) {
  const unsigned flags = in.u8(), type = in.u16();
  if (!coming_ || type != kOfNineGrids) protocolBroken(kWhat, "goes on with a picture that was not begun");
  append(*coming_, flags, in);
}

void NineGrids::append(Stream& stream, unsigned flags, LittleReader& in) {
  const ByteView block = in.bytes(in.u16());
  if (block.size() > stream.length - stream.data.size())
    protocolBroken(kWhat, "a picture longer than it was said to be");
  stream.data.insert(stream.data.end(), block.begin(), block.end());
  if ((flags & kEnd) == 0) return;
  come_ = opened(stream.size, (stream.flags & kCompressed) != 0, stream.data);
  coming_.reset();
  join();
}

void NineGrids::create(LittleReader& in) {
  const unsigned bits = in.u8(), number = in.u16();
  const int width = in.u16();
  const Size size{width, in.u16()};
  NineGrid grid;
  grid.flags = in.u32();
  grid.left = in.u16(), grid.right = in.u16(), grid.top = in.u16(), grid.bottom = in.u16();
  const std::uint32_t see = in.u32();  // red first
  grid.see = rgb(see & 255, see >> 8 & 255, see >> 16 & 255);
  forget(number);
  forgetUnseen();
  if (bits != 32 || number >= kNineGridEntries || size.empty() || size.area() > kMostArea ||
      area_ + size.area() > kMostArea)
    protocolBroken(kWhat, "a picture out of range");
  area_ += size.area();
  grid.picture = Framebuffer(size);
  kept_.emplace(number, std::move(grid));
  waiting_ = number;
  join();
}

void NineGrids::forget(unsigned number) {
  const auto old = kept_.find(number);
  if (old == kept_.end()) return;
  area_ -= old->second.picture.size().area();
  kept_.erase(old);
}

void NineGrids::forgetUnseen() {
  if (waiting_) forget(*waiting_);
  waiting_.reset();
}

void NineGrids::join() {
  if (!come_ || !waiting_) return;
  NineGrid& grid = kept_.at(*waiting_);
  if (come_->size() != grid.picture.size())
    protocolBroken(kWhat, "a picture of another size than it is named with");
  grid.picture = std::move(*come_);
  come_.reset();
  waiting_.reset();
}

const NineGrid& NineGrids::at(unsigned number) const {
  const auto found = kept_.find(number);
  if (found == kept_.end() || waiting_ == number) protocolBroken(kWhat, "a picture that was not kept");
  return found->second;
}

}  // namespace kw::rdp
