// The RSA-AES security types (registry: 5, 6, 129, 130): RSA keys are exchanged, randoms under them make two
// AES session keys, and every message travels as AES-EAX with a counter as nonce.
#pragma once
#include <functional>

#include "base/secret.hpp"
#include "wire/stream.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

/// AES in EAX mode (Bellare, Rogaway, Wagner 2004) with 16-byte tags.
class AesEax {
 public:
  explicit AesEax(ByteView key);
  ~AesEax();
  /// Ciphertext followed by the tag.
  Bytes seal(ByteView nonce, ByteView header, ByteView plain);
  /// Throws Error{ProtocolBroken} when the tag does not fit.
  Bytes open(ByteView nonce, ByteView header, ByteView sealedText);

 private:
  std::array<Byte, 16> mac(unsigned tweak, ByteView data);
  Bytes counterMode(const std::array<Byte, 16>& start, ByteView data);
  Bytes key_;
};

/// Messages of at most 8192 bytes, each: length (2 bytes, authenticated), ciphertext, tag.
class AesEaxStream : public ByteStream {
 public:
  AesEaxStream(ByteStream& below, WireReader& in, ByteView readKey, ByteView writeKey);
  Task<std::size_t> readSome(ByteSpan into) override;
  Task<void> write(ByteView bytes) override;
  void close() noexcept override { below_->close(); }
  [[nodiscard]] bool sealed() const override { return true; }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }
  /// Makes this stream the owner of what it runs on (when it lives past the handshake).
  void own(StreamPtr below, std::unique_ptr<WireReader> in);

 private:
  StreamPtr ownedBelow_;
  std::unique_ptr<WireReader> ownedIn_;
  ByteStream* below_;
  WireReader* in_;
  AesEax reading_, writing_;
  std::array<Byte, 16> readNonce_{}, writeNonce_{};
  Bytes plain_;
  std::size_t taken_ = 0;
};

struct RsaAesSignIn {
  bool wantsUser = false;
};
struct RsaAesAnswer {
  std::string user;
  Secret password;
};

/// `bits` 128 or 256; `sealAll` false for the types that end encryption after the sign-in.
/// `trust` is shown the SHA-256 of the server's key; `signIn` is asked for the credentials.
Task<StreamPtr> rsaAesClient(StreamPtr below, int bits, bool sealAll,
                             std::function<Task<bool>(std::string)> trust,
                             std::function<Task<RsaAesAnswer>(RsaAesSignIn)> signIn);
/// The server's half, for tests and the lab. `gave` is told user and password;
/// SecurityResult is the caller's.
Task<StreamPtr> rsaAesServer(StreamPtr below, int bits, bool sealAll, bool wantsUser,
                             std::function<void(const RsaAesAnswer&)> gave);

}  // namespace kw::rfb
