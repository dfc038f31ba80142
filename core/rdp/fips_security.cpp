#include "rdp/fips_security.hpp"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <array>
#include <bit>

#include "base/error.hpp"
#include "base/little.hpp"
#include "rdp/crypto.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "RDP security";
constexpr std::size_t kBlock = 8, kHead = 4, kSignature = 8;
constexpr unsigned kHeadLength = 0x10, kVersion = 1;
constexpr std::array<Byte, kBlock> kFirstVector{0x12, 0x34, 0x56, 0x78, 0x90, 0xab, 0xcd, 0xef};

/// 5.3.5.2: 160 bits become 168 with the first byte once more at the end; counted from each byte's lowest bit
/// up, seven of them make a byte of the key. Its lowest bit becomes parity then, which the cipher does not
/// use.
Bytes tripleKey(Bytes hash) {
  hash.push_back(hash[0]);
  Bytes out;
  for (std::size_t bit = 0; bit < hash.size() * 8; bit += 7) {
    unsigned seven = 0;
    for (std::size_t i = 0; i < 7; ++i) seven |= (hash[(bit + i) / 8] >> ((bit + i) % 8) & 1U) << i;
    const bool odd = std::popcount(seven >> 1) % 2 != 0;
    out.push_back(static_cast<Byte>((seven & ~1U) | (odd ? 0U : 1U)));
  }
  return out;
}

struct CipherFree {
  void operator()(EVP_CIPHER_CTX* c) const { EVP_CIPHER_CTX_free(c); }
};

}  // namespace

/// One chain of blocks through all messages of a direction.
struct FipsSecurity::Direction {
  Direction(const Bytes& key, bool seals) : cipher(EVP_CIPHER_CTX_new()) {
    if (EVP_CipherInit_ex(cipher.get(), EVP_des_ede3_cbc(), nullptr, key.data(), kFirstVector.data(),
                          seals ? 1 : 0) != 1)
      throw Error(ErrorKind::Unsupported, "this computer's OpenSSL has no triple DES");
    EVP_CIPHER_CTX_set_padding(cipher.get(), 0);
  }
  void apply(ByteSpan blocks) {
    int done = 0;
    EVP_CipherUpdate(cipher.get(), blocks.data(), &done, blocks.data(), static_cast<int>(blocks.size()));
  }
  std::unique_ptr<EVP_CIPHER_CTX, CipherFree> cipher;
  std::uint32_t messages = 0;
};

FipsSecurity::FipsSecurity(ByteView clientRandom, ByteView serverRandom, bool isClient) {
  const Bytes ofClient = sha1({clientRandom.subspan(16, 16), serverRandom.subspan(16, 16)});
  const Bytes ofServer = sha1({clientRandom.first(16), serverRandom.first(16)});
  macKey_ = sha1({ofServer, ofClient});
  out_ = std::make_unique<Direction>(tripleKey(isClient ? ofClient : ofServer), true);
  in_ = std::make_unique<Direction>(tripleKey(isClient ? ofServer : ofClient), false);
}

FipsSecurity::~FipsSecurity() = default;

Bytes FipsSecurity::signature(ByteView text, std::uint32_t number) const {
  LittleWriter all;
  all.bytes(text).u32(number);
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned length = 0;
  HMAC(EVP_sha1(), macKey_.data(), static_cast<int>(macKey_.size()), all.view().data(), all.size(),
       out.data(), &length);
  out.resize(kSignature);
  return out;
}

std::size_t FipsSecurity::sealedSize(std::size_t text) {
  return kHead + kSignature + (text + kBlock - 1) / kBlock * kBlock;
}

Bytes FipsSecurity::sealed(ByteView text) {
  const std::size_t padding = sealedSize(text.size()) - kHead - kSignature - text.size();
  LittleWriter out;
  out.u16(kHeadLength).u8(kVersion).u8(static_cast<unsigned>(padding));
  out.bytes(signature(text, out_->messages++)).bytes(text).zeros(padding);
  Bytes message = out.take();
  out_->apply(ByteSpan(message).subspan(kHead + kSignature));
  return message;
}

ByteView FipsSecurity::opened(ByteSpan bytes) {
  LittleReader in(bytes, kWhat);
  const unsigned length = in.u16(), version = in.u8(), padding = in.u8();
  const ByteView mark = in.bytes(kSignature);
  const ByteSpan blocks = bytes.subspan(kHead + kSignature);
  if (length != kHeadLength || version != kVersion || blocks.size() % kBlock != 0 || padding > blocks.size())
    protocolBroken(kWhat, "a message that is no whole number of blocks");
  in_->apply(blocks);
  const ByteView text = blocks.first(blocks.size() - padding);
  const Bytes wanted = signature(text, in_->messages++);
  if (!std::equal(wanted.begin(), wanted.end(), mark.begin(), mark.end()))
    protocolBroken(kWhat, "the signature of a message does not fit");
  return text;
}

}  // namespace kw::rdp
