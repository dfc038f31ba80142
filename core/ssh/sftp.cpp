#include "ssh/sftp.hpp"

#include <openssl/evp.h>

#include <algorithm>
#include <fstream>

#include "base/run_on.hpp"
#include "ssh/sftp_copy.hpp"
#include "ssh/sftp_link.hpp"

namespace kw {

namespace {

namespace fs = std::filesystem;

constexpr std::uint32_t kOpenRead = 1, kOpenWrite = 2, kOpenCreate = 8, kOpenTruncate = 16;  // section 6.3

class Client : public Sftp, public std::enable_shared_from_this<Client> {
 public:
  explicit Client(std::shared_ptr<SftpLink> link) : link_(std::move(link)) {}

  Task<std::string> realPath(std::string path) override {
    auto names = co_await nameRequest(SftpType::kRealpath, path);
    if (names.empty()) protocolBroken("SFTP", "no name came for " + path);
    co_return names.front().name;
  }

  Task<std::vector<RemoteFile>> list(std::string folder) override {
    const std::string handle = co_await openHandle(SftpType::kOpendir, folder, {});
    std::vector<RemoteFile> out;
    for (;;) {
      ByteWriter w;
      putText(w, handle);
      const SftpPacket p = co_await link_->request(SftpType::kReaddir, w.take());
      if (p.type == SftpType::kStatus) {
        if (statusOf(p) == kSftpEnd) break;
        raiseStatus(p, folder);
      }
      for (RemoteFile& f : namesIn(p))
        if (f.name != "." && f.name != "..") out.push_back(std::move(f));
      if (out.size() > 1'000'000) protocolBroken("SFTP", "a folder of more than a million files");
    }
    co_await closeHandle(handle);
    co_return out;
  }

  Task<std::optional<RemoteFile>> stat(std::string path) override {
    ByteWriter w;
    putText(w, path);
    const SftpPacket p = co_await link_->request(SftpType::kStat, w.take());
    if (p.type == SftpType::kStatus) {
      if (statusOf(p) == kSftpNoSuchFile) co_return std::nullopt;
      raiseStatus(p, path);
    }
    BoundedReader r(p.bytes(), "SFTP attributes");
    RemoteFile file = readAttributes(r);
    file.name = fs::path(path).filename();
    co_return file;
  }

  Task<void> makeFolder(std::string path) override {
    ByteWriter w;
    putText(w, path);
    w.u32(0);
    co_await expectOk(SftpType::kMkdir, w.take(), path);
  }
  Task<void> remove(std::string path) override {
    ByteWriter w;
    putText(w, path);
    co_await expectOk(SftpType::kRemove, w.take(), path);
  }
  Task<void> removeFolder(std::string path) override {
    ByteWriter w;
    putText(w, path);
    co_await expectOk(SftpType::kRmdir, w.take(), path);
  }
  Task<void> rename(std::string from, std::string to) override {
    ByteWriter w;
    putText(w, from);
    putText(w, to);
    co_await expectOk(SftpType::kRename, w.take(), from);
  }
  Task<void> setPermissions(std::string path, std::uint32_t permissions) override {
    ByteWriter w;
    putText(w, path);
    w.u32(kSftpHasPermissions).u32(permissions);
    co_await expectOk(SftpType::kSetstat, w.take(), path);
  }
  Task<void> setModified(std::string path, std::uint32_t seconds) override {
    ByteWriter w;
    putText(w, path);
    w.u32(kSftpHasTimes).u32(seconds).u32(seconds);
    co_await expectOk(SftpType::kSetstat, w.take(), path);
  }

  Task<void> download(std::string remote, fs::path local, std::uint64_t from, OnCopy progress,
                      CancelFlag cancel) override {
    auto task = downloadHere(std::move(remote), local, from, std::move(progress), std::move(cancel));
    co_await runOn(link_->strand(), std::move(task));
  }
  Task<void> upload(fs::path local, std::string remote, std::uint64_t from, OnCopy progress,
                    CancelFlag cancel) override {
    auto task = uploadHere(local, std::move(remote), from, std::move(progress), std::move(cancel));
    co_await runOn(link_->strand(), std::move(task));
  }
  void close() override { link_->close(); }

 private:
  Task<void> expectOk(SftpType type, Bytes body, std::string path) {
    const SftpPacket p = co_await link_->request(type, std::move(body));
    if (p.type != SftpType::kStatus) protocolBroken("SFTP", "an unexpected answer for " + path);
    if (statusOf(p) != kSftpOk) raiseStatus(p, path);
  }
  static std::vector<RemoteFile> namesIn(const SftpPacket& p) {
    if (p.type != SftpType::kName) protocolBroken("SFTP", "names were expected");
    BoundedReader r(p.bytes(), "SFTP names");
    std::vector<RemoteFile> out;
    for (std::uint32_t n = r.u32(); n > 0; --n) {
      const std::string name = r.text(r.u32());
      r.skip(r.u32());  // the long form, for people
      RemoteFile file = readAttributes(r);
      file.name = name;
      out.push_back(std::move(file));
    }
    return out;
  }
  Task<std::vector<RemoteFile>> nameRequest(SftpType type, std::string path) {
    ByteWriter w;
    putText(w, path);
    const SftpPacket p = co_await link_->request(type, w.take());
    if (p.type == SftpType::kStatus) raiseStatus(p, path);
    co_return namesIn(p);
  }
  Task<std::string> openHandle(SftpType type, std::string path, std::optional<std::uint32_t> flags) {
    ByteWriter w;
    putText(w, path);
    if (flags) w.u32(*flags).u32(0);
    const SftpPacket p = co_await link_->request(type, w.take());
    if (p.type == SftpType::kStatus) raiseStatus(p, path);
    BoundedReader r(p.bytes(), "SFTP handle");
    if (p.type != SftpType::kHandle) protocolBroken("SFTP", "a handle was expected");
    co_return r.text(std::min<std::uint32_t>(r.u32(), 256));
  }
  Task<void> closeHandle(std::string handle) {
    ByteWriter w;
    putText(w, handle);
    co_await link_->request(SftpType::kClose, w.take());
  }

  Task<void> downloadHere(std::string remote, fs::path local, std::uint64_t from, OnCopy progress,
                          CancelFlag cancel) {
    auto self = shared_from_this();
    const auto info = co_await stat(remote);
    if (!info) throw Error(ErrorKind::Unreachable, "there is no such file", remote);
    SftpCopy copy{remote, "", LocalFile::toWrite(local, from), from, info->size, std::move(progress), cancel};
    copy.handle = co_await openHandle(SftpType::kOpen, remote, kOpenRead);
    auto copying = copyFromServer(link_, copy);
    co_await thenClose(std::move(copying), copy.handle);
  }
  Task<void> uploadHere(fs::path local, std::string remote, std::uint64_t from, OnCopy progress,
                        CancelFlag cancel) {
    auto self = shared_from_this();
    auto file = LocalFile::toRead(local);
    const std::uint64_t size = file->size();
    SftpCopy copy{remote, "", std::move(file), from, size, std::move(progress), cancel};
    const std::uint32_t anew = from == 0 ? kOpenTruncate : 0;
    copy.handle = co_await openHandle(SftpType::kOpen, remote, kOpenWrite | kOpenCreate | anew);
    auto copying = copyToServer(link_, copy);
    co_await thenClose(std::move(copying), copy.handle);
  }
  /// A failed copy does not wait for the answer: the server may have fallen silent.
  Task<void> thenClose(Task<void> copying, std::string handle) {
    try {
      co_await std::move(copying);
    } catch (const std::exception&) {
      ByteWriter w;
      putText(w, handle);
      if (!link_->failure()) link_->tell(SftpType::kClose, w.raw());
      throw;
    }
    co_await closeHandle(handle);
  }

  std::shared_ptr<SftpLink> link_;
};

}  // namespace

std::string RemoteFile::rights() const {
  std::string out(10, '-');
  out[0] = folder() ? 'd' : link() ? 'l' : '-';
  static constexpr char kLetters[] = "rwxrwxrwx";
  for (unsigned i = 0; i < 9; ++i)
    if (permissions & (0400U >> i)) out[i + 1] = kLetters[i];
  return out;
}

Task<std::shared_ptr<Sftp>> Sftp::open(Executor strand, StreamPtr stream) {
  auto link = std::make_shared<SftpLink>(strand, std::move(stream));
  auto task = link->hello();
  co_await runOn(strand, std::move(task));
  co_return std::make_shared<Client>(link);
}

std::string sha256OfFile(const fs::path& file, std::uint64_t bytes) {
  std::ifstream in(file, std::ios::binary);
  if (!in) throw Error(ErrorKind::Local, "this file cannot be read", file);
  const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(), EVP_MD_CTX_free);
  EVP_DigestInit_ex(context.get(), EVP_sha256(), nullptr);
  Bytes buffer(1 << 18);
  while (in && bytes > 0) {
    in.read(reinterpret_cast<char*>(buffer.data()),
            static_cast<std::streamsize>(std::min<std::uint64_t>(buffer.size(), bytes)));
    const auto n = static_cast<std::size_t>(in.gcount());
    EVP_DigestUpdate(context.get(), buffer.data(), n);
    bytes -= n;
  }
  Byte digest[32];
  EVP_DigestFinal_ex(context.get(), digest, nullptr);
  return hex(ByteView(digest, 32));
}

}  // namespace kw
