#include "ssh/sftp_tree.hpp"

#include "base/error.hpp"

namespace kw {

namespace fs = std::filesystem;

namespace {

void checkDepth(int depth, const std::string& where) {
  if (depth > kMostTreeDepth)
    throw Error(ErrorKind::Local,
                "folders lie in each other more than " + std::to_string(kMostTreeDepth) + " deep", where);
}
void checkCount(const std::vector<TreeFile>& files, const std::string& where) {
  if (files.size() > kMostTreeFiles)
    throw Error(ErrorKind::Local, "more than " + std::to_string(kMostTreeFiles) + " files", where);
}
/// A name that must not lead out of the folder that was chosen.
bool staysInside(const std::string& name) {
  return !name.empty() && name != "." && name != ".." && name.find('/') == std::string::npos;
}

Task<void> collectThere(std::shared_ptr<Sftp> sftp, std::string remote, fs::path local, int depth,
                        std::vector<TreeFile>& files) {
  checkDepth(depth, remote);
  fs::create_directories(local);
  const std::vector<RemoteFile> found = co_await sftp->list(remote);
  for (const RemoteFile& f : found) {
    if (!staysInside(f.name)) continue;
    const std::string below = remote + "/" + f.name;
    if (f.folder())
      co_await collectThere(sftp, below, local / f.name, depth + 1, files);
    else
      files.push_back({local / f.name, below});
    checkCount(files, remote);
  }
}

Task<void> collectHere(std::shared_ptr<Sftp> sftp, fs::path local, std::string remote, int depth,
                       std::vector<TreeFile>& files) {
  checkDepth(depth, local);
  const auto there = co_await sftp->stat(remote);
  if (!there) co_await sftp->makeFolder(remote);
  for (const auto& entry : fs::directory_iterator(local)) {
    const std::string below = remote + "/" + entry.path().filename().string();
    if (entry.is_directory() && !entry.is_symlink())
      co_await collectHere(sftp, entry.path(), below, depth + 1, files);
    else if (entry.is_regular_file())
      files.push_back({entry.path(), below});
    checkCount(files, local);
  }
}

Task<void> removeBelow(std::shared_ptr<Sftp> sftp, std::string path, int depth) {
  checkDepth(depth, path);
  const std::vector<RemoteFile> found = co_await sftp->list(path);
  for (const RemoteFile& f : found) {
    if (!staysInside(f.name)) continue;
    const std::string below = path + "/" + f.name;
    if (f.folder() && !f.link())
      co_await removeBelow(sftp, below, depth + 1);
    else
      co_await sftp->remove(below);
  }
  co_await sftp->removeFolder(path);
}

}  // namespace

Task<std::vector<TreeFile>> filesThere(std::shared_ptr<Sftp> sftp, std::string remote, fs::path local) {
  std::vector<TreeFile> files;
  co_await collectThere(std::move(sftp), std::move(remote), std::move(local), 0, files);
  co_return files;
}

Task<std::vector<TreeFile>> filesHere(std::shared_ptr<Sftp> sftp, fs::path local, std::string remote) {
  std::vector<TreeFile> files;
  co_await collectHere(std::move(sftp), std::move(local), std::move(remote), 0, files);
  co_return files;
}

Task<void> removeTree(std::shared_ptr<Sftp> sftp, std::string path) {
  co_await removeBelow(std::move(sftp), std::move(path), 0);
}

}  // namespace kw
