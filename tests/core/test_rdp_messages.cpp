// Every message of an RDP connection cut short at every byte, and every kind of session read byte by byte.
#include "rdp/clip_forms.hpp"
#include "rdp/credssp.hpp"
#include "rdp/licensing.hpp"
#include "rdp/pointer.hpp"
#include "rdp/redirection.hpp"
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

struct Message {
  std::string name;
  Bytes bytes;
  std::function<void(ByteView)> read;
  std::size_t needed = 0;  ///< shorter than this it must be refused; what follows may be left out
};

Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes out;
  for (const Bytes& p : parts) out.insert(out.end(), p.begin(), p.end());
  return out;
}

Bytes redirectionBytes() {
  Redirection to;
  to.address = "127.0.0.12", to.routingToken = "farm-7", to.user = "duty", to.domain = "ALDER";
  return writeRedirection(to);
}

ServerCore serverCore() {
  ServerCore core;
  core.channelIds = {1008, 1009};
  core.encryptionMethod = 2, core.encryptionLevel = 2;
  core.random = Bytes(32, 5), core.certificate = Bytes(90, 6);
  return core;
}

ClientCore clientCore() {
  ClientCore core;
  core.clientName = "desk";
  core.channels = {{"cliprdr", 0xc0000000, 0}, {"drdynvc", 0x80000000, 0}};
  return core;
}

DemandActive demand() {
  DemandActive d;
  d.shareId = 1, d.desktop = {64, 48}, d.bitsPerPixel = 16;
  return d;
}

Bytes shared(const DemandActive& d) {
  LittleWriter share;
  share.bytes(writeDemandActive(d));
  return share.take();
}

Bytes pointerBytes() {
  LittleWriter out;
  out.u16(24).u16(7).u16(1).u16(0).u16(2).u16(2).u16(4).u16(12).zeros(16);
  return out.take();
}

std::vector<Message> messages() {
  ConnectRequest request;
  request.cookie = "duty";
  ConnectConfirm confirm;
  confirm.negotiated = true, confirm.chosen = protocol::kHybrid;
  ClientInfo info;
  info.user = "duty", info.domain = "ALDER", info.password = "fern-house",
  info.reconnectCookie = Bytes(28, 7);
  CredSspRequest ts;
  ts.token = Bytes(40, 1), ts.pubKeyAuth = Bytes(48, 2), ts.clientNonce = Bytes(32, 3);
  const Bytes active = shared(demand());
  std::vector<Message> out;
  const auto add = [&out](std::string name, Bytes bytes, std::function<void(ByteView)> read) {
    const std::size_t all = bytes.size();
    out.push_back({std::move(name), std::move(bytes), std::move(read), all});
  };
  add("connection request", writeConnectRequest(request), [](ByteView b) { readConnectRequest(b); });
  out.back().needed = 11;  // cookie and negotiation came later
  add("connection confirm", writeConnectConfirm(confirm), [](ByteView b) { readConnectConfirm(b); });
  out.back().needed = 11;  // the negotiation, which must be whole when it is there
  add("connect initial", writeConnectInitial(clientCore()),
      [](ByteView b) { readConnectInitial(payloadOfData(b)); });
  add("connect response", writeConnectResponse(serverCore(), 3),
      [](ByteView b) { readConnectResponse(payloadOfData(b)); });
  add("attach user confirm", attachUserConfirm(1007),
      [](ByteView b) { readAttachUserConfirm(payloadOfData(b)); });
  add("channel join request", channelJoinRequest(1007, 1003),
      [](ByteView b) { readChannelJoinRequest(payloadOfData(b)); });
  add("channel join confirm", channelJoinConfirm(1007, 1003),
      [](ByteView b) { readChannelJoinConfirm(payloadOfData(b), 1003); });
  add("send data", sendData(false, 1007, 1003, viewOf("hello")),
      [](ByteView b) { readSendData(payloadOfData(b)); });
  add("demand active", active, [](ByteView b) { readDemandActive(readShareHead(b).body); });
  out.back().needed = 18;  // what a service can do may be left out behind its name
  add("share data", writeData(1, 1007, 2, viewOf("body")),
      [](ByteView b) { readDataHead(readShareHead(b).body); });
  out.back().needed -= 4;  // the body is the reader's own
  add("client info", writeClientInfo(info), [](ByteView b) { readClientInfo(b); });
  out.back().needed = 18 + 2 * (4 + 5 + 10 + 5);  // the extended part came with version 5
  add("redirection", redirectionBytes(), [](ByteView b) { readRedirection(b); });
  add("TSRequest", writeTsRequest(ts), [](ByteView b) { readTsRequest(b); });
  add("pointer", pointerBytes(), [](ByteView b) {
    LittleReader in(b);
    readPointer(in, PointerKind::New, defaultColourMap());
  });
  return out;
}

/// What a service of old security without encryption says until its desktop is there.
Bytes unsealedSession() {
  ServerCore core;
  core.channelIds = {1008, 1009};
  LittleWriter licence;
  licence.u16(sec::kLicense).u16(0).bytes(licenceValidClient());
  LittleWriter share;
  share.u16(0).u16(0).bytes(writeDemandActive(demand()));
  return joined({writeConnectConfirm({}), writeConnectResponse(core, 0), attachUserConfirm(1007),
                 channelJoinConfirm(1007, 1007), channelJoinConfirm(1007, 1003),
                 channelJoinConfirm(1007, 1008), channelJoinConfirm(1007, 1009),
                 sendData(false, 1007, 1003, licence.view()), sendData(false, 1007, 1003, share.view())});
}

/// How a client ends to which `bytes` are said, at most `atOnce` at a time.
std::pair<ErrorKind, bool> endOf(const Bytes& bytes, std::size_t atOnce) {
  Seen seen;
  auto picture = std::make_shared<Framebuffer>(Size{64, 48});
  std::optional<ErrorKind> kind;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    seen.strand = here;
    rdp::ClientOptions options;
    options.signIn = SignInKind::Legacy;
    Client client(here, systemClock(), picture, options, seen);
    Client::Dial dial = [&]() -> Task<StreamPtr> { co_return replayStream(bytes, atOnce); };
    try {
      co_await client.run(std::move(dial));
    } catch (const Error& e) {
      kind = e.kind();
    }
  });
  REQUIRE(kind);
  return {*kind, seen.isOpen};
}

}  // namespace

TEST_CASE("RDP: every message of a connection, cut short anywhere, is refused in words", "[rdp]") {
  for (const Message& m : messages()) {
    CAPTURE(m.name);
    CHECK_NOTHROW(m.read(m.bytes));
    for (std::size_t n = 0; n < m.bytes.size(); ++n) {
      CAPTURE(n);
      const Bytes cut(m.bytes.begin(), m.bytes.begin() + static_cast<std::ptrdiff_t>(n));
      std::string said;
      try {
        m.read(cut);
      } catch (const Error& e) {
        said = e.what();
        CHECK(e.kind() == ErrorKind::ProtocolBroken);
      }
      if (n < m.needed) CHECK_FALSE(said.empty());
    }
  }
}

TEST_CASE("RDP: half an answer to the negotiation is none, and another channel is not the one asked for",
          "[rdp]") {
  ConnectConfirm confirm;
  confirm.negotiated = true;
  const Bytes bytes = writeConnectConfirm(confirm);
  CHECK_FALSE(readConnectConfirm(ByteView(bytes).first(11)).negotiated);
  for (std::size_t n = 12; n < bytes.size(); ++n)
    CHECK_THROWS_AS(readConnectConfirm(ByteView(bytes).first(n)), Error);
  const Bytes joined = channelJoinConfirm(1007, 1004);
  CHECK_NOTHROW(readChannelJoinConfirm(payloadOfData(joined), 1004));
  CHECK_THROWS_AS(readChannelJoinConfirm(payloadOfData(joined), 1003), Error);
}

TEST_CASE("RDP: a service that falls silent after any byte of its beginning ends the session clearly",
          "[rdp]") {
  const Bytes whole = unsealedSession();
  CHECK(endOf(whole, 1).second);
  CHECK(endOf(whole, 4096).second);
  for (std::size_t n = 0; n < whole.size(); ++n) {
    CAPTURE(n);
    const auto [kind, open] = endOf(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(n)), 7);
    CHECK((kind == ErrorKind::ClosedByPeer || kind == ErrorKind::ProtocolBroken));
    CHECK_FALSE(open);
  }
}

TEST_CASE("RDP: each security, read byte by byte, shows the same picture", "[rdp]") {
  Bench bench(true);
  SECTION("TLS") { bench.server.network = false, bench.server.tls = true; }
  SECTION("old security") { bench.server.network = false, bench.server.legacy = true; }
  SECTION("16 bits") { bench.client.colours = 16; }
  bench.open();
  REQUIRE(bench.live());
  CHECK(largestDifference(*bench.seen_, *bench.shown) <= (bench.client.colours == 16 ? 8 : 0));
}

TEST_CASE("RDP: each codec of the pipeline, read byte by byte, shows the same picture", "[rdp][graphics]") {
  Bench bench(true);
  bench.server.pipeline =
      GENERATE(PipelineForm::Raw, PipelineForm::Progressive, PipelineForm::Clear, PipelineForm::RemoteFx);
  const bool lossy =
      bench.server.pipeline == PipelineForm::Progressive || bench.server.pipeline == PipelineForm::RemoteFx;
  bench.open();
  REQUIRE(bench.live());
  CHECK(bench.until([&] {
    const auto lock = bench.seen_->lock();
    return largestDifference(*bench.seen_, *bench.shown) <= (lossy ? 10 : 0);
  }));
}
