// RDP security with the ciphers of FIPS 140-1 (MS-RDPBCGR 5.3.2.2, 5.3.5.2, 5.3.6.2): triple DES in one
// chain, and HMAC-SHA1. Like the rest of old security it proves nobody.
#pragma once
#include <memory>

#include "base/bytes.hpp"

namespace kw::rdp {

class FipsSecurity {
 public:
  /// Both randoms are 32 bytes.
  FipsSecurity(ByteView clientRandom, ByteView serverRandom, bool isClient);
  ~FipsSecurity();

  /// 2.2.8.1.1.2.3 without the flags: its own head, the signature, the sealed text.
  Bytes sealed(ByteView text);
  /// What sealed() of the other side made is opened in place; gives the text in it. Throws
  /// Error{ProtocolBroken}.
  ByteView opened(ByteSpan bytes);
  /// How long sealed() makes a text.
  [[nodiscard]] static std::size_t sealedSize(std::size_t text);

 private:
  struct Direction;
  [[nodiscard]] Bytes signature(ByteView text, std::uint32_t number) const;

  Bytes macKey_;
  std::unique_ptr<Direction> out_, in_;
};

}  // namespace kw::rdp
