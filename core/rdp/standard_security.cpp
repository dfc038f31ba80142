#include "rdp/standard_security.hpp"

#include <openssl/bn.h>
#include <openssl/core_names.h>
#include <openssl/evp.h>
#include <openssl/x509.h>

#include <algorithm>
#include <memory>

#include "base/little.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

struct BnFree {
  void operator()(BIGNUM* n) const { BN_clear_free(n); }
  void operator()(BN_CTX* c) const { BN_CTX_free(c); }
  void operator()(EVP_PKEY* k) const { EVP_PKEY_free(k); }
  void operator()(X509* c) const { X509_free(c); }
};
using Number = std::unique_ptr<BIGNUM, BnFree>;

Number numberOf(ByteView little) {
  return Number(BN_lebin2bn(little.data(), static_cast<int>(little.size()), nullptr));
}

Bytes littleBytes(const BIGNUM* n, std::size_t size) {
  Bytes out(size);
  BN_bn2lebinpad(n, out.data(), static_cast<int>(size));
  return out;
}

Bytes raised(ByteView base, ByteView exponent, ByteView modulus) {
  const Number b = numberOf(base), e = numberOf(exponent), m = numberOf(modulus), r(BN_new());
  const std::unique_ptr<BN_CTX, BnFree> context(BN_CTX_new());
  if (BN_is_zero(m.get()) || BN_mod_exp(r.get(), b.get(), e.get(), m.get(), context.get()) != 1)
    protocolBroken("server certificate", "its key cannot be used");
  return littleBytes(r.get(), modulus.size());
}

RsaKey keyOfPkey(const EVP_PKEY* pkey) {
  BIGNUM *n = nullptr, *e = nullptr;
  if (pkey == nullptr || EVP_PKEY_get_bn_param(pkey, OSSL_PKEY_PARAM_RSA_N, &n) != 1 ||
      EVP_PKEY_get_bn_param(pkey, OSSL_PKEY_PARAM_RSA_E, &e) != 1)
    protocolBroken("server certificate", "it holds no RSA key");
  const Number modulus(n), exponent(e);
  return {littleBytes(n, static_cast<std::size_t>(BN_num_bytes(n))), littleBytes(e, 4)};
}

constexpr Byte kPad1 = 0x36, kPad2 = 0x5c;
constexpr std::size_t kSignature = 8;

}  // namespace

RsaKey keyInX509(ByteView der) {
  const Byte* at = der.data();
  const std::unique_ptr<X509, BnFree> certificate(d2i_X509(nullptr, &at, static_cast<long>(der.size())));
  if (!certificate) protocolBroken("server certificate", "it cannot be read");
  // Old services write an object identifier of their own where the kind of key stands; the key itself is RSA.
  if (EVP_PKEY* pkey = X509_get0_pubkey(certificate.get()); pkey != nullptr) return keyOfPkey(pkey);
  const ASN1_BIT_STRING* bits = X509_get0_pubkey_bitstr(certificate.get());
  const Byte* key = ASN1_STRING_get0_data(bits);
  const std::unique_ptr<EVP_PKEY, BnFree> pkey(
      d2i_PublicKey(EVP_PKEY_RSA, nullptr, &key, ASN1_STRING_length(bits)));
  return keyOfPkey(pkey.get());
}

RsaKey keyInServerCertificate(ByteView certificate) {
  LittleReader in(certificate, "server certificate");
  const std::uint32_t version = in.u32() & 0x7fffffff;
  if (version == 1) {  // 2.2.1.4.3.1.1
    in.skip(8);
    if (in.u16() != 6) protocolBroken("server certificate", "its key is missing");
    LittleReader blob(in.bytes(in.u16()), "server certificate");
    if (blob.u32() != 0x31415352) protocolBroken("server certificate", "its key is none for RSA");
    const std::uint32_t length = blob.u32();
    blob.skip(8);
    const ByteView exponent = blob.bytes(4);
    if (length < 16 || length > 1032)
      protocolBroken("server certificate", "its key is too short or too long");
    const ByteView modulus = blob.bytes(length - 8);
    return {Bytes(modulus.begin(), modulus.end()), Bytes(exponent.begin(), exponent.end())};
  }
  if (version == 2) {  // a chain; the last one is the server's
    const std::uint32_t count = in.u32();
    if (count == 0 || count > 16) protocolBroken("server certificate", "a chain of " + std::to_string(count));
    ByteView last;
    for (std::uint32_t i = 0; i < count; ++i) last = in.bytes(in.u32());
    return keyInX509(last);
  }
  protocolBroken("server certificate", "version " + std::to_string(version));
}

Bytes rsaEncrypt(const RsaKey& key, ByteView plain) {
  Bytes out = raised(plain, key.exponent, key.modulus);
  out.resize(out.size() + 8);
  return out;
}

RsaPair makeRsaPair(int bits) {
  const std::unique_ptr<EVP_PKEY, BnFree> pkey(EVP_RSA_gen(static_cast<unsigned>(bits)));
  BIGNUM* d = nullptr;
  if (!pkey || EVP_PKEY_get_bn_param(pkey.get(), OSSL_PKEY_PARAM_RSA_D, &d) != 1)
    throw Error(ErrorKind::Local, "no RSA key could be made");
  const Number secret(d);
  return {keyOfPkey(pkey.get()), littleBytes(d, static_cast<std::size_t>(BN_num_bytes(d)))};
}

Bytes ownCertificate(const RsaPair& pair) {
  const Bytes& n = pair.publicKey.modulus;
  const std::uint32_t size = static_cast<std::uint32_t>(n.size());
  LittleWriter blob;
  blob.u32(0x31415352)
      .u32(size + 8)
      .u32(size * 8)
      .u32(size - 1)
      .bytes(pair.publicKey.exponent)
      .bytes(n)
      .zeros(8);
  LittleWriter out;
  out.u32(1).u32(1).u32(1).u16(6).u16(static_cast<unsigned>(blob.size())).bytes(blob.view());
  out.u16(8).u16(72).zeros(72);  // a signature that nobody checks
  return out.take();
}

Bytes rsaDecrypt(const RsaPair& pair, ByteView sealedText) {
  return raised(sealedText, pair.privateExponent, pair.publicKey.modulus);
}

Bytes saltedHash(ByteView secret, std::string_view salt, ByteView first, ByteView second) {
  return md5({secret, sha1({viewOf(salt), secret, first, second})});
}

Bytes threefoldHash(ByteView secret, char letter, ByteView first, ByteView second) {
  Bytes out;
  for (std::size_t times = 1; times <= 3; ++times) {
    const Bytes part = saltedHash(
        secret, std::string(times, static_cast<char>(letter + static_cast<char>(times) - 1)), first, second);
    out.insert(out.end(), part.begin(), part.end());
  }
  return out;
}

StandardSecurity::StandardSecurity(std::uint32_t method, ByteView clientRandom, ByteView serverRandom,
                                   bool isClient)
    : method_(method) {
  const bool known = method == encryption::k40 || method == encryption::k56 || method == encryption::k128 ||
                     method == encryption::kFips;
  if (!known)
    throw Error(ErrorKind::Unsupported,
                "the service demands an encryption that this program does not have (method " +
                    std::to_string(method) + ")");
  if (clientRandom.size() != 32 || serverRandom.size() != 32)
    protocolBroken("security data", "a random number of the wrong length");
  if (method == encryption::kFips) {
    fips_ = std::make_unique<FipsSecurity>(clientRandom, serverRandom, isClient);
    return;
  }
  Bytes preMaster(clientRandom.begin(), clientRandom.begin() + 24);
  preMaster.insert(preMaster.end(), serverRandom.begin(), serverRandom.begin() + 24);
  const Bytes master = threefoldHash(preMaster, 'A', clientRandom, serverRandom);
  const Bytes keys = threefoldHash(master, 'X', clientRandom, serverRandom);
  macKey_ = reduced(ByteView(keys).first(16));
  Bytes ofServer = reduced(md5({ByteView(keys).subspan(16, 16), clientRandom, serverRandom}));
  Bytes ofClient = reduced(md5({ByteView(keys).subspan(32, 16), clientRandom, serverRandom}));
  begin(in_, isClient ? ofServer : ofClient);
  begin(out_, isClient ? ofClient : ofServer);
}

/// 5.3.5.1: weaker methods keep fewer secret bits.
Bytes StandardSecurity::reduced(ByteView key128) const {
  Bytes key(key128.begin(), key128.end());
  if (method_ == encryption::k128) return key;
  key.resize(8);
  key[0] = 0xd1;
  if (method_ == encryption::k40) key[1] = 0x26, key[2] = 0x9e;
  return key;
}

void StandardSecurity::begin(Direction& d, Bytes key) const {
  d.initial = d.current = std::move(key);
  d.cipher = Rc4(d.current);
}

/// 5.3.7: after 4096 packets the key is made anew.
void StandardSecurity::count(Direction& d) const {
  ++d.total;
  if (++d.used < 4096) return;
  d.used = 0;
  const Bytes pad1(40, kPad1), pad2(48, kPad2);
  Bytes key = md5({d.initial, pad2, sha1({d.initial, pad1, d.current})});
  key.resize(d.initial.size());
  Rc4(Bytes(key)).apply(key);
  if (method_ != encryption::k128) {
    key[0] = 0xd1;
    if (method_ == encryption::k40) key[1] = 0x26, key[2] = 0x9e;
  }
  d.current = key;
  d.cipher = Rc4(d.current);
}

/// 5.3.6.1, 5.3.6.1.1 (salted with the number of packets so far)
Bytes StandardSecurity::mac(ByteView bytes, const std::uint32_t* total) const {
  const Bytes pad1(40, kPad1), pad2(48, kPad2);
  LittleWriter length, number;
  length.u32(static_cast<std::uint32_t>(bytes.size()));
  if (total != nullptr) number.u32(*total);
  Bytes out = md5({macKey_, pad2, sha1({macKey_, pad1, length.view(), bytes, number.view()})});
  out.resize(kSignature);
  return out;
}

Bytes StandardSecurity::sealed(ByteView text) {
  if (fips_) return fips_->sealed(text);
  Bytes out = mac(text, nullptr);
  out.insert(out.end(), text.begin(), text.end());
  out_.cipher.apply(ByteSpan(out).subspan(kSignature));
  count(out_);
  return out;
}

ByteView StandardSecurity::opened(ByteSpan bytes, bool salted) {
  if (fips_) return fips_->opened(bytes);
  if (bytes.size() < kSignature) protocolBroken("RDP security", "a message without its signature");
  const ByteView signature = bytes.first(kSignature);
  const ByteSpan text = bytes.subspan(kSignature);
  in_.cipher.apply(text);
  const Bytes wanted = mac(text, salted ? &in_.total : nullptr);
  if (!std::equal(wanted.begin(), wanted.end(), signature.begin(), signature.end()))
    protocolBroken("RDP security", "the signature of a message does not fit");
  count(in_);
  return text;
}

}  // namespace kw::rdp
