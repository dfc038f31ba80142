// What a browser, or somebody who is none, may send to the gateway: HTTP requests and WebSocket frames; and
// what a gateway may answer a client's handshake with.
#include "fuzz/support.hpp"
#include "gate/http.hpp"
#include "wire/websocket.hpp"

using namespace kw;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 3) return 0;
  const Bytes input(data + 2, data + size);
  const std::size_t atOnce = 1 + data[1] % 64;
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
