#include "base/file.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.hpp"

namespace kw {

namespace {

[[noreturn]] void failed(const std::string& doing, const std::filesystem::path& file) {
  const int code = errno;
  throw Error(ErrorKind::Local, doing + " failed: " + std::strerror(code), file.string());
}

struct Descriptor {
  int fd;
  ~Descriptor() {
    if (fd >= 0) ::close(fd);
  }
};

void writeAll(int fd, ByteView bytes, const std::filesystem::path& file) {
  while (!bytes.empty()) {
    const ssize_t n = ::write(fd, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) failed("writing", file);
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
}

std::filesystem::path xdg(const char* variable, const char* fallback) {
  const char* set = std::getenv(variable);
  if (set != nullptr && set[0] == '/') return std::filesystem::path(set) / "kettle-window";
  const char* home = std::getenv("HOME");
  return std::filesystem::path(home != nullptr ? home : "/") / fallback / "kettle-window";
}

}  // namespace

void writeFileSafely(const std::filesystem::path& file, ByteView contents, unsigned mode) {
  const auto sibling =
      file.parent_path() / ("." + file.filename().string() + ".new" + std::to_string(::getpid()));
  try {
    Descriptor out{::open(sibling.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, mode)};
    if (out.fd < 0) failed("creating", file);
    writeAll(out.fd, contents, file);
    if (::fsync(out.fd) != 0) failed("flushing", file);
    if (::rename(sibling.c_str(), file.c_str()) != 0) failed("renaming", file);
  } catch (...) {
    ::unlink(sibling.c_str());
    throw;
  }
}

Bytes readFile(const std::filesystem::path& file, std::size_t most) {
  Descriptor in{::open(file.c_str(), O_RDONLY | O_CLOEXEC)};
  if (in.fd < 0) failed("opening", file);
  Bytes out;
  Byte chunk[65536];
  for (;;) {
    const ssize_t n = ::read(in.fd, chunk, sizeof chunk);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) failed("reading", file);
    if (n == 0) return out;
    if (out.size() + static_cast<std::size_t>(n) > most)
      throw Error(ErrorKind::Local, "longer than " + std::to_string(most) + " bytes", file.string());
    out.insert(out.end(), chunk, chunk + n);
  }
}

std::filesystem::path configFolder() { return xdg("XDG_CONFIG_HOME", ".config"); }
std::filesystem::path dataFolder() { return xdg("XDG_DATA_HOME", ".local/share"); }
std::filesystem::path stateFolder() { return xdg("XDG_STATE_HOME", ".local/state"); }

std::filesystem::path runtimeFolder() {
  const char* set = std::getenv("XDG_RUNTIME_DIR");
  if (set != nullptr && set[0] == '/') return set;
  auto folder = std::filesystem::temp_directory_path() / ("kettle-window-" + std::to_string(::getuid()));
  ::mkdir(folder.c_str(), 0700);
  struct stat found {};
  if (::lstat(folder.c_str(), &found) != 0 || !S_ISDIR(found.st_mode) || found.st_uid != ::getuid() ||
      (found.st_mode & 077) != 0)
    throw Error(ErrorKind::Local, "is not a private folder of this user", folder.string());
  return folder;
}

}  // namespace kw
