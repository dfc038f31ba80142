#include "ssh/inbox.hpp"

namespace kw {

std::size_t Inbox::put(ByteView bytes) {
  const std::size_t given = giveToWhoWaits(bytes);
  return given + kept_.put(bytes.subspan(given));
}

std::size_t Inbox::giveToWhoWaits(ByteView bytes) {
  const std::lock_guard held(lock_);
  if (!offer_ || told_ || kept_.lies() > 0) return 0;
  const std::size_t n = std::min(bytes.size(), offer_->into.size() - offer_->got);
  if (n > 0) std::memcpy(offer_->into.data() + offer_->got, bytes.data(), n);
  offer_->got += n;
  return n;
}

void Inbox::end(const Error& reason) {
  const std::lock_guard held(lock_);
  if (!over_) over_ = reason;
}

bool Inbox::isFullFor(std::size_t more) {
  const std::lock_guard held(lock_);
  return offer_ && !told_ && offer_->got > 0 && offer_->into.size() - offer_->got < more;
}

void Inbox::tell(GoOn how) {
  {
    const std::lock_guard held(lock_);
    if (!offer_ || told_) return;
    if (offer_->got == 0 && kept_.lies() == 0 && !over_) return;
    told_ = true;
  }
  reader_.callOn(how);
}

std::size_t Inbox::take(ByteSpan into) {
  if (unread_.empty()) return kept_.take(into);
  const std::size_t n = std::min(into.size(), unread_.size());
  std::copy_n(unread_.begin(), n, into.begin());
  unread_.erase(unread_.begin(), unread_.begin() + static_cast<std::ptrdiff_t>(n));
  return n;
}

bool Inbox::offer(ByteSpan into) {
  const std::lock_guard held(lock_);
  if (kept_.lies() > 0) return false;
  if (over_) throw *over_;
  offer_ = Offer{into};
  told_ = false;
  return true;
}

/// Ends the offer, however the wait ends: also when the reader's coroutine is given up or dropped.
struct Inbox::Withdrawal {
  Inbox& inbox;
  bool taken = false;
  ~Withdrawal() {
    if (!taken) take(true);
  }
  Withdrawal(const Withdrawal&) = delete;
  Withdrawal& operator=(const Withdrawal&) = delete;
  explicit Withdrawal(Inbox& i) : inbox(i) {}
  std::size_t take(bool keep) {
    const std::lock_guard held(inbox.lock_);
    taken = true;
    const Offer offer = std::exchange(inbox.offer_, std::nullopt).value();
    const ByteSpan got = offer.into.first(offer.got);
    if (keep) inbox.unread_.assign(got.begin(), got.end());
    return offer.got;
  }
};

Task<std::size_t> Inbox::wait(ByteSpan into) {
  if (!unread_.empty() || !offer(into)) co_return 0;
  Withdrawal withdrawal(*this);
  auto called = reader_.wait();
  if (!co_await std::move(called)) throw Error(ErrorKind::Cancelled, "cancelled");
  co_return withdrawal.take(false);
}

}  // namespace kw
