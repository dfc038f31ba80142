// SFTP's packets over a stream: numbered requests, answers in any order (draft-ietf-secsh-filexfer-02,
// sections 3 to 9). For the files of this folder.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/bounded_reader.hpp"
#include "base/error.hpp"
#include "base/runtime.hpp"
#include "ssh/sftp.hpp"
#include "wire/stream.hpp"

namespace kw {

enum class SftpType : std::uint8_t {
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
/// Codes of kStatus, section 7.
constexpr std::uint32_t kSftpOk = 0, kSftpEnd = 1, kSftpNoSuchFile = 2, kSftpNotAllowed = 3;
/// Bits of an attribute block, section 5.
constexpr std::uint32_t kSftpHasSize = 1, kSftpHasOwner = 2, kSftpHasPermissions = 4, kSftpHasTimes = 8,
                        kSftpHasMore = 0x80000000U;

struct SftpPacket {
  SftpType type{};
  ByteView body;  ///< after the request number; until the next packet is read, unless kept
  Bytes own;
  /// A packet that outlives the buffer it came in.
  [[nodiscard]] SftpPacket kept() const;
  [[nodiscard]] ByteView bytes() const { return own.empty() ? body : ByteView(own); }
};

void putText(ByteWriter& w, const std::string& s);
/// Throws Error {Protocol} when it is cut short.
RemoteFile readAttributes(BoundedReader& r);
/// Of a kStatus packet.
std::uint32_t statusOf(const SftpPacket& p);
/// What a kStatus packet that is not kSftpOk means for this path.
[[noreturn]] void raiseStatus(const SftpPacket& p, const std::string& path);

class SftpLink : public std::enable_shared_from_this<SftpLink> {
 public:
  using OnAnswer = std::function<void(const SftpPacket&)>;
  SftpLink(Executor strand, StreamPtr stream);

  /// Says hello, reads the answer and goes on reading. On the strand.
  Task<void> hello();
  /// Sends a request and waits for its answer. On any executor.
  Task<SftpPacket> request(SftpType type, Bytes body);
  void close();
  [[nodiscard]] const Executor& strand() const { return strand_; }

  // What follows is for the strand.
  /// Queues a request. `onAnswer` comes on the strand, unless the link fails first.
  void queue(SftpType type, ByteView body, OnAnswer onAnswer);
  [[nodiscard]] std::size_t queuedBytes() const { return out_.size(); }
  /// Sends what is queued, unless that is being done. It is not waited for: the other side may take its time.
  void flush();
  /// Until an answer to a queued request came, the link failed, or somebody stirs.
  Task<void> moved() { return moved_.wait(); }
  void stir() { moved_.notify(); }
  /// Sends a request to whose answer nobody listens.
  void tell(SftpType type, ByteView body);
  [[nodiscard]] const std::optional<Error>& failure() const { return failure_; }
  /// Most bytes of one read or write that the server takes.
  [[nodiscard]] std::size_t readPiece() const { return readPiece_; }
  [[nodiscard]] std::size_t writePiece() const { return writePiece_; }

 private:
  static constexpr std::size_t kUsualPiece = 32 * 1024 - 64;  ///< every server takes 32 KiB
  struct Waiting;
  static bool offersLimits(const SftpPacket& version);
  Task<void> askLimits();
  Task<SftpPacket> readPacket(bool numbered, std::uint32_t* number = nullptr);
  Task<void> need(std::size_t n);
  Task<void> readAnswers();
  Task<void> send();
  void failed();
  void queue(SftpType type, ByteView body, std::shared_ptr<Waiting> who);
  Task<SftpPacket> requestHere(SftpType type, Bytes body);

  Executor strand_;
  StreamPtr stream_;
  Signal moved_;
  Bytes in_, out_;
  std::size_t at_ = 0, end_ = 0;  ///< what lies in in_
  std::uint32_t last_ = 0;
  std::size_t readPiece_ = kUsualPiece, writePiece_ = kUsualPiece;
  std::map<std::uint32_t, std::shared_ptr<Waiting>> waiting_;
  std::optional<Error> failure_;
  bool writing_ = false;
};

}  // namespace kw
