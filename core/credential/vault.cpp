#include "credential/vault.hpp"

#include <sodium.h>

#include <mutex>

#include "base/error.hpp"
#include "base/file.hpp"

namespace kw {

namespace {

constexpr std::size_t kKey = crypto_aead_xchacha20poly1305_ietf_KEYBYTES;
constexpr std::size_t kNonce = crypto_aead_xchacha20poly1305_ietf_NPUBBYTES;
constexpr std::size_t kTag = crypto_aead_xchacha20poly1305_ietf_ABYTES;
constexpr char kMagic[] = "KWVAULT1";  // then: 'k' and the key, or 'p', salt and the sealed key
constexpr std::size_t kMagicSize = 8;

/// Key bytes in memory that is locked, guarded and wiped; those of a desk's pair are as long.
class LockedKey {
 public:
  LockedKey() : bytes_(static_cast<Byte*>(sodium_malloc(kKey))) {
    static_assert(crypto_box_SECRETKEYBYTES == kKey && crypto_box_SEEDBYTES == kKey);
    if (bytes_ == nullptr) throw Error(ErrorKind::Local, "no locked memory for the vault key");
  }
  ~LockedKey() { sodium_free(bytes_); }
  LockedKey(const LockedKey&) = delete;
  LockedKey& operator=(const LockedKey&) = delete;
  Byte* data() { return bytes_; }
  [[nodiscard]] const Byte* data() const { return bytes_; }

 private:
  Byte* bytes_;
};

Bytes sealWith(const LockedKey& key, ByteView plain, const std::string& about) {
  Bytes out(kNonce + plain.size() + kTag);
  randombytes_buf(out.data(), kNonce);
  crypto_aead_xchacha20poly1305_ietf_encrypt(out.data() + kNonce, nullptr, plain.data(), plain.size(),
                                             viewOf(about).data(), about.size(), nullptr, out.data(),
                                             key.data());
  return out;
}

bool unsealWith(const LockedKey& key, ByteView text, const std::string& about, Byte* out) {
  return text.size() >= kNonce + kTag &&
         crypto_aead_xchacha20poly1305_ietf_decrypt(out, nullptr, nullptr, text.data() + kNonce,
                                                    text.size() - kNonce, viewOf(about).data(), about.size(),
                                                    text.data(), key.data()) == 0;
}

void deriveKey(const std::string& passphrase, const Byte* salt, LockedKey& key) {
  if (crypto_pwhash(key.data(), kKey, passphrase.data(), passphrase.size(), salt,
                    crypto_pwhash_OPSLIMIT_INTERACTIVE, crypto_pwhash_MEMLIMIT_INTERACTIVE,
                    crypto_pwhash_ALG_ARGON2ID13) != 0)
    throw Error(ErrorKind::Local, "not enough memory to check the passphrase");
}

/// The length of what it is about, that, and the secret: what is sealed between desks.
Bytes withAbout(std::string_view secret, const std::string& about) {
  Bytes out(2 + about.size() + secret.size());
  storeBe16(out.data(), static_cast<std::uint16_t>(about.size()));
  std::copy(about.begin(), about.end(), out.begin() + 2);
  std::copy(secret.begin(), secret.end(), out.begin() + static_cast<std::ptrdiff_t>(2 + about.size()));
  return out;
}

std::optional<Secret> withoutAbout(Bytes& plain, const std::string& about) {
  const std::string_view text(reinterpret_cast<const char*>(plain.data()), plain.size());
  std::optional<Secret> out;
  if (text.size() >= 2 + about.size() && loadBe16(plain.data()) == about.size() &&
      text.substr(2, about.size()) == about)
    out = Secret(text.substr(2 + about.size()));
  sodium_memzero(plain.data(), plain.size());
  return out;
}

class FileVault : public Vault {
 public:
  explicit FileVault(std::filesystem::path file) : file_(std::move(file)) {
    if (std::filesystem::exists(file_)) {
      read();
    } else {
      randombytes_buf(key_.data(), kKey);
      open_ = true;
      savePlain();
    }
  }

  [[nodiscard]] bool isOpen() const override {
    const std::lock_guard held(lock_);
    return open_;
  }

  bool open(const std::string& passphrase) override {
    const std::lock_guard held(lock_);
    if (open_) return true;
    LockedKey outer;
    deriveKey(passphrase, salt_, outer);
    open_ = unsealWith(outer, sealedKey_, "vault key", key_.data());
    return open_;
  }

  void setPassphrase(const std::string& passphrase) override {
    const std::lock_guard held(lock_);
    requireOpen();
    if (passphrase.empty()) {
      savePlain();
      sealedKey_.clear();
      return;
    }
    randombytes_buf(salt_, sizeof salt_);
    LockedKey outer;
    deriveKey(passphrase, salt_, outer);
    sealedKey_ = sealWith(outer, ByteView(key_.data(), kKey), "vault key");
    ByteWriter out;
    out.text(kMagic).u8('p').bytes(salt_).bytes(sealedKey_);
    writeFileSafely(file_, out.view(), 0600);
  }

  bool hasPassphrase() const override {
    const std::lock_guard held(lock_);
    return !sealedKey_.empty();
  }

  bool lock() override {
    const std::lock_guard held(lock_);
    if (sealedKey_.empty()) return false;
    sodium_memzero(key_.data(), kKey);
    open_ = false;
    return true;
  }

  std::filesystem::path folder() const override { return file_.parent_path(); }

  Bytes seal(std::string_view secret, const std::string& about) override {
    const std::lock_guard held(lock_);
    requireOpen();
    return sealWith(key_, viewOf(secret), about);
  }

  std::optional<Secret> unseal(const Bytes& text, const std::string& about) override {
    const std::lock_guard held(lock_);
    requireOpen();
    if (text.size() < kNonce + kTag) return std::nullopt;
    std::string out(text.size() - kNonce - kTag, '\0');
    if (!unsealWith(key_, text, about, reinterpret_cast<Byte*>(out.data()))) return std::nullopt;
    return out;
  }

  Bytes publicKey() override {
    const std::lock_guard held(lock_);
    LockedKey secretKey;
    return pair(secretKey);
  }

  Bytes sealFor(const Bytes& theirs, std::string_view secret, const std::string& about) override {
    const std::lock_guard held(lock_);
    LockedKey secretKey;
    pair(secretKey);
    Bytes plain = withAbout(secret, about);
    Bytes out(crypto_box_NONCEBYTES + plain.size() + crypto_box_MACBYTES);
    randombytes_buf(out.data(), crypto_box_NONCEBYTES);
    const bool sealed = theirs.size() == crypto_box_PUBLICKEYBYTES &&
                        crypto_box_easy(out.data() + crypto_box_NONCEBYTES, plain.data(), plain.size(),
                                        out.data(), theirs.data(), secretKey.data()) == 0;
    sodium_memzero(plain.data(), plain.size());
    if (!sealed) throw Error(ErrorKind::Local, "this is no key that anything could be sealed for");
    return out;
  }

  std::optional<Secret> unsealFrom(const Bytes& theirs, const Bytes& text,
                                   const std::string& about) override {
    const std::lock_guard held(lock_);
    LockedKey secretKey;
    pair(secretKey);
    constexpr std::size_t kAround = crypto_box_NONCEBYTES + crypto_box_MACBYTES;
    if (text.size() < kAround || theirs.size() != crypto_box_PUBLICKEYBYTES) return std::nullopt;
    Bytes plain(text.size() - kAround);
    if (crypto_box_open_easy(plain.data(), text.data() + crypto_box_NONCEBYTES,
                             text.size() - crypto_box_NONCEBYTES, text.data(), theirs.data(),
                             secretKey.data()) != 0)
      return std::nullopt;
    return withoutAbout(plain, about);
  }

 private:
  /// This desk's pair; gives the public half.
  Bytes pair(LockedKey& secretKey) const {
    requireOpen();
    constexpr std::string_view kFor = "kettle window: between desks";
    LockedKey seed;
    crypto_generichash(seed.data(), kKey, viewOf(kFor).data(), kFor.size(), key_.data(), kKey);
    Bytes out(crypto_box_PUBLICKEYBYTES);
    crypto_box_seed_keypair(out.data(), secretKey.data(), seed.data());
    return out;
  }

  void requireOpen() const {
    if (!open_) throw Error(ErrorKind::Local, "the vault is locked; it needs its passphrase");
  }

  void savePlain() {
    ByteWriter out;
    out.text(kMagic).u8('k').bytes(ByteView(key_.data(), kKey));
    writeFileSafely(file_, out.view(), 0600);
    sodium_memzero(out.raw().data(), out.size());
  }

  void read() {
    using std::filesystem::perms;
    if ((std::filesystem::status(file_).permissions() & (perms::group_all | perms::others_all)) !=
        perms::none)
      std::filesystem::permissions(file_, perms::owner_read | perms::owner_write);
    Bytes bytes = readFile(file_, 4096);
    const bool ours = bytes.size() > kMagicSize && std::memcmp(bytes.data(), kMagic, kMagicSize) == 0;
    const ByteView body = ours ? ByteView(bytes).subspan(kMagicSize + 1) : ByteView();
    if (ours && bytes[kMagicSize] == 'k' && body.size() == kKey) {
      std::memcpy(key_.data(), body.data(), kKey);
      open_ = true;
    } else if (ours && bytes[kMagicSize] == 'p' && body.size() == sizeof salt_ + kNonce + kKey + kTag) {
      std::memcpy(salt_, body.data(), sizeof salt_);
      sealedKey_.assign(body.begin() + sizeof salt_, body.end());
    } else {
      throw Error(ErrorKind::Local, "this is not a whole vault key; kept passwords cannot be read",
                  file_.string());
    }
    sodium_memzero(bytes.data(), bytes.size());
  }

  mutable std::mutex lock_;
  std::filesystem::path file_;
  LockedKey key_;
  Byte salt_[crypto_pwhash_SALTBYTES] = {};
  Bytes sealedKey_;
  bool open_ = false;
};

}  // namespace

std::unique_ptr<Vault> openVault(const std::filesystem::path& folder) {
  if (sodium_init() < 0) throw Error(ErrorKind::Local, "libsodium does not start");
  std::error_code code;
  std::filesystem::create_directories(folder, code);
  if (code) throw Error(ErrorKind::Local, "the folder cannot be made: " + code.message(), folder.string());
  return std::make_unique<FileVault>(folder / "vault.key");
}

}  // namespace kw
