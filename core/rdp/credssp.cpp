#include "rdp/credssp.hpp"

#include <openssl/crypto.h>

#include "base/little.hpp"
#include "rdp/constants.hpp"
#include "rdp/der.hpp"

namespace kw::rdp {

namespace {

constexpr int kMostMessages = 8;  ///< of a proof; NTLM and Kerberos need two
constexpr char kClientBinding[] = "CredSSP Client-To-Server Binding Hash";
constexpr char kServerBinding[] = "CredSSP Server-To-Client Binding Hash";

Bytes context(unsigned number, const Bytes& inner) { return der::tagged(0xa0 + number, inner); }
void append(Bytes& out, const Bytes& more) { out.insert(out.end(), more.begin(), more.end()); }

/// Reads one DER element, exactly.
Task<Bytes> readElement(ByteStream& stream) {
  Bytes message;
  std::size_t wanted = 2;
  for (;;) {
    const std::size_t at = message.size();
    message.resize(wanted);
    for (std::size_t have = at; have < wanted;)
      have += co_await stream.readSome(ByteSpan(message).subspan(have));
    const std::size_t whole = der::wholeLength(message);
    if (whole == message.size()) co_return message;
    if (whole > kMostCredSsp || (whole != 0 && whole < message.size()))
      protocolBroken("TSRequest", "announces " + std::to_string(whole) + " bytes");
    wanted = whole == 0 ? message.size() + 1 : whole;
  }
}

/// 3.1.5: the key itself up to version 4 (the answer one more in its first byte), a digest with a nonce from
/// 5 on.
Bytes boundKey(std::uint32_t version, bool fromClient, ByteView nonce, const Bytes& key) {
  if (version >= 5) {
    const char* magic = fromClient ? kClientBinding : kServerBinding;
    return sha256({ByteView(reinterpret_cast<const Byte*>(magic), sizeof kClientBinding), nonce, key});
  }
  Bytes out = key;
  if (!fromClient && !out.empty()) ++out[0];
  return out;
}

/// 2.2.1.2.1 TSPasswordCreds inside TSCredentials
Bytes credentials(const NtlmAccount& a) {
  Bytes inner;
  append(inner, context(0, der::tagged(0x04, utf8ToUtf16(a.domain))));
  append(inner, context(1, der::tagged(0x04, utf8ToUtf16(a.user))));
  Bytes password = utf8ToUtf16(a.password);
  append(inner, context(2, der::tagged(0x04, password)));
  const Bytes sequence = der::tagged(0x30, inner);
  Bytes outer = context(0, der::integer(1));
  append(outer, context(1, der::tagged(0x04, sequence)));
  OPENSSL_cleanse(password.data(), password.size());
  OPENSSL_cleanse(inner.data(), inner.size());
  return der::tagged(0x30, outer);
}

NtlmAccount accountIn(ByteView bytes) {
  der::Reader outer(der::Reader(bytes, "TSCredentials").element(0x30), "TSCredentials");
  outer.element(0xa0);
  const ByteView octets = der::Reader(outer.element(0xa1), "TSCredentials").element(0x04);
  der::Reader in(der::Reader(octets, "TSPasswordCreds").element(0x30), "TSPasswordCreds");
  const auto text = [&](unsigned tag) {
    return utf16ToUtf8(der::Reader(in.element(tag), "TSPasswordCreds").element(0x04));
  };
  NtlmAccount out;
  out.domain = text(0xa0);
  out.user = text(0xa1);
  out.password = text(0xa2);
  return out;
}

std::string cureForStatus(std::uint32_t status) {
  switch (status) {
    case 0xc0000071:
    case 0xc0000224:
      return "Set a new password at the machine's own console, or let who administers its accounts do it.";
    case 0xc0000234:
      return "Wait until the lock is over, or have the account unlocked; trying on makes it longer.";
    case 0xc0000133: return "Set both clocks by the same time server.";
    case 0xc000015b:
    case 0xc0000022: return "Let the account into the machine's group of remote users.";
    case 0xc000005e: return "Its domain is not reached: try a local account (.\\name).";
    default:
      return "Is it the host's account or the machine's own that is asked for? The name may need its domain.";
  }
}

void throwOnRefusal(const CredSspRequest& answer, const std::string& where) {
  if (answer.errorCode != 0)
    throw Error(ErrorKind::SignInFailed, wordsForStatus(answer.errorCode), where)
        .withCure(cureForStatus(answer.errorCode));
}

}  // namespace

Bytes writeTsRequest(const CredSspRequest& r) {
  Bytes inner = context(0, der::integer(r.version));
  if (!r.token.empty()) {
    const Bytes item = der::tagged(0x30, context(0, der::tagged(0x04, r.token)));
    append(inner, context(1, der::tagged(0x30, item)));
  }
  if (!r.authInfo.empty()) append(inner, context(2, der::tagged(0x04, r.authInfo)));
  if (!r.pubKeyAuth.empty()) append(inner, context(3, der::tagged(0x04, r.pubKeyAuth)));
  if (r.errorCode != 0) append(inner, context(4, der::integer(r.errorCode)));
  if (!r.clientNonce.empty()) append(inner, context(5, der::tagged(0x04, r.clientNonce)));
  return der::tagged(0x30, inner);
}

CredSspRequest readTsRequest(ByteView bytes) {
  constexpr const char* what = "TSRequest";
  der::Reader in(der::Reader(bytes, what).element(0x30), what);
  const auto octets = [](ByteView field) {
    const ByteView v = der::Reader(field, what).element(0x04);
    return Bytes(v.begin(), v.end());
  };
  CredSspRequest r;
  r.version = der::Reader(in.element(0xa0), what).integer();
  if (in.peek() == 0xa1) {
    der::Reader list(der::Reader(in.element(0xa1), what).element(0x30), what);
    der::Reader item(list.element(0x30), what);
    r.token = octets(item.element(0xa0));
  }
  if (in.peek() == 0xa2) r.authInfo = octets(in.element(0xa2));
  if (in.peek() == 0xa3) r.pubKeyAuth = octets(in.element(0xa3));
  if (in.peek() == 0xa4) r.errorCode = der::Reader(in.element(0xa4), what).integer();
  if (in.peek() == 0xa5) r.clientNonce = octets(in.element(0xa5));
  return r;
}

std::string wordsForStatus(std::uint32_t status) {  // MS-ERREF 2.3
  switch (status) {
    case 0xc000006d:
    case 0xc000006a:
    case 0xc0000064: return "wrong name or password";
    case 0xc0000071: return "the password has expired";
    case 0xc0000224: return "the password must be changed before the first sign-in";
    case 0xc0000234: return "the account is locked after too many wrong passwords";
    case 0xc0000072: return "the account is switched off";
    case 0xc0000193: return "the account has expired";
    case 0xc000006e: return "the account may not sign in so (an empty password, or a rule of the machine)";
    case 0xc000006f: return "the account may not sign in at this hour";
    case 0xc0000070: return "the account may not sign in from here";
    case 0xc0000133: return "the clocks of the two machines differ too much";
    case 0xc000015b: return "the account may not sign in to this machine from afar";
    case 0xc0000022: return "access is denied";
    case 0xc000005e: return "the machine reaches nobody who knows its accounts";
    default: {
      char text[64];
      std::snprintf(text, sizeof text, "the machine refused the sign-in (status %08x)", status);
      return text;
    }
  }
}

namespace {

/// The proof's messages until it needs none of the other side any more; `request.token` is what is left to
/// say. Returns the version that the service speaks.
Task<std::uint32_t> exchangeProof(ByteStream& stream, Proof& proof, CredSspRequest& request) {
  std::uint32_t version = request.version;
  for (int i = 0; !proof.complete(); ++i) {
    if (i == kMostMessages) protocolBroken("CredSSP", "the sign-in does not come to an end");
    const Bytes message = writeTsRequest(request);
    co_await stream.write(message);
    const Bytes bytes = co_await readElement(stream);
    const CredSspRequest answer = readTsRequest(bytes);
    throwOnRefusal(answer, stream.peer());
    if (answer.token.empty()) protocolBroken("CredSSP", "an answer that proves nothing");
    version = std::min(answer.version, request.version);
    request.token = co_await proof.next(answer.token);
  }
  co_return version;
}

}  // namespace

Task<std::uint32_t> credSspClient(ByteStream& stream, std::shared_ptr<Proof> proof, Bytes first,
                                  NtlmAccount account, Bytes serverPublicKey) {
  const std::string where = stream.peer();
  CredSspRequest request;
  request.token = std::move(first);
  const std::uint32_t version = co_await exchangeProof(stream, *proof, request);
  if (version >= 5) request.clientNonce = randomBytes(32);
  request.pubKeyAuth = proof->seal(boundKey(version, true, request.clientNonce, serverPublicKey));
  const Bytes second = writeTsRequest(request);
  co_await stream.write(second);
  bool closed = false;
  CredSspRequest answer;
  try {
    const Bytes bytes = co_await readElement(stream);
    answer = readTsRequest(bytes);
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::ClosedByPeer && e.kind() != ErrorKind::ProtocolBroken) throw;
    closed = true;
  }
  // Many services hang up on a wrong password without a word, or say goodbye in another protocol's way.
  if (closed)
    throw Error(ErrorKind::SignInFailed, "wrong name or password", where).withCure(cureForStatus(0xc000006d));
  throwOnRefusal(answer, where);
  const Bytes theirs = proof->open(answer.pubKeyAuth);
  if (theirs != boundKey(version, false, request.clientNonce, serverPublicKey))
    throw Error(ErrorKind::NotTrusted,
                "somebody is in between: the sign-in is not bound to the key that TLS showed", where);
  CredSspRequest last;
  last.version = request.version;
  last.authInfo = proof->seal(credentials(account));
  const Bytes third = writeTsRequest(last);
  co_await stream.write(third);
  co_return version;
}

namespace {

Task<void> answerWith(ByteStream& stream, const CredSspRequest& answer) {
  const Bytes out = writeTsRequest(answer);
  co_await stream.write(out);
}

}  // namespace

Task<CredSspVisitor> credSspServer(ByteStream& stream, std::unique_ptr<ProofCheck> check, Bytes publicKey) {
  CredSspVisitor visitor;
  CredSspRequest request, answer;
  std::uint32_t version = 6;
  for (int i = 0;; ++i) {
    if (i == kMostMessages) protocolBroken("CredSSP", "the sign-in does not come to an end");
    const Bytes bytes = co_await readElement(stream);
    request = readTsRequest(bytes);
    version = std::min<std::uint32_t>(request.version, 6);
    answer = {};
    try {
      if (!request.token.empty()) answer.token = check->next(request.token);
    } catch (const Refused& refused) {
      answer.errorCode = refused.status;
    }
    if (answer.errorCode == 0 && check->complete() && !request.pubKeyAuth.empty()) break;
    co_await answerWith(stream, answer);
    if (answer.errorCode != 0) {
      visitor.account = check->account();
      co_return visitor;
    }
  }
  if (check->open(request.pubKeyAuth) != boundKey(version, true, request.clientNonce, publicKey))
    protocolBroken("CredSSP", "the visitor saw another key");
  answer = {};
  answer.pubKeyAuth = check->seal(boundKey(version, false, request.clientNonce, publicKey));
  co_await answerWith(stream, answer);
  const Bytes bytes = co_await readElement(stream);
  request = readTsRequest(bytes);
  visitor.account = accountIn(check->open(request.authInfo));
  visitor.good = true;
  co_return visitor;
}

}  // namespace kw::rdp
