#include "tests/peers/linux_guest.hpp"

#include <catch2/catch.hpp>
#include <fstream>
#include <sstream>

#include "tests/peers/qemu.hpp"

namespace kw::test {

namespace fs = std::filesystem;

namespace {

constexpr auto kMayRun = fs::perms::owner_all | fs::perms::group_read | fs::perms::group_exec |
                         fs::perms::others_read | fs::perms::others_exec;

void mustRun(const std::string& command) {
  INFO(command);
  REQUIRE(std::system(command.c_str()) == 0);
}

/// The words that a command prints.
std::vector<std::string> wordsOf(const std::string& command, const fs::path& folder) {
  const fs::path out = folder / "words";
  mustRun(command + " > '" + out.string() + "'");
  std::ifstream in(out);
  return {std::istream_iterator<std::string>(in), {}};
}

/// The program without its debugging information, and its libraries where the loader looks for them.
void putProgram(const fs::path& program, const fs::path& root, const fs::path& folder) {
  mustRun("strip -o '" + (root / "bin" / program.filename()).string() + "' '" + program.string() + "'");
  for (const std::string& word : wordsOf("ldd '" + program.string() + "'", folder)) {
    if (word[0] != '/') continue;
    fs::create_directories(root / fs::path(word).parent_path().relative_path());
    fs::copy_file(word, root / fs::path(word).relative_path(), fs::copy_options::skip_existing);
  }
}

/// Commands for the guest that load these drivers.
std::string putModules(const std::vector<std::string>& names, const std::string& kernel, const fs::path& root,
                       const fs::path& folder) {
  std::string commands;
  for (const std::string& name : names)
    for (const std::string& word :
         wordsOf("modprobe --dirname / --set-version " + kernel + " --show-depends " + name, folder)) {
      if (word[0] != '/' || fs::exists(root / fs::path(word).filename())) continue;
      fs::copy_file(word, root / fs::path(word).filename());
      commands += "insmod /" + fs::path(word).filename().string() + "\n";
    }
  return commands;
}

}  // namespace

std::vector<std::string> LinuxGuest::arguments(const std::vector<std::string>& serial) const {
  std::vector<std::string> out{
      "-m",      "256",  "-kernel", kernel,
      "-initrd", initrd, "-append", "console=ttyS0,115200 quiet panic=-1 8250.nr_uarts=8"};
  out.insert(out.end(), serial.begin(), serial.end());
  return out;
}

std::optional<LinuxGuest> makeLinuxGuest(const fs::path& folder, const GuestExtras& extras) {
  if (!have("/usr/bin/busybox") || !have("/usr/bin/cpio")) return std::nullopt;
  LinuxGuest guest;
  for (const auto& entry : fs::directory_iterator("/boot"))
    if (entry.path().filename().string().starts_with("vmlinuz")) guest.kernel = entry.path();
  if (guest.kernel.empty()) {
    have("/boot/vmlinuz");
    return std::nullopt;
  }
  const fs::path root = folder / "root";
  for (const char* d : {"bin", "etc", "dev", "proc", "sys", "root", "tmp"}) fs::create_directories(root / d);
  fs::copy_file("/usr/bin/busybox", root / "bin/busybox");
  for (const char* tool : {"sh", "getty", "login", "ls", "cat", "uname", "mount", "stty", "reboot", "seq",
                           "sleep", "echo", "hostname", "insmod"})
    fs::create_symlink("busybox", root / "bin" / tool);
  std::ofstream(root / "etc/passwd") << "duty::0:0:duty:/root:/bin/sh\n";
  std::ofstream(root / "etc/group") << "root:x:0:\n";
  for (const fs::path& program : extras.programs) putProgram(program, root, folder);
  const std::string version = guest.kernel.filename().string().substr(std::string("vmlinuz-").size());
  std::ofstream(root / "init")
      << "#!/bin/sh\nmount -t proc proc /proc\nmount -t sysfs sys /sys\nmount -t devtmpfs dev /dev\n"
         "hostname mist-bench\n"
      << putModules(extras.modules, version, root, folder) << extras.beforeSignIn
      << "\nwhile true; do getty -L 115200 ttyS0 vt100; sleep 1; done\n";
  fs::permissions(root / "init", kMayRun);
  guest.initrd = folder / "initrd";
  mustRun("cd '" + root.string() + "' && find . | cpio -o -H newc --quiet > '" + guest.initrd.string() + "'");
  return guest;
}

}  // namespace kw::test
