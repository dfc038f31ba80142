#include "rdp/codec/wide_history.hpp"

#include <algorithm>

#include "base/bounded_reader.hpp"
#include "base/error.hpp"
#include "base/little.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "RDP 6.1 message";
constexpr std::size_t kHistory = 2000000;
// 2.2.2.4.1 Level1ComprFlags
constexpr unsigned kMatches = 0x01, kNoMatches = 0x02, kAtFront = 0x04, kInner = 0x10;
constexpr std::size_t kBlock = 16;  ///< what the writer looks for

std::uint64_t hashOf(const Byte* p) {  // FNV-1a
  std::uint64_t h = 0xcbf29ce484222325;
  for (std::size_t i = 0; i < kBlock; ++i) h = (h ^ p[i]) * 0x100000001b3;
  return h;
}

}  // namespace

WideReader::WideReader() : inner_(std::make_unique<BulkReader>()) {}
WideReader::~WideReader() = default;

ByteView WideReader::second(unsigned flags, ByteView data) {
  if ((flags & bulk::kType) > bulk::k64K) protocolBroken(kWhat, "is packed twice in the same way");
  return inner_->open(flags, data);
}

ByteView WideReader::open(ByteView data) {
  if (history_.empty()) history_.resize(kHistory);
  LittleReader head(data, kWhat);
  const unsigned first = head.u8(), inner = head.u8();
  LittleReader in((first & kInner) != 0 ? second(inner, data.subspan(2)) : data.subspan(2), kWhat);
  if ((first & kAtFront) != 0) at_ = 0;
  const std::size_t begin = at_;
  const auto literals = [&](std::size_t n) {
    if (n > kHistory - at_) protocolBroken(kWhat, "is longer than its history");
    const ByteView bytes = in.bytes(n);
    std::copy(bytes.begin(), bytes.end(), history_.begin() + static_cast<std::ptrdiff_t>(at_));
    at_ += n;
  };
  if ((first & kMatches) != 0 && (first & kNoMatches) == 0) {
    const unsigned count = in.u16();
    LittleReader matches(in.bytes(std::size_t{count} * 8), kWhat);
    for (unsigned i = 0; i < count; ++i) {
      const std::size_t length = matches.u16(), where = matches.u16(), from = matches.u32();
      if (begin + where < at_) protocolBroken(kWhat, "matches that overlap");
      literals(begin + where - at_);
      if (from >= kHistory || length > kHistory - from || length > kHistory - at_)
        protocolBroken(kWhat, "a match outside of the history");
      for (std::size_t n = 0; n < length; ++n) history_[at_ + n] = history_[from + n];  // may overlap
      at_ += length;
    }
  }
  literals(in.left());
  return ByteView(history_).subspan(begin, at_ - begin);
}

std::vector<WideWriter::Match> WideWriter::matchesIn(std::size_t begin) {
  std::vector<Match> out;
  for (std::size_t i = begin; i + kBlock <= history_.size();) {
    const auto found = blocks_.find(hashOf(&history_[i]));
    std::size_t n = 0;
    if (found != blocks_.end())
      while (i + n < history_.size() && found->second + n < begin && n < 0xffff &&
             history_[found->second + n] == history_[i + n])
        ++n;
    if (n < kBlock) {
      ++i;
      continue;
    }
    out.push_back({n, i - begin, found->second});
    i += n;
  }
  for (std::size_t i = begin; i + kBlock <= history_.size(); i += kBlock / 2)
    blocks_[hashOf(&history_[i])] = i;
  return out;
}

Bytes WideWriter::close(ByteView data) {
  unsigned first = 0;
  if (history_.empty() || history_.size() + data.size() > kHistory)
    history_.clear(), blocks_.clear(), first |= kAtFront;
  const std::size_t begin = history_.size();
  history_.insert(history_.end(), data.begin(), data.end());
  const std::vector<Match> matches = matchesIn(begin);
  first |= matches.empty() ? kNoMatches : kMatches;
  LittleWriter left;
  if (!matches.empty()) left.u16(static_cast<unsigned>(matches.size()));
  for (const Match& m : matches)
    left.u16(static_cast<unsigned>(m.length))
        .u16(static_cast<unsigned>(m.at))
        .u32(static_cast<std::uint32_t>(m.history));
  std::size_t said = 0;
  for (const Match& m : matches) {
    left.bytes(data.subspan(said, m.at - said));
    said = m.at + m.length;
  }
  left.bytes(data.subspan(said));
  const BulkWriter::Packed packed = inner_.close(left.view());
  LittleWriter out;
  out.u8(first | kInner).u8(packed.flags).bytes(packed.data);
  return out.take();
}

}  // namespace kw::rdp
