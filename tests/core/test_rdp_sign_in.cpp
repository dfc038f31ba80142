// How RDP signs in, by its parts: NTLM, CredSSP, standard security.
#include "tests/core/rdp_parts.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

TEST_CASE("MD4, RC4 and the NTLM keys equal their published vectors", "[rdp]") {
  CHECK(hex(md4(viewOf(""))) == "31d6cfe0d16ae931b73c59d7e0c089c0");  // RFC 1320 A.5
  CHECK(hex(md4(viewOf("abc"))) == "a448017aaf21d8525fc10ae87aa6729d");
  CHECK(
      hex(md4(viewOf("12345678901234567890123456789012345678901234567890123456789012345678901234567890"))) ==
      "e33b4ddc9c38f2199c3e7b164fcc0536");
  Bytes text = unhex("0000000000000000");
  Rc4(unhex("0123456789abcdef")).apply(text);
  CHECK(hex(text) == "7494c2e7104b0879");
  CHECK(hex(md4(utf8ToUtf16("Password"))) == "a4f49c406510bdcab6824ee7c30fd852");  // MS-NLMP 4.2.2.1.2
  CHECK(hex(ntowfV2({"User", "Domain", "Password"})) == "0c868a403bfd7a93a3001ef22ef02e3f");  // 4.2.4.1.1
}

TEST_CASE("NTLM: the right password opens, the wrong one does not, and messages are sealed both ways",
          "[rdp]") {
  const NtlmAccount duty{"duty", "ALDER", "fern-house"};
  for (const bool right : {true, false}) {
    NtlmClient client(right ? duty : NtlmAccount{"duty", "ALDER", "other"}, "desk");
    NtlmServer server("fernery");
    const Bytes challenge = server.challenge(client.negotiate());
    Bytes answer = client.authenticate(challenge);
    CHECK(server.nameIn(answer).user == "duty");
    CHECK(server.nameIn(answer).domain == "ALDER");
    CHECK(server.check(answer, duty) == right);
    if (!right) continue;
    CHECK(textOf(server.incoming().unwrap(client.outgoing().wrap(viewOf("one")))) == "one");
    CHECK(textOf(server.incoming().unwrap(client.outgoing().wrap(viewOf("two")))) == "two");
    CHECK(textOf(client.incoming().unwrap(server.outgoing().wrap(viewOf("three")))) == "three");
    Bytes altered = client.outgoing().wrap(viewOf("four"));
    altered.back() ^= 1;
    CHECK(breaks([&] { server.incoming().unwrap(altered); }));
  }
  NtlmClient client(duty, "desk");
  NtlmServer server("fernery");
  Bytes answer = client.authenticate(server.challenge(client.negotiate()));
  answer[72] ^= 1;  // the MIC
  CHECK_FALSE(server.check(answer, duty));
  CHECK(breaks([&] { NtlmClient(duty, "desk").authenticate(viewOf("NTLMSSP")); }));
}

TEST_CASE("A TSRequest is read as it was written, and never past its end", "[rdp]") {
  CredSspRequest r;
  r.version = 5;
  r.token = Bytes(300, 7);
  r.pubKeyAuth = Bytes(20, 9);
  r.errorCode = 0xc000006d;
  r.clientNonce = Bytes(32, 3);
  const Bytes bytes = writeTsRequest(r);
  const CredSspRequest back = readTsRequest(bytes);
  CHECK(back.version == 5);
  CHECK(back.token == r.token);
  CHECK(back.pubKeyAuth == r.pubKeyAuth);
  CHECK(back.errorCode == r.errorCode);
  CHECK(back.clientNonce == r.clientNonce);
  CHECK(der::wholeLength(bytes) == bytes.size());
  for (std::size_t n = 0; n < bytes.size(); ++n)
    CHECK(breaks([&] { readTsRequest(ByteView(bytes).first(n)); }));
  CHECK(wordsForStatus(0xc0000071) == "the password has expired");
  CHECK(wordsForStatus(0xc0000234).find("locked") != std::string::npos);
}

TEST_CASE("Standard RDP security: both sides agree in every strength, past the change of keys", "[rdp]") {
  const Bytes clientRandom = randomBytes(32), serverRandom = randomBytes(32);
  for (std::uint32_t method : {encryption::k40, encryption::k56, encryption::k128, encryption::kFips}) {
    StandardSecurity client(method, clientRandom, serverRandom, true);
    StandardSecurity server(method, clientRandom, serverRandom, false);
    for (int i = 0; i < 4100; ++i) {  // keys change after 4096
      Bytes text{1, 2, 3, static_cast<Byte>(i)};
      text.resize(4 + static_cast<std::size_t>(i) % 9);  // whole blocks and parts of them
      Bytes message = client.sealed(text);
      const ByteView got = server.opened(message, false);
      if (Bytes(got.begin(), got.end()) != text) FAIL("packet " << i);
    }
    for (const std::size_t flipped : {std::size_t{0}, std::size_t{6}, std::size_t{14}}) {
      StandardSecurity again(method, clientRandom, serverRandom, true);
      Bytes message = StandardSecurity(method, clientRandom, serverRandom, false).sealed(Bytes(30, 7));
      message[flipped] ^= 1;
      CHECK(breaks([&] { again.opened(message, false); }));
    }
    for (std::size_t n = 0; n < 12; ++n) {
      StandardSecurity again(method, clientRandom, serverRandom, true);
      Bytes cut(n, 3);
      CHECK(breaks([&] { again.opened(cut, false); }));
    }
  }
  CHECK_THROWS_AS(StandardSecurity(0x20, clientRandom, serverRandom, true), Error);
  const RsaPair pair = makeRsaPair();
  const RsaKey key = keyInServerCertificate(ownCertificate(pair));
  CHECK(key.modulus == pair.publicKey.modulus);
  Bytes opened = rsaDecrypt(pair, rsaEncrypt(key, clientRandom));
  opened.resize(32);
  CHECK(opened == clientRandom);
}

namespace {

Task<CredSspRequest> nextRequest(ByteStream& stream) {
  Bytes message(4096);
  std::size_t have = 0;
  for (;;) {
    const std::size_t whole = der::wholeLength(ByteView(message).first(have));
    if (whole != 0 && have >= whole) co_return readTsRequest(ByteView(message).first(whole));
    have += co_await stream.readSome(ByteSpan(message).subspan(have));
  }
}

}  // namespace

TEST_CASE("CredSSP: a service that does not own the key TLS showed never gets the password", "[rdp]") {
  // It knows the account, so its NTLM is right; only the binding tells that it is not the one.
  const bool owns = GENERATE(true, false);
  const Bytes shown(64, 1), own = owns ? shown : Bytes(64, 2);
  std::optional<ErrorKind> kind;
  bool gotPassword = false;
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  auto [a, b] = memoryPair(strand);
  std::promise<void> over, serverOver;
  spawn(
      strand,
      [other = std::make_shared<StreamPtr>(std::move(b)), own, &gotPassword]() -> Task<void> {
        const NtlmAccount duty{"duty", "", "fern-house"};
        NtlmServer ntlm("fernery");
        CredSspRequest request = co_await nextRequest(**other);
        CredSspRequest answer;
        answer.token = ntlm.challenge(request.token);
        Bytes out = writeTsRequest(answer);
        co_await (*other)->write(out);
        request = co_await nextRequest(**other);
        ntlm.check(request.token, duty);
        ntlm.incoming().unwrap(request.pubKeyAuth);
        const std::string magic = "CredSSP Server-To-Client Binding Hash";
        answer = {};
        answer.pubKeyAuth = ntlm.outgoing().wrap(
            sha256({viewOf(std::string_view(magic.c_str(), magic.size() + 1)), request.clientNonce, own}));
        out = writeTsRequest(answer);
        co_await (*other)->write(out);
        request = co_await nextRequest(**other);
        gotPassword = !request.authInfo.empty();
      },
      [&](std::exception_ptr) { serverOver.set_value(); });
  spawn(
      strand,
      [mine = std::make_shared<StreamPtr>(std::move(a)), shown, &kind]() -> Task<void> {
        try {
          NtlmAccount duty{"duty", "", "fern-house"};
          const auto proof = ntlmProof(duty, "desk");
          const Bytes nothing;
          const Bytes first = co_await proof->next(nothing);
          co_await credSspClient(**mine, proof, first, duty, shown);
        } catch (const Error& e) {
          kind = e.kind();
        }
        if (kind) (*mine)->close();
      },
      [&](std::exception_ptr) { over.set_value(); });
  over.get_future().wait();
  serverOver.get_future().wait();
  runtime.stop();
  CHECK(gotPassword == owns);
  CHECK(kind == (owns ? std::optional<ErrorKind>() : ErrorKind::NotTrusted));
}

TEST_CASE("CredSSP: a service that proves nothing, or never comes to an end, is left", "[rdp]") {
  const bool empty = GENERATE(true, false);
  Runtime runtime{1};
  const Executor strand = runtime.strand();
  auto [a, b] = memoryPair(strand);
  /// Needs one message more, whatever comes.
  struct Endless : Proof {
    Task<Bytes> next(Bytes) override { co_return Bytes{1}; }
    [[nodiscard]] bool complete() const override { return false; }
    Bytes seal(ByteView) override { return {}; }
    Bytes open(ByteView) override { return {}; }
    [[nodiscard]] std::string name() const override { return "endless"; }
  };
  int requests = 0;
  std::optional<ErrorKind> kind;
  std::promise<void> over;
  spawn(strand, [other = std::make_shared<StreamPtr>(std::move(b)), empty, &requests]() -> Task<void> {
    for (;;) {
      co_await nextRequest(**other);
      ++requests;
      CredSspRequest answer;
      if (!empty) answer.token = {1};
      const Bytes out = writeTsRequest(answer);
      co_await (*other)->write(out);
    }
  });
  spawn(
      strand,
      [mine = std::make_shared<StreamPtr>(std::move(a)), &kind]() -> Task<void> {
        try {
          const Bytes first{1}, key{2};
          const NtlmAccount nobody;
          co_await credSspClient(**mine, std::make_shared<Endless>(), first, nobody, key);
        } catch (const Error& e) {
          kind = e.kind();
        }
        (*mine)->close();
      },
      [&](std::exception_ptr) { over.set_value(); });
  over.get_future().wait();
  runtime.stop();
  CHECK(kind == ErrorKind::ProtocolBroken);
  CHECK(requests == (empty ? 1 : 8));
}
