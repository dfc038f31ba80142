#include "rdp/coming_back.hpp"

#include <openssl/crypto.h>

#include "base/little.hpp"

namespace kw::rdp {

namespace {
constexpr std::uint32_t kLength = 28, kVersion = 1;
constexpr std::size_t kRandom = 16;
}  // namespace

Bytes writeComeBackCookie(const ComeBackCookie& cookie) {
  LittleWriter out;
  out.u32(kLength).u32(kVersion).u32(cookie.logonId).bytes(cookie.random);
  return out.take();
}

ComeBackCookie readComeBackCookie(ByteView bytes) {
  LittleReader in(bytes, "auto-reconnect cookie");
  if (in.u32() != kLength) protocolBroken("auto-reconnect cookie", "has another length");
  in.skip(4);
  ComeBackCookie out;
  out.logonId = in.u32();
  const ByteView random = in.bytes(kRandom);
  out.random.assign(random.begin(), random.end());
  return out;
}

Bytes proofOfCookie(const ComeBackCookie& cookie, ByteView clientRandom) {
  const Bytes zeros(32, 0);
  LittleWriter out;
  out.u32(kLength).u32(kVersion).u32(cookie.logonId);
  return out.bytes(hmacMd5(cookie.random, {clientRandom.empty() ? ByteView(zeros) : clientRandom})).take();
}

std::uint32_t logonIdIn(ByteView proof) {
  if (proof.size() != kLength) protocolBroken("auto-reconnect", "a proof of another length");
  LittleReader in(proof, "auto-reconnect");
  in.skip(8);
  return in.u32();
}

ComeBackCookie ComeBackBook::begin(const NtlmAccount& account) {
  const ComeBackCookie cookie{next_++, randomBytes(kRandom)};
  held_[cookie.logonId] = {cookie, account};
  return cookie;
}

std::optional<NtlmAccount> ComeBackBook::take(ByteView proof, ByteView clientRandom) {
  const auto found = held_.find(logonIdIn(proof));
  if (found == held_.end()) return std::nullopt;
  const Bytes right = proofOfCookie(found->second.cookie, clientRandom);
  if (CRYPTO_memcmp(right.data(), proof.data(), right.size()) != 0) return std::nullopt;
  const NtlmAccount account = found->second.account;
  held_.erase(found);
  return account;
}

}  // namespace kw::rdp
