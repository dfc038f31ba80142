// What every real peer needs.
#pragma once
#include <sys/types.h>

#include <filesystem>
#include <string>
#include <vector>

namespace kw::test {

/// True when a Debian package's file is here; else prints the line that counts the test as skipped.
bool have(const std::string& file);
/// One of loopback where nobody listens just now.
int freeTcpPort();

/// Starts a program (its whole path first) that ends with this one; what it says goes into the file. `first`
/// runs in the new process and must not allocate.
pid_t launch(const std::vector<std::string>& words, const std::filesystem::path& log,
             void (*first)() = nullptr);
/// Waits for its end; its exit code, or -1.
int ended(pid_t process);

}  // namespace kw::test
