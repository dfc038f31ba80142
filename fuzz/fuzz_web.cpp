// What a browser, or somebody who is none, may send to the gateway: HTTP requests and WebSocket frames; and
// what a gateway may answer a client's handshake with; tokens of sign-ins and passes; names of recordings and
// what may stand in their files.
#include <fstream>
#include "fuzz/support.hpp"

#include "base/file.hpp"
#include "gate/gate_store.hpp"
#include "gate/http.hpp"
#include "gate/recording.hpp"
#include "wire/websocket.hpp"

using namespace kw;

namespace {

/// A folder with one account's sign-in and one pass; gone with the process.
struct Kept {
  Kept() {
    char name[] = "/tmp/fuzz-web-XXXXXX";
    folder = mkdtemp(name);
    store = std::make_unique<gate::GateStore>(folder);
    store->addAccount("duty", "duty-at-the-gate", gate::Role::Drive);
    signIn = store->signIn("duty", gate::nowSeconds() + 1'000'000);
    gate::Pass p;
    p.until = gate::nowSeconds() + 1'000'000;
    pass = store->makePass(p);
  }
  ~Kept() {
    store.reset();
    std::filesystem::remove_all(folder);
  }
  std::filesystem::path folder;
  std::unique_ptr<gate::GateStore> store;
  std::string signIn, pass;
};

/// Nothing but the very tokens opens.
void tryTokens(Kept& kept, const std::string& text) {
  const auto now = gate::nowSeconds();
  if (kept.store->person(text, now).has_value() && text != kept.signIn) abort();
  if (kept.store->passOf(text).has_value() && text != kept.pass) abort();
  // One letter of a right one changed.
  std::string near = kept.signIn;
  if (!text.empty()) near[static_cast<unsigned char>(text[0]) % near.size()] = text.back();
  if (near != kept.signIn && kept.store->person(near, now).has_value()) abort();
  kept.store->signOut(text == kept.signIn ? "" : text);
  if (!kept.store->person(kept.signIn, now).has_value()) abort();
}

/// No name leads out of the folder, and no file is more than it says.
void tryRecording(const Kept& kept, const std::string& text) {
  const auto folder = kept.folder / "recordings";
  std::filesystem::create_directories(folder);
  std::ofstream(folder / "a.kwr", std::ios::binary) << text;
  (void)gate::recordingsIn(folder);
  try {
    const std::string part = gate::recordingPart(folder, text.substr(0, text.find('\n')), 0, 100);
    if (part != text.substr(0, 100)) abort();
  } catch (const Error&) {
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 3) return 0;
  const Bytes input(data + 2, data + size);
  const std::size_t atOnce = 1 + data[1] % 64;
  if (data[0] >= 192) {
    static Kept kept;
    const std::string text(reinterpret_cast<const char*>(data + 2), size - 2);
    data[0] % 2 == 0 ? tryTokens(kept, text) : tryRecording(kept, text);
    return 0;
  }
  try {
    runToEnd([&]() -> Task<void> {
      const Executor here = co_await asio::this_coro::executor;
      StreamPtr stream = replayStream(input, atOnce);
      if (data[0] % 4 == 0) {
        gate::RequestReader reader(*stream);
        for (int i = 0; i < 20; ++i) {
          const gate::Request request = co_await reader.next();
          (void)request.cookie("kettle");
          (void)request.wantsWebSocket();
        }
      } else if (data[0] % 4 == 3) {
        auto socket = co_await openWebSocket(std::move(stream), "gate", "/", "");
        co_await socket->receive();
      } else {
        const auto side = data[0] % 4 == 1 ? WebSocket::Side::Server : WebSocket::Side::Client;
        WebSocket socket(here, std::move(stream), side, 4096);
        for (int i = 0; i < 100; ++i) co_await socket.receive();
      }
    });
  } catch (const Error&) {
  }
  return 0;
}
