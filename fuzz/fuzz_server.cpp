// A hostile visitor of our server side.
#include "fuzz/support.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace kw;
  ByteWriter all;
  all.text("RFB 003.008\n").u8(1).u8(1).bytes({data, size});
  auto picture = std::make_shared<Framebuffer>(Size{96, 80});
  rfb::ServerEvents events;
  try {
    runToEnd([&]() -> Task<void> {
      const Executor here = co_await asio::this_coro::executor;
      const std::vector<Screen> screens;
      rfb::ServerOptions options;
      options.power = true;
      rfb::Server server(here, picture, screens, options, events);
      co_await server.run(replayStream(all.take()));
    });
  } catch (const Error&) {
  }
  return 0;
}
