// The old ciphers and digests that RDP and NTLM need. RC4 and MD4 are not in OpenSSL's usual set any more;
// they protect nothing here that matters, old peers merely speak them.
#pragma once
#include <array>
#include <initializer_list>

#include "base/bytes.hpp"

namespace kw::rdp {

class Rc4 {
 public:
  Rc4() = default;
  explicit Rc4(ByteView key);
  void apply(ByteSpan bytes);

 private:
  std::array<Byte, 256> state_{};
  Byte i_ = 0, j_ = 0;
};

Bytes md4(ByteView bytes);  // RFC 1320
Bytes md5(std::initializer_list<ByteView> parts);
Bytes sha1(std::initializer_list<ByteView> parts);
Bytes sha256(std::initializer_list<ByteView> parts);
Bytes hmacMd5(ByteView key, std::initializer_list<ByteView> parts);
Bytes randomBytes(std::size_t n);

}  // namespace kw::rdp
