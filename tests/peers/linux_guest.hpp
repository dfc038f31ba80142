// A Linux guest of Debian's kernel and busybox: boots in QEMU to a sign-in on its serial line.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kw::test {

struct LinuxGuest {
  std::filesystem::path kernel, initrd;
  [[nodiscard]] std::vector<std::string> arguments(const std::vector<std::string>& serial) const;
};
/// Empty when kernel or busybox are not installed (and says so).
std::optional<LinuxGuest> makeLinuxGuest(const std::filesystem::path& folder);

}  // namespace kw::test
