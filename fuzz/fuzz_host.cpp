// What a host may answer: a machine's XML, its monitor's messages.
#include "fuzz/support.hpp"
#include "host/libvirt_xml.hpp"
#include "host/qmp.hpp"

using namespace kw;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
  try {
    switch (data[0] % 4) {
      case 0: {
        host::StockMachine machine;
        host::readDomainXml(text, machine);
        break;
      }
      case 1: host::graphicsWithPassword(text, "vnc", "fern"); break;
      case 2: host::graphicsWithPlace(text, "spice", 5930, "127.0.0.1"); break;
      default:
        runToEnd([&]() -> Task<void> {
          const Executor here = co_await asio::this_coro::executor;
          host::QmpMonitor monitor(here, replayStream(Bytes(text.begin(), text.end()), 50));
          co_await monitor.run([] {}, [](const std::string&) {});
        });
    }
  } catch (const Error&) {
  }
  return 0;
}
