// Little-endian siblings of ByteWriter and BoundedReader, for protocols that say LE (RDP, SPICE).
#pragma once
#include "base/bounded_reader.hpp"

namespace kw {

inline std::uint16_t loadLe16(const Byte* p) { return static_cast<std::uint16_t>(p[0] | (p[1] << 8)); }
inline std::uint32_t loadLe32(const Byte* p) {
  return p[0] | (std::uint32_t{p[1]} << 8) | (std::uint32_t{p[2]} << 16) | (std::uint32_t{p[3]} << 24);
}
inline std::uint64_t loadLe64(const Byte* p) { return loadLe32(p) | (std::uint64_t{loadLe32(p + 4)} << 32); }
inline void storeLe16(Byte* p, std::uint16_t v) {
  p[0] = static_cast<Byte>(v);
  p[1] = static_cast<Byte>(v >> 8);
}
inline void storeLe32(Byte* p, std::uint32_t v) {
  storeLe16(p, static_cast<std::uint16_t>(v));
  storeLe16(p + 2, static_cast<std::uint16_t>(v >> 16));
}

class LittleWriter {
 public:
  LittleWriter& u8(unsigned v) {
    out_.push_back(static_cast<Byte>(v));
    return *this;
  }
  LittleWriter& u16(unsigned v) { return u8(v & 0xff).u8(v >> 8 & 0xff); }
  LittleWriter& u32(std::uint32_t v) { return u16(v & 0xffff).u16(v >> 16); }
  LittleWriter& u64(std::uint64_t v) {
    return u32(static_cast<std::uint32_t>(v)).u32(static_cast<std::uint32_t>(v >> 32));
  }
  LittleWriter& be16(unsigned v) { return u8(v >> 8 & 0xff).u8(v & 0xff); }
  LittleWriter& zeros(std::size_t n) {
    out_.insert(out_.end(), n, Byte{0});
    return *this;
  }
  LittleWriter& bytes(ByteView v) {
    out_.insert(out_.end(), v.begin(), v.end());
    return *this;
  }
  LittleWriter& text(std::string_view v) { return bytes(viewOf(v)); }
  /// Overwrites what is there already.
  void put16(std::size_t at, unsigned v) { storeLe16(&out_[at], static_cast<std::uint16_t>(v)); }
  void put32(std::size_t at, std::uint32_t v) { storeLe32(&out_[at], v); }

  [[nodiscard]] std::size_t size() const { return out_.size(); }
  [[nodiscard]] ByteView view() const { return out_; }
  [[nodiscard]] Bytes take() { return std::move(out_); }

 private:
  Bytes out_;
};

/// Throws Error{ProtocolBroken} past the end.
class LittleReader {
 public:
  explicit LittleReader(ByteView bytes, const char* what = "message") : in_(bytes, what), all_(bytes) {}
  [[nodiscard]] std::size_t left() const { return in_.left(); }
  [[nodiscard]] std::size_t offset() const { return in_.offset(); }
  [[nodiscard]] bool atEnd() const { return in_.atEnd(); }
  std::uint8_t u8() { return in_.u8(); }
  std::uint16_t u16() { return loadLe16(in_.bytes(2).data()); }
  std::int16_t s16() { return static_cast<std::int16_t>(u16()); }
  std::uint32_t u32() { return loadLe32(in_.bytes(4).data()); }
  std::int32_t s32() { return static_cast<std::int32_t>(u32()); }
  std::uint64_t u64() { return loadLe64(in_.bytes(8).data()); }
  ByteView bytes(std::size_t n) { return in_.bytes(n); }
  ByteView rest() { return in_.bytes(in_.left()); }
  void skip(std::size_t n) { in_.skip(n); }
  [[nodiscard]] ByteView all() const { return all_; }

 private:
  BoundedReader in_;
  ByteView all_;
};

/// UTF-16LE, for Windows' strings; malformed input becomes U+FFFD.
Bytes utf8ToUtf16(std::string_view utf8);
/// Stops at a NUL, if there is one.
std::string utf16ToUtf8(ByteView utf16);

}  // namespace kw
