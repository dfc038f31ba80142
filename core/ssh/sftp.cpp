#include "ssh/sftp.hpp"

#include <fcntl.h>
#include <openssl/evp.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <boost/asio/use_awaitable.hpp>
#include <fstream>
#include <list>
#include <map>

#include "base/bounded_reader.hpp"
#include "base/run_on.hpp"
#include "base/runtime.hpp"

namespace kw {

namespace {

namespace fs = std::filesystem;

// Section 3 and 7 of the draft.
enum Type : std::uint8_t {
  kInit = 1,
  kVersion = 2,
  kOpen = 3,
  kClose = 4,
  kRead = 5,
  kWrite = 6,
  kLstat = 7,
  kSetstat = 9,
  kOpendir = 11,
  kReaddir = 12,
  kRemove = 13,
  kMkdir = 14,
  kRmdir = 15,
  kRealpath = 16,
  kStat = 17,
  kRename = 18,
  kStatus = 101,
  kHandle = 102,
  kData = 103,
  kName = 104,
  kAttrs = 105,
  kExtended = 200,
  kExtendedReply = 201,
};
constexpr std::uint32_t kOk = 0, kEof = 1, kNoSuchFile = 2, kPermissionDenied = 3;
constexpr std::uint32_t kOpenRead = 1, kOpenWrite = 2, kOpenCreate = 8, kOpenTruncate = 16;
constexpr std::uint32_t kHasSize = 1, kHasOwner = 2, kHasPermissions = 4, kHasTimes = 8,
                        kHasMore = 0x80000000U;
constexpr std::size_t kMostPacket = 1 << 20;
constexpr std::size_t kUsualPiece = 32 * 1024 - 64;  ///< every server takes 32 KiB
constexpr std::size_t kMostPiece = 256 * 1024 - 1024;
constexpr std::size_t kAtOnce = 64;          ///< requests under way,
constexpr std::size_t kMostAsked = 4 << 20;  ///< and the bytes they are about
constexpr char kLimits[] = "limits@openssh.com";

struct Packet {
  std::uint8_t type = 0;
  ByteView body;  ///< after the request number; until the next packet is read, unless kept
  Bytes own;
  /// A packet that outlives the buffer it came in.
  [[nodiscard]] Packet kept() const {
    Packet p;
    p.type = type;
    p.own.assign(body.begin(), body.end());
    return p;
  }
  [[nodiscard]] ByteView bytes() const { return own.empty() ? body : ByteView(own); }
};

RemoteFile readAttributes(BoundedReader& r) {
  RemoteFile file;
  const std::uint32_t flags = r.u32();
  if (flags & kHasSize) {
    const std::uint64_t high = r.u32();
    file.size = high << 32 | r.u32();
  }
  if (flags & kHasOwner) file.user = r.u32(), file.group = r.u32();
  if (flags & kHasPermissions) file.permissions = r.u32();
  if (flags & kHasTimes) r.u32(), file.modified = r.u32();
  if (flags & kHasMore)
    for (std::uint32_t n = r.u32(); n > 0; --n) r.skip(r.u32()), r.skip(r.u32());
  return file;
}

[[noreturn]] void raise(const Packet& p, const std::string& path) {
  BoundedReader r(p.bytes(), "SFTP status");
  const std::uint32_t code = r.u32();
  std::string said = r.left() >= 4 ? cleanUtf8(r.text(std::min<std::size_t>(r.u32(), r.left()))) : "";
  if (code == kNoSuchFile) throw Error(ErrorKind::Unreachable, "there is no such file or folder", path);
  if (code == kPermissionDenied) throw Error(ErrorKind::Local, "not allowed", path);
  throw Error(ErrorKind::Local, said.empty() ? "the server refused" : "the server says: " + lowered(said),
              path);
}

class Client : public Sftp, public std::enable_shared_from_this<Client> {
 public:
  Client(Executor strand, StreamPtr stream)
      : strand_(std::move(strand)), stream_(std::move(stream)), moved_(strand_) {}

  Task<void> hello() {
    ByteWriter w;
    w.u32(5).u8(kInit).u32(3);
    const Bytes out = w.take();
    co_await stream_->write(out);
    const Packet answer = co_await readPacket(false);
    if (answer.type != kVersion) protocolBroken("SFTP", "the server does not say its version");
    const bool saysLimits = offersLimits(answer);
    spawn(strand_, [self = shared_from_this()] { return self->readAnswers(); });
    if (saysLimits) co_await askLimits();
  }

  Task<std::string> realPath(std::string path) override {
    auto names = co_await nameRequest(kRealpath, path);
    if (names.empty()) protocolBroken("SFTP", "no name came for " + path);
    co_return names.front().name;
  }

  Task<std::vector<RemoteFile>> list(std::string folder) override {
    const std::string handle = co_await openHandle(kOpendir, folder, {});
    std::vector<RemoteFile> out;
    for (;;) {
      ByteWriter w;
      text(w, handle);
      const Packet p = co_await request(kReaddir, w.take());
      if (p.type == kStatus) {
        if (codeOf(p) == kEof) break;
        raise(p, folder);
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
    text(w, path);
    const Packet p = co_await request(kStat, w.take());
    if (p.type == kStatus) {
      if (codeOf(p) == kNoSuchFile) co_return std::nullopt;
      raise(p, path);
    }
    BoundedReader r(p.bytes(), "SFTP attributes");
    RemoteFile file = readAttributes(r);
    file.name = fs::path(path).filename();
    co_return file;
  }

  Task<void> makeFolder(std::string path) override {
    ByteWriter w;
    text(w, path);
    w.u32(0);
    co_await expectOk(kMkdir, w.take(), path);
  }
  Task<void> remove(std::string path) override {
    ByteWriter w;
    text(w, path);
    co_await expectOk(kRemove, w.take(), path);
  }
  Task<void> removeFolder(std::string path) override {
    ByteWriter w;
    text(w, path);
    co_await expectOk(kRmdir, w.take(), path);
  }
  Task<void> rename(std::string from, std::string to) override {
    ByteWriter w;
    text(w, from);
    text(w, to);
    co_await expectOk(kRename, w.take(), from);
  }
  Task<void> setPermissions(std::string path, std::uint32_t permissions) override {
    ByteWriter w;
    text(w, path);
    w.u32(kHasPermissions).u32(permissions);
    co_await expectOk(kSetstat, w.take(), path);
  }
  Task<void> setModified(std::string path, std::uint32_t seconds) override {
    ByteWriter w;
    text(w, path);
    w.u32(kHasTimes).u32(seconds).u32(seconds);
    co_await expectOk(kSetstat, w.take(), path);
  }

  Task<void> download(std::string remote, fs::path local, std::uint64_t from, OnCopy progress,
                      CancelFlag cancel) override {
    auto task =
        downloadHere(std::move(remote), std::move(local), from, std::move(progress), std::move(cancel));
    co_await runOn(strand_, std::move(task));
  }
  Task<void> upload(fs::path local, std::string remote, std::uint64_t from, OnCopy progress,
                    CancelFlag cancel) override {
    auto task = uploadHere(std::move(local), std::move(remote), from, std::move(progress), std::move(cancel));
    co_await runOn(strand_, std::move(task));
  }
  void close() override {
    post(strand_, [self = shared_from_this()] {
      self->failure_ = Error(ErrorKind::Cancelled, "ended here");
      self->stream_->close();
      self->wake();
    });
  }

 private:
  static void text(ByteWriter& w, const std::string& s) {
    w.u32(static_cast<std::uint32_t>(s.size())).text(s);
  }
  static std::uint32_t codeOf(const Packet& p) { return BoundedReader(p.bytes(), "SFTP status").u32(); }

  /// Whether the server can tell how large a piece it takes (PROTOCOL of OpenSSH, 4.8).
  static bool offersLimits(const Packet& version) {
    BoundedReader r(version.body, "SFTP version");
    r.u32();
    while (r.left() >= 8) {
      const std::string name = r.text(r.u32());
      r.skip(r.u32());
      if (name == kLimits) return true;
    }
    return false;
  }
  Task<void> askLimits() {
    ByteWriter w;
    text(w, kLimits);
    const Packet p = co_await requestHere(kExtended, w.take());
    if (p.type != kExtendedReply) co_return;
    BoundedReader r(p.bytes(), "SFTP limits");
    r.skip(8);  // a whole packet's
    const auto piece = [&r] {
      const std::uint64_t high = r.u32(), most = high << 32 | r.u32();
      return most == 0 ? kUsualPiece
                       : static_cast<std::size_t>(std::clamp<std::uint64_t>(most, 512, kMostPiece));
    };
    readPiece_ = piece();
    writePiece_ = piece();
  }

  Task<Packet> readPacket(bool numbered, std::uint32_t* number = nullptr) {
    co_await need(4);
    const std::uint32_t size = loadBe32(in_.data() + at_);
    at_ += 4;
    if (size < (numbered ? 5U : 1U) || size > kMostPacket)
      protocolBroken("SFTP packet", std::to_string(size) + " bytes long");
    co_await need(size);
    Packet p;
    p.type = in_[at_];
    const std::size_t head = numbered ? 5 : 1;
    if (number != nullptr) *number = loadBe32(in_.data() + at_ + 1);
    p.body = ByteView(in_).subspan(at_ + head, size - head);
    at_ += size;
    co_return p;
  }
  Task<void> need(std::size_t n) {
    if (end_ - at_ >= n) co_return;
    if (at_ + n > in_.size()) {
      std::copy(in_.begin() + static_cast<std::ptrdiff_t>(at_),
                in_.begin() + static_cast<std::ptrdiff_t>(end_), in_.begin());
      end_ -= at_;
      at_ = 0;
    }
    if (in_.size() < n) in_.resize(n + kMostPacket);
    while (end_ - at_ < n) end_ += co_await stream_->readSome(ByteSpan(in_).subspan(end_));
  }

  struct Waiting {
    explicit Waiting(const Executor& on) : came(on) {}
    Signal came;
    std::optional<Packet> answer;
    std::function<void(const Packet&)> handler;  ///< instead of waking somebody
  };

  Task<void> readAnswers() {
    try {
      for (;;) {
        std::uint32_t number = 0;
        Packet p = co_await readPacket(true, &number);
        const auto at = waiting_.find(number);
        if (at == waiting_.end()) protocolBroken("SFTP", "an answer to nothing came");
        const auto who = at->second;
        waiting_.erase(at);
        if (who->handler) {
          who->handler(p);
          moved_.notify();
        } else {
          who->answer = p.kept();
          who->came.notify();
        }
      }
    } catch (const Error& e) {
      if (!failure_) failure_ = e;
    }
    wake();
  }
  void wake() {
    for (auto& [number, who] : waiting_) who->came.notify();
    moved_.notify();
  }

  /// Puts a request on its way; several may be queued while one is being written.
  std::uint32_t queue(std::uint8_t type, const Bytes& body, std::shared_ptr<Waiting> who) {
    const std::uint32_t number = ++last_;
    waiting_[number] = std::move(who);
    Byte head[9];
    storeBe32(head, static_cast<std::uint32_t>(body.size() + 5));
    head[4] = type;
    storeBe32(head + 5, number);
    out_.insert(out_.end(), head, head + 9);
    out_.insert(out_.end(), body.begin(), body.end());
    return number;
  }
  Task<void> flush() {
    if (writing_) co_return;
    writing_ = true;
    try {
      while (!out_.empty()) {
        const Bytes now = std::exchange(out_, {});
        co_await stream_->write(now);
      }
    } catch (const Error& e) {
      if (!failure_) failure_ = e;
      wake();
    }
    writing_ = false;
  }

  Task<Packet> request(std::uint8_t type, Bytes body) {
    auto task = requestHere(type, std::move(body));
    co_return co_await runOn(strand_, std::move(task));
  }
  Task<Packet> requestHere(std::uint8_t type, Bytes body) {
    auto self = shared_from_this();
    if (failure_) throw *failure_;
    auto who = std::make_shared<Waiting>(strand_);
    queue(type, body, who);
    co_await flush();
    while (!who->answer) {
      if (failure_) throw *failure_;
      co_await who->came.wait();
    }
    co_return std::move(*who->answer);
  }
  Task<void> expectOk(std::uint8_t type, Bytes body, std::string path) {
    const Packet p = co_await request(type, std::move(body));
    if (p.type != kStatus) protocolBroken("SFTP", "an unexpected answer for " + path);
    if (codeOf(p) != kOk) raise(p, path);
  }
  static std::vector<RemoteFile> namesIn(const Packet& p) {
    if (p.type != kName) protocolBroken("SFTP", "names were expected");
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
  Task<std::vector<RemoteFile>> nameRequest(std::uint8_t type, std::string path) {
    ByteWriter w;
    text(w, path);
    const Packet p = co_await request(type, w.take());
    if (p.type == kStatus) raise(p, path);
    co_return namesIn(p);
  }
  Task<std::string> openHandle(std::uint8_t type, std::string path, std::optional<std::uint32_t> flags) {
    ByteWriter w;
    text(w, path);
    if (flags) w.u32(*flags).u32(0);
    const Packet p = co_await request(type, w.take());
    if (p.type == kStatus) raise(p, path);
    BoundedReader r(p.bytes(), "SFTP handle");
    if (p.type != kHandle) protocolBroken("SFTP", "a handle was expected");
    co_return r.text(std::min<std::uint32_t>(r.u32(), 256));
  }
  Task<void> closeHandle(std::string handle) {
    ByteWriter w;
    text(w, handle);
    co_await request(kClose, w.take());
  }

  /// One copy: which pieces are under way and which have come.
  struct Copy {
    std::string handle, path;
    std::uint64_t next = 0, total = 0, done = 0;
    std::size_t underWay = 0;
    bool atEnd = false;
    std::optional<Error> failure;
  };

  Task<void> downloadHere(std::string remote, fs::path local, std::uint64_t from, OnCopy progress,
                          CancelFlag cancel) {
    auto self = shared_from_this();
    const auto info = co_await stat(remote);
    if (!info) throw Error(ErrorKind::Unreachable, "there is no such file", remote);
    auto copy = std::make_shared<Copy>();
    copy->path = remote;
    copy->next = copy->done = from;
    copy->total = info->size;
    const int fd = ::open(local.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    if (fd < 0) throw Error(ErrorKind::Local, "this file cannot be written", local);
    const std::shared_ptr<void> closer(nullptr, [fd](void*) { ::close(fd); });
    if (::ftruncate(fd, static_cast<off_t>(from)) != 0)
      throw Error(ErrorKind::Local, "this file cannot be written", local);
    copy->handle = co_await openHandle(kOpen, remote, kOpenRead);
    // Pieces may come out of order; what has not come yet is a hole, so a resumed copy begins at what is
    // whole.
    auto whole = std::make_shared<std::map<std::uint64_t, std::uint64_t>>();
    while (!copy->atEnd || copy->underWay > 0) {
      if (failure_) copy->failure = failure_;
      if (cancel && *cancel && !copy->failure)
        copy->failure = Error(ErrorKind::Cancelled, "the copy was cancelled", remote);
      if (copy->failure) break;
      while (!copy->atEnd && copy->underWay < atOnce(readPiece_)) askPiece(copy, whole, fd, local);
      co_await flush();
      if (progress) progress({copy->done, copy->total});
      if (copy->underWay > 0) co_await moved_.wait();
    }
    while (copy->underWay > 0 && !failure_) co_await moved_.wait();
    if (copy->failure) {  // keep only what is whole from the beginning
      if (::ftruncate(fd, static_cast<off_t>(copy->done)) != 0)
        copy->failure = Error(ErrorKind::Local, "this file cannot be cut", local);
      throw *copy->failure;
    }
    co_await closeHandle(copy->handle);
    if (progress) progress({copy->done, copy->total});
  }

  static std::size_t atOnce(std::size_t piece) {
    return std::clamp<std::size_t>(kMostAsked / piece, 1, kAtOnce);
  }
  void askPiece(const std::shared_ptr<Copy>& copy,
                const std::shared_ptr<std::map<std::uint64_t, std::uint64_t>>& whole, int fd,
                const fs::path& local) {
    const std::uint64_t at = copy->next;
    askPart(copy, whole, fd, local, at, readPiece_);
    copy->next += readPiece_;
    if (copy->next >= copy->total) copy->atEnd = true;
  }
  void askPart(std::shared_ptr<Copy> copy, std::shared_ptr<std::map<std::uint64_t, std::uint64_t>> whole,
               int fd, fs::path local, std::uint64_t at, std::size_t size) {
    ByteWriter w;
    text(w, copy->handle);
    w.u32(static_cast<std::uint32_t>(at >> 32))
        .u32(static_cast<std::uint32_t>(at))
        .u32(static_cast<std::uint32_t>(size));
    auto who = std::make_shared<Waiting>(strand_);
    ++copy->underWay;
    who->handler = [this, copy, whole, fd, local, at, size](const Packet& p) {
      --copy->underWay;
      if (copy->failure) return;
      try {
        if (p.type == kStatus) {
          if (codeOf(p) != kEof) raise(p, copy->path);
          copy->atEnd = true;
          return;
        }
        BoundedReader r(p.bytes(), "SFTP data");
        const ByteView data = r.bytes(r.u32());
        if (data.empty() || data.size() > size) protocolBroken("SFTP data", "has the wrong size");
        if (::pwrite(fd, data.data(), data.size(), static_cast<off_t>(at)) !=
            static_cast<ssize_t>(data.size()))
          throw Error(ErrorKind::Local, "cannot write: " + std::string(std::strerror(errno)), local);
        (*whole)[at] = at + data.size();
        for (auto next = whole->find(copy->done); next != whole->end(); next = whole->find(copy->done)) {
          copy->done = next->second;
          whole->erase(next);
        }
        if (data.size() < size && at + data.size() < copy->total)
          askPart(copy, whole, fd, local, at + data.size(), size - data.size());
      } catch (const Error& e) {
        copy->failure = e;
      }
    };
    queue(kRead, w.raw(), std::move(who));
  }

  Task<void> uploadHere(fs::path local, std::string remote, std::uint64_t from, OnCopy progress,
                        CancelFlag cancel) {
    auto self = shared_from_this();
    const int fd = ::open(local.c_str(), O_RDONLY | O_CLOEXEC);
    struct stat info {};
    if (fd < 0 || ::fstat(fd, &info) != 0) throw Error(ErrorKind::Local, "this file cannot be read", local);
    const std::shared_ptr<void> closer(nullptr, [fd](void*) { ::close(fd); });
    auto copy = std::make_shared<Copy>();
    copy->path = remote;
    copy->next = copy->done = from;
    copy->total = static_cast<std::uint64_t>(info.st_size);
    copy->handle =
        co_await openHandle(kOpen, remote, kOpenWrite | kOpenCreate | (from == 0 ? kOpenTruncate : 0));
    // Written strictly in order, so that whatever is there after a break is whole from the beginning.
    while (copy->done < copy->total || copy->underWay > 0) {
      if (failure_) copy->failure = failure_;
      if (cancel && *cancel && !copy->failure)
        copy->failure = Error(ErrorKind::Cancelled, "the copy was cancelled", remote);
      if (copy->failure) break;
      while (copy->next < copy->total && copy->underWay < atOnce(writePiece_) && out_.size() < (1U << 20))
        sendPiece(copy, fd, local);
      co_await flush();
      if (progress) progress({copy->done, copy->total});
      if (copy->underWay > 0) co_await moved_.wait();
    }
    while (copy->underWay > 0 && !failure_) co_await moved_.wait();
    if (copy->failure) throw *copy->failure;
    co_await closeHandle(copy->handle);
    if (progress) progress({copy->done, copy->total});
  }
  void sendPiece(const std::shared_ptr<Copy>& copy, int fd, const fs::path& local) {
    Bytes data(std::min<std::uint64_t>(writePiece_, copy->total - copy->next));
    const ssize_t n = ::pread(fd, data.data(), data.size(), static_cast<off_t>(copy->next));
    if (n != static_cast<ssize_t>(data.size())) {
      copy->failure = Error(ErrorKind::Local, "the file became shorter while it was read", local);
      return;
    }
    ByteWriter w;
    text(w, copy->handle);
    w.u32(static_cast<std::uint32_t>(copy->next >> 32))
        .u32(static_cast<std::uint32_t>(copy->next))
        .u32(static_cast<std::uint32_t>(n));
    w.bytes(data);
    auto who = std::make_shared<Waiting>(strand_);
    ++copy->underWay;
    const auto size = static_cast<std::uint64_t>(n);
    who->handler = [copy, size](const Packet& p) {
      --copy->underWay;
      try {
        if (p.type != kStatus || codeOf(p) != kOk) raise(p, copy->path);
        copy->done += size;
      } catch (const Error& e) {
        if (!copy->failure) copy->failure = e;
      }
    };
    queue(kWrite, w.raw(), std::move(who));
    copy->next += size;
  }

  Executor strand_;
  StreamPtr stream_;
  Signal moved_;
  Bytes in_, out_;
  std::size_t at_ = 0, end_ = 0;
  std::uint32_t last_ = 0;
  std::size_t readPiece_ = kUsualPiece, writePiece_ = kUsualPiece;
  std::map<std::uint32_t, std::shared_ptr<Waiting>> waiting_;
  std::optional<Error> failure_;
  bool writing_ = false;
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
  auto client = std::make_shared<Client>(strand, std::move(stream));
  auto task = client->hello();
  co_await runOn(strand, std::move(task));
  co_return client;
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
