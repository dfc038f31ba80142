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

/// What a guest has beyond the usual.
struct GuestExtras {
  std::vector<std::filesystem::path> programs;  ///< put into /bin, with the libraries that they need
  std::vector<std::string> modules;             ///< drivers, loaded with what they need
  std::string beforeSignIn;                     ///< shell commands, run when all that is done
};

/// Empty when kernel or busybox are not installed (and says so).
std::optional<LinuxGuest> makeLinuxGuest(const std::filesystem::path& folder, const GuestExtras& extras = {});

}  // namespace kw::test
