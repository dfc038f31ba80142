#include "ssh/sftp_copy.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/clock.hpp"

namespace kw {

namespace {

constexpr std::size_t kAtOnce = 64;           ///< requests under way,
constexpr std::size_t kMostAsked = 4 << 20;   ///< the bytes they are about,
constexpr std::size_t kMostQueued = 1 << 20;  ///< and of those the bytes that wait to be sent

void putOffset(ByteWriter& w, std::uint64_t at) {
  w.u32(static_cast<std::uint32_t>(at >> 32)).u32(static_cast<std::uint32_t>(at));
}

/// Which pieces are under way and which have come. Kept alive by those under way, also when nobody waits for
/// the copy any more.
class Copying : public std::enable_shared_from_this<Copying> {
 public:
  virtual ~Copying() = default;
  Copying(const Copying&) = delete;
  Copying& operator=(const Copying&) = delete;

  Task<void> run() {
    const std::shared_ptr<void> ends(nullptr, [self = shared_from_this()](void*) { self->over_ = true; });
    if (what_.cancel) watchForCancel();
    while ((moreToAsk() || underWay_ > 0) && !failed()) {
      while (moreToAsk() && mayAsk()) askNext();
      link_.flush();
      tellProgress();
      if (underWay_ > 0) co_await link_.moved();
    }
    over_ = true;  // what still comes is not taken any more
    finish();
    if (failure_) throw *failure_;
    tellProgress();
  }

 protected:
  Copying(SftpLink& link, SftpCopy what, std::size_t piece)
      : link_(link), what_(std::move(what)), piece_(piece), next_(what_.from), done_(what_.from) {}
  [[nodiscard]] virtual bool moreToAsk() const = 0;
  virtual void askNext() = 0;
  virtual void finish() {}

  /// Queues a request whose answer goes to `take`, which may throw.
  void ask(SftpType type, ByteView body, std::function<void(const SftpPacket&)> take) {
    ++underWay_;
    link_.queue(type, body, [self = shared_from_this(), take = std::move(take)](const SftpPacket& p) {
      --self->underWay_;
      if (!self->over_ && !self->failure_) self->guarded([&] { take(p); });
    });
  }
  /// What it throws is the copy's failure.
  template <typename Step>
  void guarded(Step step) {
    try {
      step();
    } catch (const Error& e) {
      failure_ = e;
    }
  }

  SftpLink& link_;  ///< that calls this, or is held by who waits for the copy
  SftpCopy what_;
  std::size_t piece_;
  std::uint64_t next_;  ///< the first byte not asked for yet
  std::uint64_t done_;  ///< so many are whole from the beginning
  std::optional<Error> failure_;

 private:
  [[nodiscard]] bool mayAsk() const {
    const std::size_t most = std::clamp<std::size_t>(kMostAsked / piece_, 1, kAtOnce);
    if (failure_) return false;
    // One at least, also while another copy's bytes still wait to be sent.
    return underWay_ == 0 || (underWay_ < most && link_.queuedBytes() < kMostQueued);
  }
  /// So that a copy is ended at once also where the server has fallen silent.
  void watchForCancel() {
    spawn(link_.strand(), [weak = weak_from_this(), link = link_.weak_from_this()]() -> Task<void> {
      for (;;) {
        co_await systemClock()->sleep(std::chrono::milliseconds(100));
        const auto self = weak.lock();
        const auto living = link.lock();
        if (!self || !living || self->over_) co_return;
        if (*self->what_.cancel) living->stir();
      }
    });
  }
  bool failed() {
    if (!failure_) failure_ = link_.failure();
    if (!failure_ && what_.cancel && *what_.cancel)
      failure_ = Error(ErrorKind::Cancelled, "the copy was cancelled", what_.remote);
    return failure_.has_value();
  }
  void tellProgress() {
    if (what_.progress) what_.progress({done_, what_.total});
  }
  std::size_t underWay_ = 0;
  bool over_ = false;
};

/// Pieces may come out of order; what has not come yet is a hole in the file.
class Download : public Copying {
 public:
  Download(SftpLink& link, SftpCopy what) : Copying(link, std::move(what), link.readPiece()) {}

 private:
  [[nodiscard]] bool moreToAsk() const override { return !atEnd_; }
  void askNext() override {
    askPart(next_, piece_);
    next_ += piece_;
    if (next_ >= what_.total) atEnd_ = true;
  }
  void askPart(std::uint64_t at, std::size_t size) {
    ByteWriter w;
    putText(w, what_.handle);
    putOffset(w, at);
    w.u32(static_cast<std::uint32_t>(size));
    ask(SftpType::kRead, w.raw(), [this, at, size](const SftpPacket& p) { take(p, at, size); });
  }
  void take(const SftpPacket& p, std::uint64_t at, std::size_t size) {
    if (p.type == SftpType::kStatus) {
      if (statusOf(p) != kSftpEnd) raiseStatus(p, what_.remote);
      atEnd_ = true;
      return;
    }
    if (p.type != SftpType::kData) protocolBroken("SFTP data", "something else came");
    BoundedReader r(p.bytes(), "SFTP data");
    const ByteView data = r.bytes(r.u32());
    if (data.empty() || data.size() > size) protocolBroken("SFTP data", "has the wrong size");
    what_.local->write(data, at);
    whole_[at] = at + data.size();
    for (auto next = whole_.find(done_); next != whole_.end(); next = whole_.find(done_)) {
      done_ = next->second;
      whole_.erase(next);
    }
    if (data.size() < size && at + data.size() < what_.total) askPart(at + data.size(), size - data.size());
  }
  void finish() override {
    if (failure_) guarded([this] { what_.local->cut(done_); });
  }

  bool atEnd_ = false;
  std::map<std::uint64_t, std::uint64_t> whole_;  ///< beginning and end of what came before its turn
};

/// Written strictly in order, so that whatever is there after a break is whole from the beginning.
class Upload : public Copying {
 public:
  Upload(SftpLink& link, SftpCopy what) : Copying(link, std::move(what), link.writePiece()) {}

 private:
  [[nodiscard]] bool moreToAsk() const override { return next_ < what_.total; }
  void askNext() override {
    Bytes data(std::min<std::uint64_t>(piece_, what_.total - next_));
    guarded([&] { what_.local->read(data, next_); });
    if (failure_) return;
    ByteWriter w;
    putText(w, what_.handle);
    putOffset(w, next_);
    w.u32(static_cast<std::uint32_t>(data.size()));
    w.bytes(data);
    ask(SftpType::kWrite, w.raw(), [this, size = data.size()](const SftpPacket& p) {
      if (p.type != SftpType::kStatus) protocolBroken("SFTP", "a status was expected");
      if (statusOf(p) != kSftpOk) raiseStatus(p, what_.remote);
      done_ += size;
    });
    next_ += data.size();
  }
};

}  // namespace

LocalFile::Ptr LocalFile::toWrite(const std::filesystem::path& path, std::uint64_t from) {
  const int descriptor = ::open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
  if (descriptor < 0) throw Error(ErrorKind::Local, "this file cannot be written", path);
  Ptr file(new LocalFile(path, descriptor));
  if (::ftruncate(descriptor, static_cast<off_t>(from)) != 0)
    throw Error(ErrorKind::Local, "this file cannot be written", path);
  return file;
}

LocalFile::Ptr LocalFile::toRead(const std::filesystem::path& path) {
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (descriptor < 0) throw Error(ErrorKind::Local, "this file cannot be read", path);
  return Ptr(new LocalFile(path, descriptor));
}

LocalFile::~LocalFile() { ::close(descriptor_); }

std::uint64_t LocalFile::size() const {
  struct stat info {};
  if (::fstat(descriptor_, &info) != 0) throw Error(ErrorKind::Local, "this file cannot be read", path_);
  return static_cast<std::uint64_t>(info.st_size);
}

void LocalFile::write(ByteView bytes, std::uint64_t at) const {
  const ssize_t n = ::pwrite(descriptor_, bytes.data(), bytes.size(), static_cast<off_t>(at));
  if (n == static_cast<ssize_t>(bytes.size())) return;
  const std::string why = n < 0 ? std::strerror(errno) : "the disk is full";
  throw Error(ErrorKind::Local, "cannot write: " + why, path_);
}

void LocalFile::read(ByteSpan into, std::uint64_t at) const {
  const ssize_t n = ::pread(descriptor_, into.data(), into.size(), static_cast<off_t>(at));
  if (n == static_cast<ssize_t>(into.size())) return;
  const std::string why = n < 0 ? "cannot read: " + std::string(std::strerror(errno))
                                : "the file became shorter while it was read";
  throw Error(ErrorKind::Local, why, path_);
}

void LocalFile::cut(std::uint64_t size) const {
  if (::ftruncate(descriptor_, static_cast<off_t>(size)) != 0)
    throw Error(ErrorKind::Local, "this file cannot be cut", path_);
}

Task<void> copyFromServer(std::shared_ptr<SftpLink> link, SftpCopy what) {
  const auto copying = std::make_shared<Download>(*link, std::move(what));
  auto run = copying->run();
  co_await std::move(run);
}

Task<void> copyToServer(std::shared_ptr<SftpLink> link, SftpCopy what) {
  const auto copying = std::make_shared<Upload>(*link, std::move(what));
  auto run = copying->run();
  co_await std::move(run);
}

}  // namespace kw
