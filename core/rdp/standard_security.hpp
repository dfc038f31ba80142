// Standard RDP security (MS-RDPBCGR 5.3): RC4, or the ciphers of FIPS, with keys from two random numbers, the
// client's sealed with the server's RSA key. It hides from nobody who sits in between, since nothing proves
// the server; sessions with it count as plain.
#pragma once
#include "rdp/crypto.hpp"
#include "rdp/fips_security.hpp"

namespace kw::rdp {

namespace encryption {  // 5.3.2 encryptionMethod
constexpr std::uint32_t k40 = 1, k128 = 2, k56 = 8, kFips = 0x10;
}

struct RsaKey {
  Bytes modulus, exponent;  ///< little endian, the modulus without padding
};
/// The key in a server's certificate (2.2.1.4.3.1), of its own kind or X.509. Throws Error{ProtocolBroken}.
RsaKey keyInServerCertificate(ByteView certificate);
/// RSA without padding, everything little endian (5.3.4.1); with the eight zero bytes that follow it.
Bytes rsaEncrypt(const RsaKey& key, ByteView plain);
/// A key pair for the server side, with its certificate in Microsoft's own form.
struct RsaPair {
  RsaKey publicKey;
  Bytes privateExponent;
};
RsaPair makeRsaPair(int bits = 512);
Bytes ownCertificate(const RsaPair& pair);
Bytes rsaDecrypt(const RsaPair& pair, ByteView sealedText);

class StandardSecurity {
 public:
  StandardSecurity() = default;
  /// Both randoms are 32 bytes. Throws Error{Unsupported} for methods this program does not have.
  StandardSecurity(std::uint32_t method, ByteView clientRandom, ByteView serverRandom, bool isClient);
  [[nodiscard]] bool active() const { return method_ != 0; }

  /// What follows the flags of a security header, or the length of a fast-path packet: signature and sealed
  /// text.
  Bytes sealed(ByteView text);
  /// What sealed() of the other side made is opened in place; gives the text in it. Throws
  /// Error{ProtocolBroken} when it is too short or its signature does not fit.
  ByteView opened(ByteSpan bytes, bool salted);

 private:
  struct Direction {
    Bytes initial, current;
    Rc4 cipher;
    unsigned used = 0;
    std::uint32_t total = 0;
  };
  [[nodiscard]] Bytes reduced(ByteView key128) const;
  void begin(Direction& d, Bytes key) const;
  void count(Direction& d) const;
  [[nodiscard]] Bytes mac(ByteView bytes, const std::uint32_t* total) const;

  std::uint32_t method_ = 0;
  Bytes macKey_;
  Direction out_, in_;
  std::unique_ptr<FipsSecurity> fips_;
};

/// 5.3.5.1: SaltedHash and its three-fold use, also for licensing.
Bytes saltedHash(ByteView secret, std::string_view salt, ByteView first, ByteView second);
Bytes threefoldHash(ByteView secret, char letter, ByteView first, ByteView second);

/// The key in an X.509 certificate, as MS-RDPBCGR wants numbers.
RsaKey keyInX509(ByteView der);

}  // namespace kw::rdp
