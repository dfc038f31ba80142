#include "ssh/sftp_link.hpp"

#include <algorithm>

#include "base/run_on.hpp"

namespace kw {

namespace {
constexpr std::size_t kMostPacket = 1 << 20;
constexpr std::size_t kMostPiece = 256 * 1024 - 1024;
constexpr char kLimits[] = "limits@openssh.com";
}  // namespace

SftpPacket SftpPacket::kept() const {
  SftpPacket p;
  p.type = type;
  p.own.assign(body.begin(), body.end());
  return p;
}

void putText(ByteWriter& w, const std::string& s) { w.u32(static_cast<std::uint32_t>(s.size())).text(s); }

RemoteFile readAttributes(BoundedReader& r) {
  RemoteFile file;
  const std::uint32_t flags = r.u32();
  if (flags & kSftpHasSize) {
    const std::uint64_t high = r.u32();
    file.size = high << 32 | r.u32();
  }
  if (flags & kSftpHasOwner) file.user = r.u32(), file.group = r.u32();
  if (flags & kSftpHasPermissions) file.permissions = r.u32();
  if (flags & kSftpHasTimes) r.u32(), file.modified = r.u32();
  if (flags & kSftpHasMore)
    for (std::uint32_t n = r.u32(); n > 0; --n) r.skip(r.u32()), r.skip(r.u32());
  return file;
}

std::uint32_t statusOf(const SftpPacket& p) { return BoundedReader(p.bytes(), "SFTP status").u32(); }

void raiseStatus(const SftpPacket& p, const std::string& path) {
  BoundedReader r(p.bytes(), "SFTP status");
  const std::uint32_t code = r.u32();
  std::string said = r.left() >= 4 ? cleanUtf8(r.text(std::min<std::size_t>(r.u32(), r.left()))) : "";
  if (code == kSftpNoSuchFile) throw Error(ErrorKind::Unreachable, "there is no such file or folder", path);
  if (code == kSftpNotAllowed) throw Error(ErrorKind::Local, "not allowed", path);
  throw Error(ErrorKind::Local, said.empty() ? "the server refused" : "the server says: " + lowered(said),
              path);
}

struct SftpLink::Waiting {
  explicit Waiting(const Executor& on) : came(on) {}
  Signal came;
  std::optional<SftpPacket> answer;
  OnAnswer handler;  ///< instead of waking somebody
};

SftpLink::SftpLink(Executor strand, StreamPtr stream)
    : strand_(std::move(strand)), stream_(std::move(stream)), moved_(strand_) {}

Task<void> SftpLink::hello() {
  ByteWriter w;
  w.u32(5).u8(static_cast<std::uint8_t>(SftpType::kInit)).u32(3);
  const Bytes out = w.take();
  co_await stream_->write(out);
  const SftpPacket answer = co_await readPacket(false);
  if (answer.type != SftpType::kVersion) protocolBroken("SFTP", "the server does not say its version");
  const bool saysLimits = offersLimits(answer);
  spawn(strand_, [self = shared_from_this()] { return self->readAnswers(); });
  if (saysLimits) co_await askLimits();
}

/// Whether the server can tell how large a piece it takes (PROTOCOL of OpenSSH, 4.8).
bool SftpLink::offersLimits(const SftpPacket& version) {
  BoundedReader r(version.body, "SFTP version");
  r.u32();
  while (r.left() >= 8) {
    const std::string name = r.text(r.u32());
    r.skip(r.u32());
    if (name == kLimits) return true;
  }
  return false;
}

Task<void> SftpLink::askLimits() {
  ByteWriter w;
  putText(w, kLimits);
  const SftpPacket p = co_await requestHere(SftpType::kExtended, w.take());
  if (p.type != SftpType::kExtendedReply) co_return;
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

Task<SftpPacket> SftpLink::readPacket(bool numbered, std::uint32_t* number) {
  co_await need(4);
  const std::uint32_t size = loadBe32(in_.data() + at_);
  at_ += 4;
  if (size < (numbered ? 5U : 1U) || size > kMostPacket)
    protocolBroken("SFTP packet", std::to_string(size) + " bytes long");
  co_await need(size);
  SftpPacket p;
  p.type = static_cast<SftpType>(in_[at_]);
  const std::size_t head = numbered ? 5 : 1;
  if (number != nullptr) *number = loadBe32(in_.data() + at_ + 1);
  p.body = ByteView(in_).subspan(at_ + head, size - head);
  at_ += size;
  co_return p;
}

Task<void> SftpLink::need(std::size_t n) {
  if (end_ - at_ >= n) co_return;
  if (at_ + n > in_.size()) {
    std::copy(in_.begin() + static_cast<std::ptrdiff_t>(at_), in_.begin() + static_cast<std::ptrdiff_t>(end_),
              in_.begin());
    end_ -= at_;
    at_ = 0;
  }
  if (in_.size() < n) in_.resize(n + kMostPacket);
  while (end_ - at_ < n) end_ += co_await stream_->readSome(ByteSpan(in_).subspan(end_));
}

Task<void> SftpLink::readAnswers() {
  try {
    for (;;) {
      std::uint32_t number = 0;
      SftpPacket p = co_await readPacket(true, &number);
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
  failed();
}

void SftpLink::failed() {
  for (auto& [number, who] : waiting_) who->came.notify();
  // No answers come any more; whoever is kept alive by a handler (a copy and its file) may go.
  std::erase_if(waiting_, [](const auto& one) { return one.second->handler != nullptr; });
  moved_.notify();
}

void SftpLink::queue(SftpType type, ByteView body, OnAnswer onAnswer) {
  auto who = std::make_shared<Waiting>(strand_);
  who->handler = std::move(onAnswer);
  queue(type, body, std::move(who));
}

void SftpLink::queue(SftpType type, ByteView body, std::shared_ptr<Waiting> who) {
  const std::uint32_t number = ++last_;
  waiting_[number] = std::move(who);
  Byte head[9];
  storeBe32(head, static_cast<std::uint32_t>(body.size() + 5));
  head[4] = static_cast<Byte>(type);
  storeBe32(head + 5, number);
  out_.insert(out_.end(), head, head + 9);
  out_.insert(out_.end(), body.begin(), body.end());
}

void SftpLink::flush() {
  if (!std::exchange(writing_, true)) spawn(strand_, [self = shared_from_this()] { return self->send(); });
}

Task<void> SftpLink::send() {
  try {
    while (!out_.empty()) {
      const Bytes now = std::exchange(out_, {});
      co_await stream_->write(now);
    }
  } catch (const Error& e) {
    if (!failure_) failure_ = e;
    failed();
  }
  writing_ = false;
}

Task<SftpPacket> SftpLink::request(SftpType type, Bytes body) {
  auto task = requestHere(type, std::move(body));
  co_return co_await runOn(strand_, std::move(task));
}

Task<SftpPacket> SftpLink::requestHere(SftpType type, Bytes body) {
  auto self = shared_from_this();
  if (failure_) throw *failure_;
  auto who = std::make_shared<Waiting>(strand_);
  queue(type, body, who);
  flush();
  while (!who->answer) {
    if (failure_) throw *failure_;
    co_await who->came.wait();
  }
  co_return std::move(*who->answer);
}

void SftpLink::tell(SftpType type, ByteView body) {
  queue(type, body, [](const SftpPacket&) {});
  flush();
}

void SftpLink::close() {
  post(strand_, [self = shared_from_this()] {
    self->failure_ = Error(ErrorKind::Cancelled, "ended here");
    self->stream_->close();
    self->failed();
  });
}

}  // namespace kw
