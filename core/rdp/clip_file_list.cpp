#include "rdp/clip_file_list.hpp"

#include <algorithm>

#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// 2.2.5.2.3.1
constexpr std::size_t kDescriptor = 592, kNameBytes = 520;
constexpr std::uint32_t kHasAttributes = 0x4, kHasTime = 0x20, kHasSize = 0x40;
constexpr std::uint32_t kFolder = 0x10, kNormal = 0x80;
// Between a FILETIME and seconds since 1970.
constexpr std::int64_t kTicksPerSecond = 10'000'000, kSecondsTo1970 = 11'644'473'600;

std::string replaced(std::string text, char from, char to) {
  std::replace(text.begin(), text.end(), from, to);
  return text;
}

void write(LittleWriter& out, const ClipFile& f, const Bytes& name) {
  const bool timed = f.changed > 0;
  out.u32(kHasAttributes | kHasSize | (timed ? kHasTime : 0)).zeros(32);
  out.u32(f.folder ? kFolder : kNormal).zeros(16);
  out.u64(timed ? static_cast<std::uint64_t>((f.changed + kSecondsTo1970) * kTicksPerSecond) : 0);
  out.u32(static_cast<std::uint32_t>(f.size >> 32)).u32(static_cast<std::uint32_t>(f.size));
  out.bytes(name).zeros(kNameBytes - name.size());
}

ClipFile read(LittleReader in) {
  ClipFile f;
  const std::uint32_t has = in.u32();
  in.skip(32);
  f.folder = (in.u32() & kFolder) != 0 && (has & kHasAttributes) != 0;
  in.skip(16);
  const auto ticks = static_cast<std::int64_t>(in.u64());
  if ((has & kHasTime) != 0 && ticks > 0)
    f.changed = std::max<std::int64_t>(0, ticks / kTicksPerSecond - kSecondsTo1970);
  const std::uint64_t high = in.u32();
  const std::uint64_t size = high << 32 | in.u32();
  if ((has & kHasSize) != 0 && !f.folder) f.size = size;
  const ByteView name = in.bytes(kNameBytes);
  std::size_t length = 0;
  while (length + 2 <= name.size() && (name[length] != 0 || name[length + 1] != 0)) length += 2;
  f.path = replaced(utf16ToUtf8(name.first(length)), '\\', '/');
  return f;
}

}  // namespace

bool fitsFileList(const ClipFile& file) { return utf8ToUtf16(file.path).size() <= kNameBytes - 2; }

Bytes writeFileList(const std::vector<ClipFile>& files) {
  LittleWriter out;
  out.u32(static_cast<std::uint32_t>(files.size()));
  for (const ClipFile& f : files) {
    Bytes name = utf8ToUtf16(replaced(f.path, '/', '\\'));
    name.resize(std::min(name.size(), kNameBytes - 2));
    write(out, f, name);
  }
  return out.take();
}

std::optional<std::vector<ClipFile>> readFileList(ByteView bytes) {
  if (bytes.size() < 4) return std::nullopt;
  LittleReader in(bytes, "list of copied files");
  const std::uint32_t count = in.u32();
  if (count > kMostClipFiles || in.left() < count * kDescriptor) return std::nullopt;
  std::vector<ClipFile> out;
  for (std::uint32_t i = 0; i < count; ++i) out.push_back(read(LittleReader(in.bytes(kDescriptor))));
  return out;
}

}  // namespace kw::rdp
