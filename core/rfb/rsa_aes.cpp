#include "rfb/rsa_aes.hpp"

#include <openssl/bn.h>
#include <openssl/core_names.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/param_build.h>
#include <openssl/rand.h>
#include <openssl/rsa.h>

#include "base/error.hpp"
#include "base/freer.hpp"

namespace kw::rfb {

namespace {

using Cipher = std::unique_ptr<EVP_CIPHER_CTX, Freer<EVP_CIPHER_CTX_free>>;
using Mac = std::unique_ptr<EVP_MAC, Freer<EVP_MAC_free>>;
using MacContext = std::unique_ptr<EVP_MAC_CTX, Freer<EVP_MAC_CTX_free>>;
using Key = std::unique_ptr<EVP_PKEY, Freer<EVP_PKEY_free>>;
using KeyContext = std::unique_ptr<EVP_PKEY_CTX, Freer<EVP_PKEY_CTX_free>>;
using Number = std::unique_ptr<BIGNUM, Freer<BN_free>>;

constexpr std::size_t kTag = 16;
constexpr std::size_t kMostPlain = 8192;
constexpr unsigned kLeastKeyBits = 1024, kMostKeyBits = 8192;
constexpr unsigned kOurKeyBits = 2048;

void require(bool fine, const char* what) {
  if (!fine) throw Error(ErrorKind::Local, std::string(what) + " failed in OpenSSL");
}

void increment(std::array<Byte, 16>& littleEndian) {
  for (Byte& b : littleEndian)
    if (++b != 0) return;
}

Bytes digest(int bits, std::initializer_list<ByteView> parts) {
  std::unique_ptr<EVP_MD_CTX, Freer<EVP_MD_CTX_free>> context(EVP_MD_CTX_new());
  EVP_DigestInit_ex(context.get(), bits == 256 ? EVP_sha256() : EVP_sha1(), nullptr);
  for (ByteView part : parts) EVP_DigestUpdate(context.get(), part.data(), part.size());
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned length = 0;
  EVP_DigestFinal_ex(context.get(), out.data(), &length);
  out.resize(length);
  return out;
}

std::string keyFingerprint(ByteView publicKey) { return hex(digest(256, {publicKey}), ":"); }

Bytes randomBytes(std::size_t n) {
  Bytes out(n);
  require(RAND_bytes(out.data(), static_cast<int>(n)) == 1, "random numbers");
  return out;
}

/// The wire form of a public key: length in bits, modulus, exponent, both padded to that length.
Bytes exportPublic(EVP_PKEY* key) {
  BIGNUM *n = nullptr, *e = nullptr;
  EVP_PKEY_get_bn_param(key, OSSL_PKEY_PARAM_RSA_N, &n);
  EVP_PKEY_get_bn_param(key, OSSL_PKEY_PARAM_RSA_E, &e);
  Number modulus(n), exponent(e);
  const int bits = BN_num_bits(n);
  const auto bytes = static_cast<std::size_t>((bits + 7) / 8);
  Bytes out(4 + 2 * bytes);
  storeBe32(out.data(), static_cast<std::uint32_t>(bits));
  BN_bn2binpad(n, out.data() + 4, static_cast<int>(bytes));
  BN_bn2binpad(e, out.data() + 4 + bytes, static_cast<int>(bytes));
  return out;
}

Key importPublic(ByteView wire) {
  const std::size_t bytes = (wire.size() - 4) / 2;
  Number n(BN_bin2bn(wire.data() + 4, static_cast<int>(bytes), nullptr));
  Number e(BN_bin2bn(wire.data() + 4 + bytes, static_cast<int>(bytes), nullptr));
  std::unique_ptr<OSSL_PARAM_BLD, Freer<OSSL_PARAM_BLD_free>> builder(OSSL_PARAM_BLD_new());
  OSSL_PARAM_BLD_push_BN(builder.get(), OSSL_PKEY_PARAM_RSA_N, n.get());
  OSSL_PARAM_BLD_push_BN(builder.get(), OSSL_PKEY_PARAM_RSA_E, e.get());
  std::unique_ptr<OSSL_PARAM, Freer<OSSL_PARAM_free>> parameters(OSSL_PARAM_BLD_to_param(builder.get()));
  KeyContext context(EVP_PKEY_CTX_new_from_name(nullptr, "RSA", nullptr));
  EVP_PKEY* key = nullptr;
  if (EVP_PKEY_fromdata_init(context.get()) != 1 ||
      EVP_PKEY_fromdata(context.get(), &key, EVP_PKEY_PUBLIC_KEY, parameters.get()) != 1)
    protocolBroken("RSA-AES", "the other side's key cannot be used");
  return Key(key);
}

Task<Bytes> readPublic(WireReader& in) {
  const std::uint32_t bits = co_await in.readU32();
  if (bits < kLeastKeyBits || bits > kMostKeyBits)
    protocolBroken("RSA-AES", "a key of " + std::to_string(bits) + " bits is outside the limits");
  const Bytes rest = co_await in.readBytes(2 * std::size_t{(bits + 7) / 8});
  Bytes out(4);
  storeBe32(out.data(), bits);
  out.insert(out.end(), rest.begin(), rest.end());
  co_return out;
}

Bytes rsaEncrypt(EVP_PKEY* key, ByteView plain) {
  KeyContext context(EVP_PKEY_CTX_new(key, nullptr));
  std::size_t size = 0;
  require(EVP_PKEY_encrypt_init(context.get()) == 1 &&
              EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_PADDING) == 1 &&
              EVP_PKEY_encrypt(context.get(), nullptr, &size, plain.data(), plain.size()) == 1,
          "RSA encryption");
  Bytes out(size);
  require(EVP_PKEY_encrypt(context.get(), out.data(), &size, plain.data(), plain.size()) == 1,
          "RSA encryption");
  out.resize(size);
  return out;
}

Bytes rsaDecrypt(EVP_PKEY* key, ByteView sealedText) {
  KeyContext context(EVP_PKEY_CTX_new(key, nullptr));
  EVP_PKEY_decrypt_init(context.get());
  EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_PADDING);
  std::size_t size = 0;
  Bytes out;
  if (EVP_PKEY_decrypt(context.get(), nullptr, &size, sealedText.data(), sealedText.size()) == 1) {
    out.resize(size);
    if (EVP_PKEY_decrypt(context.get(), out.data(), &size, sealedText.data(), sealedText.size()) == 1) {
      out.resize(size);
      return out;
    }
  }
  protocolBroken("RSA-AES", "the other side's random cannot be decrypted");
}

Bytes lengthPrefixed(ByteView bytes) {
  ByteWriter out;
  out.u16(static_cast<unsigned>(bytes.size())).bytes(bytes);
  return out.take();
}

Task<Bytes> readRandom(WireReader& in, EVP_PKEY* ours, std::size_t expected) {
  const unsigned length = co_await in.readU16();
  if (length == 0 || length > kMostKeyBits / 8) protocolBroken("RSA-AES", "a random of impossible length");
  const Bytes sealedText = co_await in.readBytes(length);
  Bytes random = rsaDecrypt(ours, sealedText);
  if (random.size() != expected) protocolBroken("RSA-AES", "a random of the wrong length");
  co_return random;
}

Key makeKey() {
  Key key(EVP_RSA_gen(kOurKeyBits));
  require(key != nullptr, "making an RSA key");
  return key;
}

Bytes sessionKey(int bits, ByteView first, ByteView second) {
  Bytes key = digest(bits, {first, second});
  key.resize(static_cast<std::size_t>(bits) / 8);
  return key;
}

constexpr unsigned kUserAndPassword = 1, kPasswordOnly = 2;

}  // namespace

AesEax::AesEax(ByteView key) : key_(key.begin(), key.end()) {}
AesEax::~AesEax() { OPENSSL_cleanse(key_.data(), key_.size()); }

std::array<Byte, 16> AesEax::mac(unsigned tweak, ByteView data) {
  Mac cmac(EVP_MAC_fetch(nullptr, "CMAC", nullptr));
  MacContext context(EVP_MAC_CTX_new(cmac.get()));
  char name[] = "AES-128-CBC", longName[] = "AES-256-CBC";
  OSSL_PARAM parameters[] = {
      OSSL_PARAM_construct_utf8_string(OSSL_MAC_PARAM_CIPHER, key_.size() == 32 ? longName : name, 0),
      OSSL_PARAM_construct_end()};
  require(EVP_MAC_init(context.get(), key_.data(), key_.size(), parameters) == 1, "CMAC");
  Byte block[16] = {};
  block[15] = static_cast<Byte>(tweak);
  EVP_MAC_update(context.get(), block, sizeof block);
  EVP_MAC_update(context.get(), data.data(), data.size());
  std::array<Byte, 16> out{};
  std::size_t length = 0;
  require(EVP_MAC_final(context.get(), out.data(), &length, out.size()) == 1, "CMAC");
  return out;
}

Bytes AesEax::counterMode(const std::array<Byte, 16>& start, ByteView data) {
  Cipher context(EVP_CIPHER_CTX_new());
  const EVP_CIPHER* kind = key_.size() == 32 ? EVP_aes_256_ctr() : EVP_aes_128_ctr();
  require(EVP_EncryptInit_ex(context.get(), kind, nullptr, key_.data(), start.data()) == 1, "AES");
  Bytes out(data.size());
  int written = 0;
  if (!data.empty())
    require(EVP_EncryptUpdate(context.get(), out.data(), &written, data.data(),
                              static_cast<int>(data.size())) == 1,
            "AES");
  return out;
}

Bytes AesEax::seal(ByteView nonce, ByteView header, ByteView plain) {
  const auto n = mac(0, nonce), h = mac(1, header);
  Bytes out = counterMode(n, plain);
  const auto c = mac(2, out);
  for (std::size_t i = 0; i < kTag; ++i) out.push_back(static_cast<Byte>(n[i] ^ h[i] ^ c[i]));
  return out;
}

Bytes AesEax::open(ByteView nonce, ByteView header, ByteView text) {
  if (text.size() < kTag) protocolBroken("RSA-AES message", "is too short");
  const ByteView cipher = text.first(text.size() - kTag);
  const auto n = mac(0, nonce), h = mac(1, header), c = mac(2, cipher);
  Byte expected[kTag];
  for (std::size_t i = 0; i < kTag; ++i) expected[i] = static_cast<Byte>(n[i] ^ h[i] ^ c[i]);
  if (CRYPTO_memcmp(expected, text.data() + cipher.size(), kTag) != 0)
    protocolBroken("RSA-AES message", "has been altered on the way");
  return counterMode(n, cipher);
}

AesEaxStream::AesEaxStream(ByteStream& below, WireReader& in, ByteView readKey, ByteView writeKey)
    : below_(&below), in_(&in), reading_(readKey), writing_(writeKey) {}

void AesEaxStream::own(StreamPtr below, std::unique_ptr<WireReader> in) {
  ownedBelow_ = std::move(below);
  ownedIn_ = std::move(in);
}

Task<std::size_t> AesEaxStream::readSome(ByteSpan into) {
  while (taken_ == plain_.size()) {
    co_await in_->need(2);
    Bytes header(2);
    std::memcpy(header.data(), in_->take(2).data(), 2);
    const std::size_t length = loadBe16(header.data());
    co_await in_->need(length + kTag);
    plain_ = reading_.open(readNonce_, header, in_->take(length + kTag));
    increment(readNonce_);
    taken_ = 0;
  }
  const std::size_t n = std::min(into.size(), plain_.size() - taken_);
  std::memcpy(into.data(), plain_.data() + taken_, n);
  taken_ += n;
  co_return n;
}

Task<void> AesEaxStream::write(ByteView bytes) {
  while (!bytes.empty()) {
    const ByteView part = bytes.first(std::min(bytes.size(), kMostPlain));
    bytes = bytes.subspan(part.size());
    Bytes message(2);
    storeBe16(message.data(), static_cast<std::uint16_t>(part.size()));
    const Bytes text = writing_.seal(writeNonce_, message, part);
    increment(writeNonce_);
    message.insert(message.end(), text.begin(), text.end());
    co_await below_->write(message);
  }
}

Task<StreamPtr> rsaAesClient(StreamPtr below, int bits, bool sealAll,
                             std::function<Task<bool>(std::string)> trust,
                             std::function<Task<RsaAesAnswer>(RsaAesSignIn)> signIn) {
  auto reader = std::make_unique<WireReader>(*below);
  const auto randomSize = static_cast<std::size_t>(bits) / 8;
  const Bytes serverPublic = co_await readPublic(*reader);
  const bool trusted = co_await trust(keyFingerprint(serverPublic));
  if (!trusted) throw Error(ErrorKind::NotTrusted, "the server's key is not trusted", below->peer());
  const Key theirs = importPublic(serverPublic);
  const Key ours = makeKey();
  const Bytes clientPublic = exportPublic(ours.get());
  co_await below->write(clientPublic);
  const Bytes clientRandom = randomBytes(randomSize);
  const Bytes sealedRandom = lengthPrefixed(rsaEncrypt(theirs.get(), clientRandom));
  co_await below->write(sealedRandom);
  const Bytes serverRandom = co_await readRandom(*reader, ours.get(), randomSize);
  const Bytes writeKey = sessionKey(bits, serverRandom, clientRandom);
  const Bytes readKey = sessionKey(bits, clientRandom, serverRandom);
  auto secure = std::make_unique<AesEaxStream>(*below, *reader, readKey, writeKey);
  WireReader in(*secure);
  const Bytes clientHash = digest(bits, {clientPublic, serverPublic});
  co_await secure->write(clientHash);
  const Bytes shown = co_await in.readBytes(clientHash.size());
  if (shown != digest(bits, {serverPublic, clientPublic}))
    throw Error(ErrorKind::NotTrusted, "the keys were exchanged by somebody in between", below->peer());
  const unsigned kind = co_await in.readU8();
  if (kind != kUserAndPassword && kind != kPasswordOnly)
    protocolBroken("RSA-AES", "an unknown kind of sign-in");
  RsaAesSignIn wanted{kind == kUserAndPassword};
  const RsaAesAnswer answer = co_await signIn(wanted);
  if (answer.user.size() > 255 || answer.password.size() > 255)
    throw Error(ErrorKind::Local, "name and password may have 255 bytes at most");
  ByteWriter credentials;
  credentials.u8(static_cast<unsigned>(wanted.wantsUser ? answer.user.size() : 0));
  if (wanted.wantsUser) credentials.text(answer.user);
  credentials.u8(static_cast<unsigned>(answer.password.size())).text(answer.password);
  co_await secure->write(credentials.view());
  OPENSSL_cleanse(credentials.raw().data(), credentials.size());
  if (!sealAll) co_return below;
  secure->own(std::move(below), std::move(reader));
  co_return secure;
}

Task<StreamPtr> rsaAesServer(StreamPtr below, int bits, bool sealAll, bool wantsUser,
                             std::function<void(const RsaAesAnswer&)> gave) {
  auto reader = std::make_unique<WireReader>(*below);
  const auto randomSize = static_cast<std::size_t>(bits) / 8;
  const Key ours = makeKey();
  const Bytes serverPublic = exportPublic(ours.get());
  co_await below->write(serverPublic);
  const Bytes clientPublic = co_await readPublic(*reader);
  const Key theirs = importPublic(clientPublic);
  const Bytes serverRandom = randomBytes(randomSize);
  const Bytes sealedRandom = lengthPrefixed(rsaEncrypt(theirs.get(), serverRandom));
  co_await below->write(sealedRandom);
  const Bytes clientRandom = co_await readRandom(*reader, ours.get(), randomSize);
  const Bytes readKey = sessionKey(bits, serverRandom, clientRandom);
  const Bytes writeKey = sessionKey(bits, clientRandom, serverRandom);
  auto secure = std::make_unique<AesEaxStream>(*below, *reader, readKey, writeKey);
  WireReader in(*secure);
  const Bytes serverHash = digest(bits, {serverPublic, clientPublic});
  co_await secure->write(serverHash);
  const Bytes shown = co_await in.readBytes(serverHash.size());
  if (shown != digest(bits, {clientPublic, serverPublic}))
    throw Error(ErrorKind::NotTrusted, "the keys were exchanged by somebody in between", below->peer());
  const Bytes kind{static_cast<Byte>(wantsUser ? kUserAndPassword : kPasswordOnly)};
  co_await secure->write(kind);
  RsaAesAnswer answer;
  const std::size_t userLength = co_await in.readU8();
  answer.user = co_await in.readText(userLength);
  const std::size_t passwordLength = co_await in.readU8();
  answer.password = co_await in.readText(passwordLength);
  gave(answer);
  if (!sealAll) co_return below;
  secure->own(std::move(below), std::move(reader));
  co_return secure;
}

}  // namespace kw::rfb
