// Addresses as anybody may paste them; what parses must parse again from its own canonical form.
#include <cstdlib>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "record/address.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace kw;
  Address parsed;
  try {
    parsed = parseAddress(textOf({data, size}));
  } catch (const Error&) {
    return 0;
  }
  Address again = parseAddress(parsed.uri());
  again.displayNumber = parsed.displayNumber;
  if (!(again == parsed)) std::abort();
  return 0;
}
