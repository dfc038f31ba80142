#include "rdp/ntlm.hpp"

#include <utf8proc.h>

#include <chrono>

#include "base/little.hpp"

namespace kw::rdp {

namespace {

// MS-NLMP 2.2.2.5
namespace flag {
constexpr std::uint32_t kUnicode = 0x1, kRequestTarget = 0x4, kSign = 0x10, kSeal = 0x20, kNtlm = 0x200,
                        kAlwaysSign = 0x8000, kTargetServer = 0x20000, kExtendedSecurity = 0x80000,
                        kTargetInfo = 0x800000, kVersion = 0x2000000, k128 = 0x20000000,
                        kKeyExchange = 0x40000000, k56 = 0x80000000;
}
constexpr std::uint32_t kOurFlags = flag::kUnicode | flag::kRequestTarget | flag::kSign | flag::kSeal |
                                    flag::kNtlm | flag::kAlwaysSign | flag::kExtendedSecurity |
                                    flag::kTargetInfo | flag::kVersion | flag::k128 | flag::kKeyExchange |
                                    flag::k56;
constexpr char kSignature[] = "NTLMSSP";  // with its NUL
constexpr Byte kVersion[] = {10, 0, 0, 0, 0, 0, 0, 15};
constexpr std::size_t kMicAt = 72, kPayloadAt = 88;

namespace av {  // 2.2.2.1
constexpr unsigned kEnd = 0, kComputer = 1, kDomain = 2, kFlags = 6, kTimestamp = 7, kTargetName = 9,
                   kBindings = 10;
}

std::string upper(const std::string& utf8) {
  std::string out;
  for (char32_t c : utf8ToUtf32(utf8))
    appendUtf8(out, static_cast<char32_t>(utf8proc_toupper(static_cast<utf8proc_int32_t>(c))));
  return out;
}

/// A length, its double and an offset into the message (2.2.1).
ByteView fieldAt(ByteView message, std::size_t at) {
  LittleReader in(message, "NTLM message");
  in.skip(at);
  const std::size_t length = in.u16();
  in.skip(2);
  const std::size_t offset = in.u32();
  if (offset > message.size() || length > message.size() - offset)
    protocolBroken("NTLM message", "a field points outside of it");
  return message.subspan(offset, length);
}

std::uint64_t windowsTime() {
  const auto since = std::chrono::system_clock::now().time_since_epoch();
  return (static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::microseconds>(since).count()) +
          11644473600000000ULL) *
         10;
}

struct TargetInfo {
  std::optional<std::uint64_t> time;
  Bytes answer;  ///< what the client sends back: the server's pairs and ours
};

/// 3.1.5.1.2: the pairs are sent back with MsvAvFlags 2 (a MIC is there), empty bindings and target name.
TargetInfo readTargetInfo(ByteView bytes) {
  TargetInfo info;
  LittleReader in(bytes, "NTLM target info");
  LittleWriter out;
  while (in.left() >= 4) {
    const unsigned id = in.u16();
    const ByteView value = in.bytes(in.u16());
    if (id == av::kEnd) break;
    if (id == av::kTimestamp && value.size() == 8) info.time = loadLe64(value.data());
    if (id == av::kFlags || id == av::kBindings || id == av::kTargetName) continue;
    out.u16(id).u16(static_cast<unsigned>(value.size())).bytes(value);
  }
  out.u16(av::kFlags).u16(4).u32(2);
  out.u16(av::kBindings).u16(16).zeros(16);
  out.u16(av::kTargetName).u16(0);
  out.u32(0);  // end
  info.answer = out.take();
  return info;
}

/// 2.2.2.7 NTLMv2_CLIENT_CHALLENGE
Bytes clientChallengeBlob(std::uint64_t time, ByteView clientChallenge, ByteView targetInfo) {
  LittleWriter out;
  out.u8(1).u8(1).zeros(6).u64(time).bytes(clientChallenge).zeros(4).bytes(targetInfo).zeros(4);
  return out.take();
}

Bytes directionKey(ByteView key, bool fromClient, const char* use) {
  const std::string magic = std::string("session key to ") +
                            (fromClient ? "client-to-server " : "server-to-client ") + use +
                            " key magic constant";
  return md5({key, viewOf(std::string_view(magic.c_str(), magic.size() + 1))});
}

bool sameBytes(ByteView a, ByteView b) {
  if (a.size() != b.size()) return false;
  unsigned difference = 0;
  for (std::size_t i = 0; i < a.size(); ++i) difference |= a[i] ^ b[i];
  return difference == 0;
}

}  // namespace

Bytes ntowfV2(const NtlmAccount& account) {
  return hmacMd5(md4(utf8ToUtf16(account.password)), {utf8ToUtf16(upper(account.user) + account.domain)});
}

NtlmSeal::NtlmSeal(ByteView key, bool fromClient)
    : signKey_(directionKey(key, fromClient, "signing")), cipher_(directionKey(key, fromClient, "sealing")) {}

/// 3.4.4.2, with key exchange: the checksum is encrypted after the text.
Bytes NtlmSeal::signature(ByteView plain) {
  LittleWriter sequence;
  sequence.u32(sequence_++);
  Bytes sum = hmacMd5(signKey_, {sequence.view(), plain});
  sum.resize(8);
  cipher_.apply(sum);
  LittleWriter out;
  out.u32(1).bytes(sum).bytes(sequence.view());
  return out.take();
}

Bytes NtlmSeal::wrap(ByteView plain) {
  Bytes text(plain.begin(), plain.end());
  cipher_.apply(text);
  Bytes out = signature(plain);
  out.insert(out.end(), text.begin(), text.end());
  return out;
}

Bytes NtlmSeal::unwrap(ByteView sealedText) {
  if (sealedText.size() < 16) protocolBroken("NTLM", "a sealed message without its signature");
  Bytes plain(sealedText.begin() + 16, sealedText.end());
  cipher_.apply(plain);
  if (!sameBytes(signature(plain), sealedText.first(16)))
    protocolBroken("NTLM", "the signature of a sealed message does not fit");
  return plain;
}

NtlmClient::NtlmClient(NtlmAccount account, std::string workstation)
    : NtlmClient(std::move(account), std::move(workstation), Chosen()) {}
NtlmClient::NtlmClient(NtlmAccount account, std::string workstation, Chosen chosen)
    : account_(std::move(account)), workstation_(std::move(workstation)), chosen_(std::move(chosen)) {}

/// 2.2.1.1
Bytes NtlmClient::negotiate() {
  LittleWriter out;
  out.bytes({reinterpret_cast<const Byte*>(kSignature), 8}).u32(1).u32(kOurFlags).zeros(16).bytes(kVersion);
  negotiate_ = out.take();
  return negotiate_;
}

/// 2.2.1.3 AUTHENTICATE_MESSAGE, 3.3.2
Bytes NtlmClient::authenticate(ByteView challenge) {
  if (challenge.size() < 48 || textOf(challenge.first(7)) != kSignature || loadLe32(&challenge[8]) != 2)
    protocolBroken("NTLM challenge", "it is none");
  const std::uint32_t flags = loadLe32(&challenge[20]) & kOurFlags;
  if ((flags & flag::kExtendedSecurity) == 0 || (flags & flag::kKeyExchange) == 0)
    throw Error(ErrorKind::Unsupported, "the service wants an older NTLM than version 2");
  const ByteView serverChallenge = challenge.subspan(24, 8);
  const TargetInfo info = readTargetInfo(fieldAt(challenge, 40));
  const std::uint64_t time = info.time ? *info.time : chosen_.time.value_or(windowsTime());
  const Bytes key = ntowfV2(account_);
  const Bytes blob = clientChallengeBlob(time, chosen_.clientChallenge, info.answer);
  const Bytes proof = hmacMd5(key, {serverChallenge, blob});
  Bytes ntResponse = proof;
  ntResponse.insert(ntResponse.end(), blob.begin(), blob.end());
  const Bytes lmResponse(24, 0);  // 3.1.5.1.2: zeros where the server tells the time
  Bytes exchanged = chosen_.sessionKey;
  Rc4(hmacMd5(key, {proof})).apply(exchanged);

  const Bytes domain = utf8ToUtf16(account_.domain), user = utf8ToUtf16(account_.user),
              workstation = utf8ToUtf16(workstation_);
  LittleWriter out;
  out.bytes({reinterpret_cast<const Byte*>(kSignature), 8}).u32(3);
  std::size_t at = kPayloadAt + domain.size() + user.size() + workstation.size();
  const auto field = [&out](std::size_t length, std::size_t offset) {
    out.u16(static_cast<unsigned>(length))
        .u16(static_cast<unsigned>(length))
        .u32(static_cast<std::uint32_t>(offset));
  };
  field(lmResponse.size(), at);
  field(ntResponse.size(), at + lmResponse.size());
  field(domain.size(), kPayloadAt);
  field(user.size(), kPayloadAt + domain.size());
  field(workstation.size(), kPayloadAt + domain.size() + user.size());
  field(exchanged.size(), at + lmResponse.size() + ntResponse.size());
  out.u32(flags).bytes(kVersion).zeros(16);
  out.bytes(domain).bytes(user).bytes(workstation).bytes(lmResponse).bytes(ntResponse).bytes(exchanged);
  Bytes message = out.take();
  const Bytes mic = hmacMd5(chosen_.sessionKey, {negotiate_, challenge, message});
  std::copy(mic.begin(), mic.end(), message.begin() + kMicAt);
  outgoing_ = NtlmSeal(chosen_.sessionKey, true);
  incoming_ = NtlmSeal(chosen_.sessionKey, false);
  return message;
}

/// 2.2.1.2
Bytes NtlmServer::challenge(ByteView negotiate) {
  if (negotiate.size() < 16 || textOf(negotiate.first(7)) != kSignature || loadLe32(&negotiate[8]) != 1)
    protocolBroken("NTLM negotiate", "it is none");
  negotiate_.assign(negotiate.begin(), negotiate.end());
  serverChallenge_ = randomBytes(8);
  const Bytes name = utf8ToUtf16(upper(name_));
  LittleWriter pairs;
  const unsigned size = static_cast<unsigned>(name.size());
  pairs.u16(av::kDomain).u16(size).bytes(name).u16(av::kComputer).u16(size).bytes(name);
  pairs.u16(av::kTimestamp).u16(8).u64(windowsTime()).u32(0);
  LittleWriter out;
  out.bytes({reinterpret_cast<const Byte*>(kSignature), 8}).u32(2);
  out.u16(size).u16(size).u32(56);
  out.u32((kOurFlags | flag::kTargetServer)).bytes(serverChallenge_).zeros(8);
  const unsigned pairsSize = static_cast<unsigned>(pairs.size());
  out.u16(pairsSize).u16(pairsSize).u32(56 + size).bytes(kVersion).bytes(name).bytes(pairs.view());
  challenge_ = out.take();
  return challenge_;
}

NtlmAccount NtlmServer::nameIn(ByteView message) const {
  if (message.size() < kPayloadAt || textOf(message.first(7)) != kSignature || loadLe32(&message[8]) != 3)
    protocolBroken("NTLM authenticate", "it is none");
  return {utf16ToUtf8(fieldAt(message, 36)), utf16ToUtf8(fieldAt(message, 28)), {}};
}

bool NtlmServer::check(ByteView message, const NtlmAccount& account) {
  const ByteView ntResponse = fieldAt(message, 20);
  ByteView exchanged = fieldAt(message, 52);
  if (ntResponse.size() < 44 || exchanged.size() != 16) return false;
  const NtlmAccount said = nameIn(message);
  const Bytes key = ntowfV2({said.user, said.domain, account.password});
  const Bytes proof = hmacMd5(key, {serverChallenge_, ntResponse.subspan(16)});
  if (!sameBytes(proof, ntResponse.first(16))) return false;
  Bytes session(exchanged.begin(), exchanged.end());
  Rc4(hmacMd5(key, {proof})).apply(session);
  Bytes withoutMic(message.begin(), message.end());
  std::fill_n(withoutMic.begin() + kMicAt, 16, Byte{0});
  if (!sameBytes(hmacMd5(session, {negotiate_, challenge_, withoutMic}), message.subspan(kMicAt, 16)))
    return false;
  incoming_ = NtlmSeal(session, true);
  outgoing_ = NtlmSeal(session, false);
  return lowered(said.user) == lowered(account.user);
}

}  // namespace kw::rdp
