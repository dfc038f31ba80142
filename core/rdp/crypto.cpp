#include "rdp/crypto.hpp"

#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <openssl/rand.h>

#include <memory>
#include <numeric>
#include <utility>

#include "base/error.hpp"
#include "base/little.hpp"

namespace kw::rdp {

Rc4::Rc4(ByteView key) {
  std::iota(state_.begin(), state_.end(), Byte{0});
  Byte j = 0;
  for (unsigned i = 0; i < 256; ++i) {
    j = static_cast<Byte>(j + state_[i] + key[i % key.size()]);
    std::swap(state_[i], state_[j]);
  }
}

void Rc4::apply(ByteSpan bytes) {
  for (Byte& b : bytes) {
    j_ = static_cast<Byte>(j_ + state_[++i_]);
    std::swap(state_[i_], state_[j_]);
    b ^= state_[static_cast<Byte>(state_[i_] + state_[j_])];
  }
}

namespace {

Bytes digest(const EVP_MD* kind, std::initializer_list<ByteView> parts) {
  const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(), EVP_MD_CTX_free);
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned length = 0;
  bool good = EVP_DigestInit_ex(context.get(), kind, nullptr) == 1;
  for (ByteView part : parts) good = good && EVP_DigestUpdate(context.get(), part.data(), part.size()) == 1;
  if (!good || EVP_DigestFinal_ex(context.get(), out.data(), &length) != 1)
    throw Error(ErrorKind::Local, "this machine's OpenSSL has no such digest");
  out.resize(length);
  return out;
}

constexpr std::uint32_t rotated(std::uint32_t v, int by) { return (v << by) | (v >> (32 - by)); }

/// RFC 1320 3.4
void md4Block(std::array<std::uint32_t, 4>& s, const Byte* block) {
  std::uint32_t x[16];
  for (int i = 0; i < 16; ++i) x[i] = loadLe32(block + 4 * i);
  auto [a, b, c, d] = s;
  const auto step = [&](std::uint32_t f, int k, std::uint32_t add, int by) {
    const std::uint32_t next = rotated(a + f + x[k] + add, by);
    a = d, d = c, c = b, b = next;
  };
  constexpr int by1[] = {3, 7, 11, 19}, by2[] = {3, 5, 9, 13}, by3[] = {3, 9, 11, 15};
  constexpr int order3[] = {0, 8, 4, 12, 2, 10, 6, 14, 1, 9, 5, 13, 3, 11, 7, 15};
  for (int i = 0; i < 16; ++i) step((b & c) | (~b & d), i, 0, by1[i % 4]);
  for (int i = 0; i < 16; ++i) step((b & c) | (b & d) | (c & d), (i % 4) * 4 + i / 4, 0x5a827999, by2[i % 4]);
  for (int i = 0; i < 16; ++i) step(b ^ c ^ d, order3[i], 0x6ed9eba1, by3[i % 4]);
  s = {s[0] + a, s[1] + b, s[2] + c, s[3] + d};
}

}  // namespace

Bytes md4(ByteView bytes) {
  std::array<std::uint32_t, 4> s{0x67452301, 0xefcdab89, 0x98badcfe, 0x10325476};
  LittleWriter padded;
  padded.bytes(bytes).u8(0x80);
  padded.zeros((120 - padded.size() % 64) % 64).u64(std::uint64_t{bytes.size()} * 8);
  for (std::size_t at = 0; at < padded.size(); at += 64) md4Block(s, padded.view().data() + at);
  LittleWriter out;
  for (std::uint32_t word : s) out.u32(word);
  return out.take();
}

Bytes md5(std::initializer_list<ByteView> parts) { return digest(EVP_md5(), parts); }
Bytes sha1(std::initializer_list<ByteView> parts) { return digest(EVP_sha1(), parts); }
Bytes sha256(std::initializer_list<ByteView> parts) { return digest(EVP_sha256(), parts); }

Bytes hmacMd5(ByteView key, std::initializer_list<ByteView> parts) {
  Bytes all;
  for (ByteView part : parts) all.insert(all.end(), part.begin(), part.end());
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned length = 0;
  HMAC(EVP_md5(), key.data(), static_cast<int>(key.size()), all.data(), all.size(), out.data(), &length);
  out.resize(length);
  return out;
}

Bytes randomBytes(std::size_t n) {
  Bytes out(n);
  if (RAND_bytes(out.data(), static_cast<int>(n)) != 1)
    throw Error(ErrorKind::Local, "this machine gives no random numbers");
  return out;
}

}  // namespace kw::rdp
