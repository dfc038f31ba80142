// What a channel received and its reader has not taken yet.
#pragma once
#include <mutex>
#include <optional>

#include "base/byte_ring.hpp"
#include "base/error.hpp"
#include "base/parking.hpp"

namespace kw {

/// Between the thread that receives and the one that reads. A reader who waits gets what comes straight into
/// his buffer; what comes while he is busy is kept, up to a fixed amount. Order is kept, and a read that is
/// given up loses nothing.
class Inbox {
 public:
  using GoOn = Parking::GoOn;
  /// `most`: of what is kept, in bytes.
  explicit Inbox(std::size_t most) : kept_(most) {}

  // For the one who receives.
  /// How many of the bytes found room, in the order they came. The reader is not told yet, see tell().
  std::size_t put(ByteView bytes);
  [[nodiscard]] std::size_t room() const { return kept_.room(); }
  /// There is no more to come; the reader learns it when he has taken the rest. The first reason counts.
  void end(const Error& reason);
  /// A reader waits who got something and whose buffer has no room for so much more.
  [[nodiscard]] bool isFullFor(std::size_t more);
  /// Lets a reader go on for whom there is something.
  void tell(GoOn how);

  // For the reader.
  /// What is there already, at once; 0 when nothing is.
  std::size_t take(ByteSpan into);
  /// Waits for what comes, if nothing is there. Returns the bytes that came into the buffer; 0 means to
  /// take() again. Throws the reason when all was taken and no more is to come.
  Task<std::size_t> wait(ByteSpan into);
  /// Bytes that lie here, apart from a given-up read's.
  [[nodiscard]] std::size_t lies() const { return kept_.lies(); }

 private:
  struct Withdrawal;
  /// The waiting reader's buffer.
  struct Offer {
    ByteSpan into;
    std::size_t got = 0;
  };
  std::size_t giveToWhoWaits(ByteView bytes);
  /// False when there is no need to wait.
  bool offer(ByteSpan into);

  ByteRing kept_;
  Bytes unread_;  ///< of a given-up read; only the reader uses it
  Parking reader_;
  std::mutex lock_;  ///< for what follows
  std::optional<Offer> offer_;
  bool told_ = false;  ///< the one who offers was called on
  std::optional<Error> over_;
};

}  // namespace kw
