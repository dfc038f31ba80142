#include "rfb/vnc_password.hpp"

#include <openssl/evp.h>
#include <openssl/rand.h>

#include <memory>

#include "base/error.hpp"

namespace kw::rfb {

namespace {
/// The protocol uses each key byte with its bits mirrored.
Byte mirrored(Byte b) {
  Byte out = 0;
  for (int i = 0; i < 8; ++i) out = static_cast<Byte>((out << 1) | ((b >> i) & 1));
  return out;
}
}  // namespace

Challenge answerChallenge(const Challenge& challenge, std::string_view password) {
  // Triple DES with three equal keys is single DES, and every OpenSSL still has it.
  Byte key[24] = {};
  for (std::size_t i = 0; i < 8; ++i) {
    const Byte b = i < password.size() ? mirrored(static_cast<Byte>(password[i])) : Byte{0};
    key[i] = key[i + 8] = key[i + 16] = b;
  }
  std::unique_ptr<EVP_CIPHER_CTX, decltype(&EVP_CIPHER_CTX_free)> context(EVP_CIPHER_CTX_new(),
                                                                          EVP_CIPHER_CTX_free);
  Challenge answer{};
  int written = 0;
  const bool done = EVP_EncryptInit_ex(context.get(), EVP_des_ede3_ecb(), nullptr, key, nullptr) == 1 &&
                    EVP_CIPHER_CTX_set_padding(context.get(), 0) == 1 &&
                    EVP_EncryptUpdate(context.get(), answer.data(), &written, challenge.data(), 16) == 1;
  OPENSSL_cleanse(key, sizeof key);
  if (!done || written != 16) throw Error(ErrorKind::Local, "DES is not available in this machine's OpenSSL");
  return answer;
}

Challenge randomChallenge() {
  Challenge challenge{};
  if (RAND_bytes(challenge.data(), static_cast<int>(challenge.size())) != 1)
    throw Error(ErrorKind::Local, "no random numbers");
  return challenge;
}

}  // namespace kw::rfb
