// A hostile server from its first byte on.
#include "fuzz/support.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  kw::fuzz::runClient({data, data + size}, SIZE_MAX);
  return 0;
}
