#include <fstream>

#include "rfb/rsa_aes.hpp"
#include "tests/support.hpp"
#include "wire/tls.hpp"
#include "wire/wire_reader.hpp"

using namespace kw;

namespace {

ErrorKind kindOfTask(const std::function<Task<void>()>& task) {
  try {
    runToEnd(task);
  } catch (...) {
    return test::kindOf(std::current_exception());
  }
  FAIL("nothing failed");
  return ErrorKind::Local;
}

/// Both sides of a TLS handshake over memory; returns what the client read.
std::string talkTls(TlsClientOptions clientOptions, TlsServerOptions serverOptions) {
  std::string heard;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(here);
    auto serverEnd = std::make_shared<StreamPtr>(std::move(b));
    spawn(here, [serverEnd, serverOptions]() -> Task<void> {
      StreamPtr stream = co_await startTlsServer(std::move(*serverEnd), serverOptions);
      Bytes question(5);
      co_await stream->readSome(question);
      const std::string answer = "sealed " + textOf(question);
      co_await stream->write(viewOf(answer));
      // Stays until the other side leaves.
      co_await stream->readSome(question);
    });
    StreamPtr stream = co_await startTls(std::move(a), clientOptions);
    CHECK(stream->sealed());
    const std::string question = "ferns";
    co_await stream->write(viewOf(question));
    WireReader in(*stream);
    heard = co_await in.readText(12);
    stream->close();
  });
  return heard;
}

}  // namespace

TEST_CASE("A wire reader takes what has come and waits for the rest", "[wire]") {
  const std::size_t step = GENERATE(1, 2, 7, 1000);
  Bytes bytes;
  for (int i = 0; i < 300; ++i) bytes.push_back(static_cast<Byte>(i));
  runToEnd([&]() -> Task<void> {
    auto stream = replayStream(bytes, step);
    WireReader in(*stream);
    const auto a = co_await in.readU8();
    CHECK(a == 0);
    const auto b = co_await in.readU32();
    CHECK(b == 0x01020304);
    Bytes into(200);
    co_await in.readInto(into);
    CHECK(into.front() == 5);
    CHECK(into.back() == static_cast<Byte>(204));
    co_await in.skip(10);
    CHECK(in.offset() == 215);
    const auto c = co_await in.readU16();
    CHECK(c == ((215 << 8) | 216));
  });
}

TEST_CASE("A reader refuses absurd lengths before it takes memory for them", "[wire]") {
  CHECK(kindOfTask([]() -> Task<void> {
          auto stream = replayStream(Bytes(10));
          WireReader in(*stream);
          co_await in.need(std::size_t{1} << 40);
        }) == ErrorKind::ProtocolBroken);
}

TEST_CASE("A memory pair makes a fast writer wait", "[wire]") {
  runToEnd([]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(here, 100);
    auto writer = std::make_shared<StreamPtr>(std::move(a));
    auto done = std::make_shared<bool>(false);
    spawn(here, [writer, done]() -> Task<void> {
      const Bytes much(1000, 7);
      co_await (*writer)->write(much);
      *done = true;
    });
    WireReader in(*b);
    co_await in.need(100);
    CHECK_FALSE(*done);
    co_await in.need(1000);
    CHECK(in.take(1000)[999] == 7);
  });
}

TEST_CASE("Connections fail with the kind that helps", "[wire]") {
  CHECK(kindOfTask([]() -> Task<void> { co_await connectTcp("127.0.0.1", 1, std::chrono::seconds(2)); }) ==
        ErrorKind::Refused);
  CHECK(kindOfTask([]() -> Task<void> {
          co_await connectTcp("no-such-host.invalid", 5900, std::chrono::seconds(5));
        }) == ErrorKind::NameUnknown);
  CHECK(kindOfTask([]() -> Task<void> { co_await connectUnix("/nowhere/at/all"); }) ==
        ErrorKind::Unreachable);
  CHECK(kindOfTask([]() -> Task<void> { co_await connectUnix(std::string(200, 'x')); }) == ErrorKind::Local);
}

TEST_CASE("TCP and unix sockets carry bytes both ways and say when the other side is gone", "[wire]") {
  const bool local = GENERATE(false, true);
  test::TemporaryFolder folder;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    const std::string path = (folder.path / "socket").string();
    std::shared_ptr<Listener> listener = local ? listenUnix(here, path) : listenTcp(here, "127.0.0.1", 0);
    spawn(here, [listener]() -> Task<void> {
      StreamPtr visitor = co_await listener->accept();
      Bytes heard(4);
      const std::size_t n = co_await visitor->readSome(heard);
      co_await visitor->write(ByteView(heard).first(n));
      visitor->close();
    });
    StreamPtr stream;
    if (local)
      stream = co_await connectUnix(path);
    else
      stream = co_await connectTcp("127.0.0.1", listener->port(), std::chrono::seconds(5));
    const Bytes word{1, 2, 3, 4};
    co_await stream->write(word);
    WireReader in(*stream);
    const Bytes back = co_await in.readBytes(4);
    CHECK(back == word);
    ErrorKind kind = ErrorKind::Local;
    try {
      co_await in.readU8();
    } catch (const Error& e) {
      kind = e.kind();
    }
    CHECK(kind == ErrorKind::ClosedByPeer);
  });
}

TEST_CASE("A port that is taken cannot be listened on", "[wire]") {
  Runtime runtime(1);
  auto first = listenTcp(runtime.strand(), "127.0.0.1", 0);
  CHECK_THROWS_AS(listenTcp(runtime.strand(), "127.0.0.1", first->port()), Error);
}

TEST_CASE("TLS hands the certificate up and goes on only when it is trusted", "[wire][tls]") {
  const MadeCertificate made = makeSelfSigned("orchard");
  TlsServerOptions server{made.certificatePem, made.keyPem};
  TlsClientOptions client;
  client.hostName = "orchard";
  PeerCertificate shown;
  client.decide = [&](PeerCertificate c) -> Task<bool> {
    shown = c;
    co_return true;
  };
  CHECK(talkTls(client, server) == "sealed ferns");
  CHECK(shown.sha256 == sha256OfPem(made.certificatePem));
  CHECK(shown.subject == "CN=orchard");
  CHECK_FALSE(shown.vouched);
  CHECK_FALSE(shown.problem.empty());

  client.decide = [](PeerCertificate) -> Task<bool> { co_return false; };
  try {
    talkTls(client, server);
    FAIL("an untrusted certificate was taken");
  } catch (const Error& e) {
    CHECK(e.kind() == ErrorKind::NotTrusted);
  }
}

TEST_CASE("An authority of one's own vouches, but only for the right host", "[wire][tls]") {
  test::TemporaryFolder folder;
  const MadeCertificate made = makeSelfSigned("orchard");
  const auto file = folder.path / "authority.pem";
  std::ofstream(file) << made.certificatePem;
  TlsClientOptions client;
  client.authorityFile = file.string();
  std::optional<PeerCertificate> shown;
  client.decide = [&](PeerCertificate c) -> Task<bool> {
    shown = c;
    co_return true;
  };
  client.hostName = "orchard";
  talkTls(client, {made.certificatePem, made.keyPem});
  CHECK(shown->vouched);
  client.hostName = "fernery";
  talkTls(client, {made.certificatePem, made.keyPem});
  CHECK_FALSE(shown->vouched);
  client.hostName = "127.0.0.1";
  talkTls(client, {made.certificatePem, made.keyPem});
  CHECK(shown->vouched);
}

TEST_CASE("Anonymous TLS seals without certificates", "[wire][tls]") {
  TlsClientOptions client;
  client.anonymous = true;
  client.decide = [](PeerCertificate) -> Task<bool> {
    FAIL("there is no certificate to decide on");
    co_return false;
  };
  CHECK(talkTls(client, {}) == "sealed ferns");
}

TEST_CASE("AES-EAX matches the published vectors", "[rsa-aes]") {
  // Bellare, Rogaway, Wagner: The EAX Mode of Operation, appendix G, vectors 2 and 4.
  const auto bytes = [](const std::string& text) {
    Bytes out;
    for (std::size_t i = 0; i < text.size(); i += 2)
      out.push_back(static_cast<Byte>(std::stoul(text.substr(i, 2), nullptr, 16)));
    return out;
  };
  struct Vector {
    const char *key, *nonce, *header, *plain, *cipher;
  };
  const Vector vectors[] = {
      {"91945D3F4DCBEE0BF45EF52255F095A4", "BECAF043B0A23D843194BA972C66DEBD", "FA3BFD4806EB53FA", "F7FB",
       "19DD5C4C9331049D0BDAB0277408F67967E5"},
      {"D07CF6CBB7F313BDDE66B727AFD3C5E8", "8408DFFF3C1A2B1292DC199E46B7D617", "33CCE2EABFF5A79D",
       "481C9E39B1", "632A9D131AD4C168A4225D8E1FF755939974A7BEDE"},
  };
  for (const Vector& v : vectors) {
    rfb::AesEax eax(bytes(v.key));
    CHECK(eax.seal(bytes(v.nonce), bytes(v.header), bytes(v.plain)) == bytes(v.cipher));
    CHECK(eax.open(bytes(v.nonce), bytes(v.header), bytes(v.cipher)) == bytes(v.plain));
    Bytes altered = bytes(v.cipher);
    altered[0] ^= 1;
    CHECK_THROWS_AS(eax.open(bytes(v.nonce), bytes(v.header), altered), Error);
  }
}
