// What an RDP service may send: the connection over old security with a recorded beginning, the bitmap
// codecs, pointers, channels, licensing, sign-in messages. The first byte chooses.
#include "fuzz/support.hpp"
#include "rdp/bitmap_codec.hpp"
#include "rdp/channels.hpp"
#include "rdp/client.hpp"
#include "rdp/credssp.hpp"
#include "rdp/der.hpp"
#include "rdp/standard_security.hpp"

namespace {

using namespace kw;
using namespace kw::rdp;

struct Events : rdp::ClientEvents {
  Task<std::optional<SignIn>> signIn(rdp::SignInRequest) override { co_return std::nullopt; }
  Task<bool> trust(PeerCertificate) override { co_return true; }
  Task<bool> plain(std::string) override { co_return true; }
  void opened(const Agreed&) override {}
  void pictureResized(Size size, const std::vector<Rect>&) override {
    if (size.area() > 512 * 512) throw Error(ErrorKind::Local, "too large to fuzz");
  }
  void damaged(const Region&) override {}
  void cursorChanged(const rdp::Cursor&) override {}
};

/// Everything up to the licence, so that the input is what the service says in the session.
Bytes beginning() {
  Bytes out;
  const auto add = [&out](const Bytes& b) { out.insert(out.end(), b.begin(), b.end()); };
  ConnectConfirm confirm;
  add(writeConnectConfirm(confirm));
  ServerCore core;
  core.channelIds = {1008, 1009};
  add(writeConnectResponse(core, 0));
  add(attachUserConfirm(1007));
  for (unsigned id : {1007U, 1003U, 1008U, 1009U}) add(channelJoinConfirm(1007, id));
  return out;
}

void client(ByteView input, bool withBeginning) {
  Events events;
  auto picture = std::make_shared<Framebuffer>(Size{64, 48});
  Bytes bytes = withBeginning ? beginning() : Bytes();
  if (withBeginning) {
    LittleWriter licence;
    licence.u16(sec::kLicense).u16(0).bytes(licenceValidClient());
    const Bytes packet = sendData(false, 1007, 1003, licence.view());
    bytes.insert(bytes.end(), packet.begin(), packet.end());
    DemandActive demand;
    demand.shareId = 1, demand.desktop = {64, 48}, demand.bitsPerPixel = 16;
    LittleWriter share;
    share.u16(0).u16(0).bytes(writeDemandActive(demand));
    const Bytes active = sendData(false, 1007, 1003, share.view());
    bytes.insert(bytes.end(), active.begin(), active.end());
  }
  bytes.insert(bytes.end(), input.begin(), input.end());
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    rdp::ClientOptions options;
    options.signIn = SignInKind::Legacy;
    rdp::Client c(here, systemClock(), picture, options, events);
    rdp::Client::Dial dial = [&]() -> Task<StreamPtr> { co_return replayStream(bytes); };
    co_await c.run(std::move(dial));
  });
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const ByteView input(data + 1, size - 1);
  try {
    switch (fuzz::part(data[0], 9)) {
      case 0: client(input, true); break;
      case 1: client(input, false); break;
      case 2: {
        Bytes out(48U * 40U * (1U + data[1] % 3U));
        decodeInterleaved(input.subspan(1), 48, 40, 1 + data[1] % 3, out);
        break;
      }
      case 3: {
        std::vector<Pixel> out(47 * 31);
        decodePlanar(input, 47, 31, out.data(), 47, true);
        break;
      }
      case 4: {
        LittleReader in(input.subspan(1));
        readPointer(in, static_cast<PointerKind>(data[1] % 3), defaultColourMap());
        break;
      }
      case 5: {
        DynamicChannels channels([](Bytes) {});
        channels.listen("Echo", {});
        channels.take(input);
        ChunkReader chunks;
        chunks.take(input);
        break;
      }
      case 6: readTsRequest(input); break;
      case 7: {
        Licensing licensing("duty", "desk");
        licensing.take(input);
        break;
      }
      default: {
        NtlmClient ntlm({"duty", "", "orchid"}, "desk");
        ntlm.negotiate();
        ntlm.authenticate(input);
        break;
      }
    }
  } catch (const Error&) {
  }
  return 0;
}
