// What every real peer needs.
#pragma once
#include <string>

namespace kw::test {

/// True when a Debian package's file is here; else prints the line that counts the test as skipped.
bool have(const std::string& file);
/// One of loopback where nobody listens just now.
int freeTcpPort();

}  // namespace kw::test
