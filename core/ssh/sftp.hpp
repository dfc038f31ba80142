// Files over SSH: SFTP version 3 (draft-ietf-secsh-filexfer-02) over any stream, many requests at once. The
// stream is an SSH subsystem "sftp"; tests use a pair in memory.
#pragma once
#include <atomic>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "wire/stream.hpp"

namespace kw {

struct RemoteFile {
  std::string name;  ///< UTF-8, cleaned
  std::uint64_t size = 0;
  std::uint32_t permissions = 0;  ///< with the file type bits of stat(2)
  std::uint32_t modified = 0;     ///< seconds since 1970; 0: not said
  std::uint32_t user = 0, group = 0;
  [[nodiscard]] bool folder() const { return (permissions & 0170000) == 0040000; }
  [[nodiscard]] bool link() const { return (permissions & 0170000) == 0120000; }
  /// "drwxr-xr-x"
  [[nodiscard]] std::string rights() const;
};

struct CopyProgress {
  std::uint64_t done = 0, total = 0;
};
using OnCopy = std::function<void(const CopyProgress&)>;
/// Set by anybody to end a copy.
using CancelFlag = std::shared_ptr<std::atomic<bool>>;

class Sftp {
 public:
  /// Says hello and reads the answer. `strand`: where the reader of answers runs.
  static Task<std::shared_ptr<Sftp>> open(Executor strand, StreamPtr stream);
  virtual ~Sftp() = default;

  /// Absolute form of a path ("." is where one begins).
  virtual Task<std::string> realPath(std::string path) = 0;
  /// Without . and .., in the server's order. Throws Error {Unreachable} when missing, {Local} when not
  /// allowed.
  virtual Task<std::vector<RemoteFile>> list(std::string folder) = 0;
  /// Empty when there is no such file.
  virtual Task<std::optional<RemoteFile>> stat(std::string path) = 0;
  virtual Task<void> makeFolder(std::string path) = 0;
  virtual Task<void> remove(std::string path) = 0;        ///< a file
  virtual Task<void> removeFolder(std::string path) = 0;  ///< an empty one
  virtual Task<void> rename(std::string from, std::string to) = 0;
  virtual Task<void> setPermissions(std::string path, std::uint32_t permissions) = 0;
  virtual Task<void> setModified(std::string path, std::uint32_t seconds) = 0;

  /// Copies from byte `from` on; the file at the target is as long as what has arrived, so that a copy can be
  /// resumed. `from` must not be more than the target's size.
  virtual Task<void> download(std::string remote, std::filesystem::path local, std::uint64_t from,
                              OnCopy progress, CancelFlag cancel) = 0;
  virtual Task<void> upload(std::filesystem::path local, std::string remote, std::uint64_t from,
                            OnCopy progress, CancelFlag cancel) = 0;
  /// Ends the connection.
  virtual void close() = 0;
};

/// SHA-256 of a file's first `bytes`, as hexadecimal.
std::string sha256OfFile(const std::filesystem::path& file, std::uint64_t bytes = UINT64_MAX);

}  // namespace kw
