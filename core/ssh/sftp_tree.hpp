// Whole folders over SFTP: what is in them, and removing them. A hostile server's names and depths have
// limits.
#pragma once
#include "ssh/sftp.hpp"

namespace kw {

/// One file by its places on both sides.
struct TreeFile {
  std::filesystem::path local;
  std::string remote;
};

/// How deep folders may lie in each other, and how many files one copy may have.
constexpr int kMostTreeDepth = 100;
constexpr std::size_t kMostTreeFiles = 200'000;

/// The files below a folder there; makes their folders here, never outside `local`. Throws Error{Local}
/// beyond the limits, and as list() does.
Task<std::vector<TreeFile>> filesThere(std::shared_ptr<Sftp> sftp, std::string remote,
                                       std::filesystem::path local);
/// The files below a folder here; makes their folders there. Links to folders are passed over.
Task<std::vector<TreeFile>> filesHere(std::shared_ptr<Sftp> sftp, std::filesystem::path local,
                                      std::string remote);
/// A folder there with all that is in it; links are removed, not followed.
Task<void> removeTree(std::shared_ptr<Sftp> sftp, std::string path);

}  // namespace kw
