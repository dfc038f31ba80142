#include "credential/sealed_file.hpp"

#include <sodium.h>

#include <nlohmann/json.hpp>

#include "base/base64.hpp"
#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;
constexpr const char* kMark = "kettle-window sealed";
constexpr std::size_t kKey = crypto_aead_xchacha20poly1305_ietf_KEYBYTES;
constexpr std::size_t kNonce = crypto_aead_xchacha20poly1305_ietf_NPUBBYTES;
constexpr std::size_t kTag = crypto_aead_xchacha20poly1305_ietf_ABYTES;
// What a file may ask of whoever opens it.
constexpr unsigned long long kMostTurns = 10;
constexpr std::size_t kMostMemory = std::size_t{1} << 30;

Bytes fromBase64(const std::string& text) {
  Bytes out(text.size());
  std::size_t size = 0;
  if (text.empty() || sodium_base642bin(out.data(), out.size(), text.data(), text.size(), nullptr, &size,
                                        nullptr, sodium_base64_VARIANT_ORIGINAL) != 0)
    throw Error(ErrorKind::Local, "the sealed file is damaged");
  out.resize(size);
  return out;
}

Bytes keyFrom(const std::string& passphrase, const Bytes& salt, unsigned long long turns,
              std::size_t memory) {
  Bytes key(kKey);
  if (salt.size() != crypto_pwhash_SALTBYTES || turns > kMostTurns || memory > kMostMemory)
    throw Error(ErrorKind::Local, "the sealed file is damaged");
  if (crypto_pwhash(key.data(), key.size(), passphrase.data(), passphrase.size(), salt.data(), turns, memory,
                    crypto_pwhash_ALG_ARGON2ID13) != 0)
    throw Error(ErrorKind::Local, "not enough memory for the passphrase");
  return key;
}

}  // namespace

bool isSealedText(const std::string& text) {
  const auto at = text.find(kMark);
  return at != std::string::npos && at < 200;
}

std::string sealedText(const std::string& plain, const std::string& passphrase) {
  if (passphrase.empty()) throw Error(ErrorKind::Local, "a passphrase is needed");
  if (sodium_init() < 0) throw Error(ErrorKind::Local, "libsodium does not start");
  Bytes salt(crypto_pwhash_SALTBYTES), sealed(kNonce + plain.size() + kTag);
  randombytes_buf(salt.data(), salt.size());
  randombytes_buf(sealed.data(), kNonce);
  Bytes key = keyFrom(passphrase, salt, crypto_pwhash_OPSLIMIT_MODERATE, crypto_pwhash_MEMLIMIT_MODERATE);
  crypto_aead_xchacha20poly1305_ietf_encrypt(sealed.data() + kNonce, nullptr, viewOf(plain).data(),
                                             plain.size(), viewOf(std::string_view(kMark)).data(),
                                             std::string_view(kMark).size(), nullptr, sealed.data(),
                                             key.data());
  sodium_memzero(key.data(), key.size());
  return nlohmann::ordered_json{{"format", kMark},
                                {"version", 1},
                                {"turns", crypto_pwhash_OPSLIMIT_MODERATE},
                                {"memory", crypto_pwhash_MEMLIMIT_MODERATE},
                                {"salt", base64Of(salt)},
                                {"data", base64Of(sealed)}}
             .dump(1) +
         "\n";
}

std::string openedText(const std::string& text, const std::string& passphrase) {
  if (sodium_init() < 0) throw Error(ErrorKind::Local, "libsodium does not start");
  try {
    const Json json = Json::parse(text);
    if (json.at("format") != kMark || json.at("version") != 1)
      throw Error(ErrorKind::Local, "the sealed file is of a newer version");
    const Bytes sealed = fromBase64(json.at("data"));
    Bytes key = keyFrom(passphrase, fromBase64(json.at("salt")), json.at("turns"), json.at("memory"));
    std::string out(sealed.size() < kNonce + kTag ? 0 : sealed.size() - kNonce - kTag, '\0');
    const bool opened = sealed.size() >= kNonce + kTag &&
                        crypto_aead_xchacha20poly1305_ietf_decrypt(
                            reinterpret_cast<Byte*>(out.data()), nullptr, nullptr, sealed.data() + kNonce,
                            sealed.size() - kNonce, viewOf(std::string_view(kMark)).data(),
                            std::string_view(kMark).size(), sealed.data(), key.data()) == 0;
    sodium_memzero(key.data(), key.size());
    if (!opened) throw Error(ErrorKind::SignInFailed, "the passphrase is wrong, or the file was altered");
    return out;
  } catch (const Json::exception&) {
    throw Error(ErrorKind::Local, "the sealed file is damaged");
  }
}

}  // namespace kw
