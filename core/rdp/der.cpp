#include "rdp/der.hpp"

namespace kw::rdp::der {

namespace {
void addLength(Bytes& out, std::size_t n) {
  if (n < 0x80) {
    out.push_back(static_cast<Byte>(n));
    return;
  }
  const int bytes = n < 0x100 ? 1 : n < 0x10000 ? 2 : 3;
  out.push_back(static_cast<Byte>(0x80 | bytes));
  for (int i = bytes - 1; i >= 0; --i) out.push_back(static_cast<Byte>(n >> (8 * i)));
}
}  // namespace

Bytes tagged(unsigned tag, ByteView content) {
  Bytes out;
  if (tag > 0xff) out.push_back(static_cast<Byte>(tag >> 8));
  out.push_back(static_cast<Byte>(tag));
  addLength(out, content.size());
  out.insert(out.end(), content.begin(), content.end());
  return out;
}

Bytes integer(std::uint32_t value, unsigned tag) {
  Bytes content;
  bool started = false;
  for (int i = 3; i >= 0; --i) {
    const Byte b = static_cast<Byte>(value >> (8 * i));
    if (!started && b == 0 && i > 0) continue;
    if (!started && (b & 0x80) != 0) content.push_back(0);
    started = true;
    content.push_back(b);
  }
  return tagged(tag, content);
}

Byte Reader::byte() {
  if (atEnd()) protocolBroken(what_, "ends early");
  return bytes_[at_++];
}

ByteView Reader::element(unsigned tag) {
  unsigned found = byte();
  if (tag > 0xff) found = (found << 8) | byte();
  if (found != tag)
    protocolBroken(what_, "tag " + std::to_string(found) + " where " + std::to_string(tag) + " was expected");
  std::size_t length = byte();
  if ((length & 0x80) != 0) {
    const unsigned count = length & 0x7f;
    if (count == 0 || count > 3) protocolBroken(what_, "a length of " + std::to_string(count) + " bytes");
    length = 0;
    for (unsigned i = 0; i < count; ++i) length = (length << 8) | byte();
  }
  if (length > bytes_.size() - at_) protocolBroken(what_, "an element is longer than the message");
  const ByteView content = bytes_.subspan(at_, length);
  at_ += length;
  return content;
}

std::uint32_t Reader::integer(unsigned tag) {
  const ByteView content = element(tag);
  if (content.empty() || content.size() > 5)
    protocolBroken(what_, "a number of " + std::to_string(content.size()) + " bytes");
  std::uint32_t value = 0;
  for (Byte b : content) value = (value << 8) | b;
  return value;
}

std::size_t wholeLength(ByteView b) {
  if (b.size() < 2) return 0;
  if ((b[1] & 0x80) == 0) return 2U + b[1];
  const unsigned count = b[1] & 0x7f;
  if (count == 0 || count > 3) return SIZE_MAX;
  if (b.size() < 2 + count) return 0;
  std::size_t length = 0;
  for (unsigned i = 0; i < count; ++i) length = (length << 8) | b[2 + i];
  return 2 + count + length;
}

}  // namespace kw::rdp::der
