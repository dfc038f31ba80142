// Messages of a hostile server, after a good handshake.
#include "fuzz/support.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  kw::ByteWriter all = kw::fuzz::greeting();
  all.bytes({data + 1, size - 1});
  kw::fuzz::runClient(all.take(), data[0] % 8 == 0 ? 1 : SIZE_MAX);
  return 0;
}
