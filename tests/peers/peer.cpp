#include "tests/peers/peer.hpp"

#include <iostream>

#include "tests/support.hpp"

namespace kw::test {

bool have(const std::string& file) {
  if (std::filesystem::exists(file)) return true;
  std::cout << "SKIPPED: " << Catch::getResultCapture().getCurrentTestName() << ": " << file
            << " is not installed" << std::endl;
  return false;
}

int freeTcpPort() {
  Runtime runtime(1);
  return listenTcp(runtime.strand(), "127.0.0.1", 0)->port();
}

}  // namespace kw::test
