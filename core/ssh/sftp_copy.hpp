// Copying one file over SFTP, many pieces under way. For the files of this folder.
#pragma once
#include <filesystem>
#include <memory>
#include <string>

#include "ssh/sftp_link.hpp"

namespace kw {

/// A file of this machine, closed with its last owner.
class LocalFile {
 public:
  using Ptr = std::shared_ptr<const LocalFile>;
  // Both throw Error {Local} when it cannot be.
  /// Made if need be, and cut to `from` bytes.
  static Ptr toWrite(const std::filesystem::path& path, std::uint64_t from);
  static Ptr toRead(const std::filesystem::path& path);
  ~LocalFile();
  LocalFile(const LocalFile&) = delete;
  LocalFile& operator=(const LocalFile&) = delete;

  [[nodiscard]] std::uint64_t size() const;
  void write(ByteView bytes, std::uint64_t at) const;
  /// Fills the buffer, or throws: the file is shorter than it was.
  void read(ByteSpan into, std::uint64_t at) const;
  void cut(std::uint64_t size) const;

 private:
  LocalFile(std::filesystem::path path, int descriptor) : path_(std::move(path)), descriptor_(descriptor) {}
  std::filesystem::path path_;
  int descriptor_;
};

struct SftpCopy {
  std::string remote;  ///< for messages
  std::string handle;  ///< the server's, open; it stays so
  LocalFile::Ptr local;
  std::uint64_t from = 0;   ///< bytes that are there already
  std::uint64_t total = 0;  ///< bytes that the source has
  OnCopy progress;
  CancelFlag cancel;
};

// On the link's strand. When they throw an Error, the target holds what is whole from the beginning, so that
// one can go on with it.
Task<void> copyFromServer(std::shared_ptr<SftpLink> link, SftpCopy what);
Task<void> copyToServer(std::shared_ptr<SftpLink> link, SftpCopy what);

}  // namespace kw
