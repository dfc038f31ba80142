// Whole folders over SFTP, from an honest server and a hostile one.
#include <fstream>

#include "ssh/sftp_tree.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

/// Only what trees use; `listing` says what is in a folder.
struct PlayedSftp : Sftp {
  std::function<std::vector<RemoteFile>(const std::string&)> listing;
  std::vector<std::string> made, removed;

  Task<std::string> realPath(std::string path) override { co_return path; }
  Task<std::vector<RemoteFile>> list(std::string folder) override { co_return listing(folder); }
  Task<std::optional<RemoteFile>> stat(std::string) override { co_return std::nullopt; }
  Task<void> makeFolder(std::string path) override {
    made.push_back(path);
    co_return;
  }
  Task<void> remove(std::string path) override {
    removed.push_back(path);
    co_return;
  }
  Task<void> removeFolder(std::string path) override {
    removed.push_back(path + "/");
    co_return;
  }
  Task<void> rename(std::string, std::string) override { co_return; }
  Task<void> setPermissions(std::string, std::uint32_t) override { co_return; }
  Task<void> setModified(std::string, std::uint32_t) override { co_return; }
  Task<void> download(std::string, fs::path, std::uint64_t, OnCopy, CancelFlag) override { co_return; }
  Task<void> upload(fs::path, std::string, std::uint64_t, OnCopy, CancelFlag) override { co_return; }
  void close() override {}
};

RemoteFile named(const std::string& name, std::uint32_t kind) {
  RemoteFile f;
  f.name = name;
  f.permissions = kind | 0644;
  return f;
}
RemoteFile file(const std::string& name) { return named(name, 0100000); }
RemoteFile directory(const std::string& name) { return named(name, 0040000); }
RemoteFile link(const std::string& name) { return named(name, 0120000); }

std::string failure(const std::function<Task<void>()>& work) {
  std::string out;
  runToEnd([&]() -> Task<void> {
    try {
      co_await work();
    } catch (const Error& e) {
      out = e.what();
    }
  });
  return out;
}

}  // namespace

TEST_CASE("A folder there is copied with its folders; names that lead out are passed over", "[sftp-core]") {
  TemporaryFolder here;
  const auto sftp = std::make_shared<PlayedSftp>();
  sftp->listing = [](const std::string& folder) -> std::vector<RemoteFile> {
    if (folder == "/beds")
      return {file("plan.txt"), directory("north"), file(".."), file("../away"), directory("."), file("")};
    return {file("frost.log")};
  };
  std::vector<TreeFile> files;
  CHECK(failure([&]() -> Task<void> {
          files = co_await filesThere(sftp, "/beds", here.path / "beds");
        }).empty());
  REQUIRE(files.size() == 2);
  CHECK(files[0].remote == "/beds/plan.txt");
  CHECK(files[0].local == here.path / "beds" / "plan.txt");
  CHECK(files[1].remote == "/beds/north/frost.log");
  CHECK(fs::is_directory(here.path / "beds" / "north"));
}

TEST_CASE("Folders without an end are refused: copying and removing stop", "[sftp-core]") {
  TemporaryFolder here;
  const auto sftp = std::make_shared<PlayedSftp>();
  sftp->listing = [](const std::string&) { return std::vector{directory("d"), file("f")}; };
  CHECK(failure([&]() -> Task<void> { co_await filesThere(sftp, "/", here.path / "c"); }).find("100 deep") !=
        std::string::npos);
  CHECK(failure([&]() -> Task<void> { co_await removeTree(sftp, "/"); }).find("100 deep") !=
        std::string::npos);
  CHECK(sftp->removed.empty());
}

TEST_CASE(
    "A folder here is copied there; links to folders are passed over, and a tree is removed without "
    "following",
    "[sftp-core]") {
  TemporaryFolder here;
  fs::create_directories(here.path / "north" / "deep");
  std::ofstream(here.path / "plan.txt") << "beds";
  std::ofstream(here.path / "north" / "deep" / "frost.log") << "04:10";
  fs::create_directory_symlink(here.path, here.path / "north" / "circle");
  const auto sftp = std::make_shared<PlayedSftp>();
  std::vector<TreeFile> files;
  CHECK(failure([&]() -> Task<void> { files = co_await filesHere(sftp, here.path, "/beds"); }).empty());
  std::vector<std::string> remote;
  for (const TreeFile& f : files) remote.push_back(f.remote);
  std::sort(remote.begin(), remote.end());
  CHECK(remote == std::vector<std::string>{"/beds/north/deep/frost.log", "/beds/plan.txt"});
  CHECK(sftp->made.front() == "/beds");
  sftp->listing = [](const std::string& folder) -> std::vector<RemoteFile> {
    if (folder == "/beds") return {link("circle"), directory("north")};
    return {file("frost.log")};
  };
  CHECK(failure([&]() -> Task<void> { co_await removeTree(sftp, "/beds"); }).empty());
  CHECK(sftp->removed ==
        std::vector<std::string>{"/beds/circle", "/beds/north/frost.log", "/beds/north/", "/beds/"});
}
