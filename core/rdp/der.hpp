// The little of DER (X.690) that MCS and CredSSP need.
#pragma once
#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw::rdp::der {

/// A tag with its content.
Bytes tagged(unsigned tag, ByteView content);
/// INTEGER, not negative.
Bytes integer(std::uint32_t value, unsigned tag = 0x02);

/// Reads tags one after the other; throws Error{ProtocolBroken}.
class Reader {
 public:
  explicit Reader(ByteView bytes, const char* what) : bytes_(bytes), what_(what) {}
  [[nodiscard]] bool atEnd() const { return at_ >= bytes_.size(); }
  /// The next tag, 0 at the end.
  [[nodiscard]] unsigned peek() const { return atEnd() ? 0 : bytes_[at_]; }
  /// The content of the next element, which must have this tag (one byte; 0x7f.. two bytes as 0x7f66).
  ByteView element(unsigned tag);
  std::uint32_t integer(unsigned tag = 0x02);

 private:
  Byte byte();
  ByteView bytes_;
  const char* what_;
  std::size_t at_ = 0;
};

/// The whole length (head and content) of the element that begins here; 0 when more bytes are needed to know.
std::size_t wholeLength(ByteView beginning);

}  // namespace kw::rdp::der
