// Byte buffers and network byte order. Everything on the wires we speak is big endian unless a name says LE.
#pragma once
#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace kw {

using Byte = std::uint8_t;
using Bytes = std::vector<Byte>;
using ByteView = std::span<const Byte>;
using ByteSpan = std::span<Byte>;

inline std::uint16_t loadBe16(const Byte* p) { return static_cast<std::uint16_t>((p[0] << 8) | p[1]); }
inline std::uint32_t loadBe32(const Byte* p) {
  return (std::uint32_t{p[0]} << 24) | (std::uint32_t{p[1]} << 16) | (std::uint32_t{p[2]} << 8) | p[3];
}
inline std::uint64_t loadBe64(const Byte* p) { return (std::uint64_t{loadBe32(p)} << 32) | loadBe32(p + 4); }
inline void storeBe16(Byte* p, std::uint16_t v) {
  p[0] = static_cast<Byte>(v >> 8);
  p[1] = static_cast<Byte>(v);
}
inline void storeBe32(Byte* p, std::uint32_t v) {
  storeBe16(p, static_cast<std::uint16_t>(v >> 16));
  storeBe16(p + 2, static_cast<std::uint16_t>(v));
}

inline ByteView viewOf(std::string_view text) {
  return {reinterpret_cast<const Byte*>(text.data()), text.size()};
}
inline std::string textOf(ByteView bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

/// Appends big-endian fields to a growing buffer; the mirror of BoundedReader.
class ByteWriter {
 public:
  ByteWriter& u8(unsigned v) {
    out_.push_back(static_cast<Byte>(v));
    return *this;
  }
  ByteWriter& u16(unsigned v) {
    u8(v >> 8);
    return u8(v & 0xff);
  }
  ByteWriter& u32(std::uint32_t v) {
    u16(v >> 16);
    return u16(v & 0xffff);
  }
  ByteWriter& s32(std::int32_t v) { return u32(static_cast<std::uint32_t>(v)); }
  ByteWriter& zeros(std::size_t n) {
    out_.insert(out_.end(), n, Byte{0});
    return *this;
  }
  ByteWriter& bytes(ByteView v) {
    out_.insert(out_.end(), v.begin(), v.end());
    return *this;
  }
  ByteWriter& text(std::string_view v) { return bytes(viewOf(v)); }

  [[nodiscard]] std::size_t size() const { return out_.size(); }
  [[nodiscard]] ByteView view() const { return out_; }
  [[nodiscard]] Bytes take() { return std::move(out_); }
  Bytes& raw() { return out_; }

 private:
  Bytes out_;
};

/// Lower-case hexadecimal, with an optional separator between bytes ("ab:cd").
std::string hex(ByteView bytes, std::string_view separator = "");

/// Latin-1 to UTF-8, for the classic RFB clipboard and desktop names (RFC 6143 7.5.6).
std::string latin1ToUtf8(std::string_view latin1);
/// UTF-8 to Latin-1; what Latin-1 cannot hold becomes '?'.
std::string utf8ToLatin1(std::string_view utf8);
/// Replaces malformed UTF-8 by U+FFFD, so that foreign text can be shown and stored.
std::string cleanUtf8(std::string_view text);
/// Decodes UTF-8 into code points; malformed sequences become U+FFFD.
std::u32string utf8ToUtf32(std::string_view utf8);
void appendUtf8(std::string& out, char32_t codePoint);

/// ASCII lower case; locale-free.
std::string lowered(std::string_view text);

}  // namespace kw
