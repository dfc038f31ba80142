// A channel as a stream: what comes is received on the connection's strand and read on any executor.
#include <array>

#include "base/run_on.hpp"
#include "ssh/inbox.hpp"
#include "ssh/link.hpp"

namespace kw {

namespace {

/// Says that a writer waits for his turn, until it came or he was given up.
class Wish {
 public:
  explicit Wish(std::shared_ptr<SshConnection::State> state) : state_(std::move(state)) { ++state_->wishes; }
  ~Wish() { cameTrue(); }
  Wish(Wish&& other) noexcept : state_(std::exchange(other.state_, nullptr)) {}
  Wish(const Wish&) = delete;
  Wish& operator=(const Wish&) = delete;
  Wish& operator=(Wish&&) = delete;
  void cameTrue() {
    if (state_) --state_->wishes;
    state_.reset();
  }

 private:
  std::shared_ptr<SshConnection::State> state_;
};

/// The part on the connection's strand.
class Channel : public ChannelSink, public std::enable_shared_from_this<Channel> {
 public:
  Channel(std::shared_ptr<SshConnection::State> s, ssh_channel c, std::string p)
      : state(std::move(s)), peer(std::move(p)), channel_(c), canWrite_(state->strand) {
    state->sinks.push_back(this);
    state->waiters.push_back(&canWrite_);
    listen();
  }
  ~Channel() override {
    state->sinks.remove(this);
    state->waiters.remove(&canWrite_);
    ssh_remove_channel_callbacks(channel_, &callbacks_);
    ssh_channel_free(channel_);
    if (state->alive) state->settle();
  }
  Channel(const Channel&) = delete;
  Channel& operator=(const Channel&) = delete;

  void close() {
    if (!closed_ && state->alive) {
      ssh_channel_send_eof(channel_);
      ssh_channel_close(channel_);
    }
    closed_ = true;
    canWrite_.notify();
    look(HandOver::Later);
    state->settle();
  }
  void look(HandOver how) override {
    if (stayed_ && !closed_) takeWhatStayed();
    if (const auto reason = ending()) inbox.end(*reason);
    if (how == HandOver::FullOnes)
      handOverIfFull();
    else
      inbox.tell(how == HandOver::Here ? Inbox::GoOn::Here : Inbox::GoOn::Later);
  }
  void handOverIfFull() override {
    if (inbox.isFullFor(kLargestPacket)) inbox.tell(Inbox::GoOn::Here);
  }
  /// By the reader, on any thread, when he has taken what was there or is about to wait.
  void askForWhatStayed() {
    if (!stayed_ || inbox.lies() >= kMostKept / 2 || asked_.exchange(true)) return;
    post(state->strand, [self = shared_from_this()] {
      self->look(HandOver::Later);
      self->state->settle();
    });
  }
  static Task<void> write(std::shared_ptr<Channel> self, ByteView bytes, Wish wish) {
    wish.cameTrue();
    while (!bytes.empty()) {
      const int n = self->writeSome(bytes);
      if (n > 0) bytes = bytes.subspan(static_cast<std::size_t>(n));
      self->state->settle();
      co_await self->untilSent();
      // The window is used up; that it was opened may have been read already.
      if (n == 0 && ssh_channel_window_size(self->channel_) == 0) co_await self->canWrite_.wait();
    }
  }

  static constexpr std::size_t kMostKept = 1 << 20;
  static constexpr std::size_t kLargestPacket = 32 * 1024;  ///< that servers usually send
  std::shared_ptr<SshConnection::State> state;
  std::string peer;
  Inbox inbox{kMostKept};

 private:
  /// libssh hands over what comes from inside whatever call happened to read it.
  void listen() {
    callbacks_.userdata = this;
    callbacks_.channel_data_function = [](ssh_session, ssh_channel, void* data, std::uint32_t size, int,
                                          void* self) {
      return static_cast<int>(static_cast<Channel*>(self)->put({static_cast<const Byte*>(data), size}));
    };
    ssh_callbacks_init(&callbacks_);
    if (ssh_set_channel_callbacks(channel_, &callbacks_) != SSH_OK)
      throw Error(ErrorKind::Local, "not enough memory for an SSH channel", peer);
    stayed_ = true;  // what came before
  }
  /// How much of it was taken. The rest stays with libssh, whose window then holds the other side back.
  std::size_t put(ByteView bytes) {
    if (closed_) return bytes.size();
    const std::size_t n = inbox.put(bytes);
    if (n < bytes.size()) stayed_ = noRoom_ = true;
    return n;
  }
  /// `stayed_` is true until all was taken, so that a reader who makes room meanwhile asks again.
  void takeWhatStayed() {
    asked_ = false;
    do {
      noRoom_ = false;
      for (const int errorOutput : {0, 1})
        if (!takeWhatStayed(errorOutput)) return;
    } while (noRoom_);
    stayed_ = false;
  }
  /// False when there is no room for the rest.
  bool takeWhatStayed(int errorOutput) {
    static thread_local std::array<Byte, 64 * 1024> piece;
    for (;;) {
      const int kept = ssh_channel_poll(channel_, errorOutput);  // may read the socket and call put()
      if (kept <= 0) return true;
      const auto most = std::min({static_cast<std::size_t>(kept), inbox.room(), piece.size()});
      if (most == 0) return false;
      const int n =
          ssh_channel_read_nonblocking(channel_, piece.data(), static_cast<std::uint32_t>(most), errorOutput);
      if (n <= 0) return true;
      inbox.put(ByteView(piece).first(static_cast<std::size_t>(n)));
    }
  }
  [[nodiscard]] std::optional<Error> ending() const {
    if (closed_) return Error(ErrorKind::Cancelled, "ended here", peer);
    if (stayed_) return std::nullopt;  // more is to come
    if (ssh_channel_is_eof(channel_) || ssh_channel_is_closed(channel_))
      return Error(ErrorKind::ClosedByPeer, "closed by the other side", peer);
    if (!state->alive) return Error(ErrorKind::ClosedByPeer, "the SSH connection is gone", peer);
    return std::nullopt;
  }
  /// 0 when the window is used up.
  int writeSome(ByteView bytes) {
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here", peer);
    if (!state->alive || ssh_channel_is_closed(channel_))
      throw Error(ErrorKind::ClosedByPeer, "the SSH connection is gone", peer);
    constexpr std::size_t kMost = 256 * 1024;
    const int n = ssh_channel_write(channel_, bytes.data(),
                                    static_cast<std::uint32_t>(std::min<std::size_t>(bytes.size(), kMost)));
    if (n == SSH_ERROR) throw Error(ErrorKind::ClosedByPeer, "closed by the other side", peer);
    return n;
  }
  /// While the socket is full, so that libssh's own buffer stays small.
  Task<void> untilSent() {
    while (state->alive && state->writePending()) {
      co_await state->toWrite->wait();
      if (!state->alive) co_return;
      ssh_event_dopoll(state->event, 0);
      state->settle();
    }
  }

  ssh_channel channel_;
  ssh_channel_callbacks_struct callbacks_{};
  Signal canWrite_;
  bool closed_ = false;
  std::atomic<bool> stayed_ = false;  ///< libssh may still keep something of ours
  std::atomic<bool> asked_ = false;   ///< and is about to be asked for it
  bool noRoom_ = false;               ///< since put() was last looked at
};

class ChannelStream : public ByteStream {
 public:
  explicit ChannelStream(std::shared_ptr<Channel> channel) : channel_(std::move(channel)) {}
  ~ChannelStream() override { closeLater(); }
  ChannelStream(const ChannelStream&) = delete;
  ChannelStream& operator=(const ChannelStream&) = delete;

  Task<std::size_t> readSome(ByteSpan into) override {
    // The waiting is done here and not on the connection's strand, so that it can be cancelled.
    const auto channel = channel_;
    for (;;) {
      std::size_t n = channel->inbox.take(into);
      channel->askForWhatStayed();
      if (n == 0) n = co_await channel->inbox.wait(into);
      if (n > 0) co_return n;
    }
  }
  Task<void> write(ByteView bytes) override {
    auto task = Channel::write(channel_, bytes, Wish(channel_->state));
    co_await runOn(channel_->state->strand, std::move(task));
  }
  void close() noexcept override { closeLater(); }
  [[nodiscard]] bool sealed() const override { return true; }
  [[nodiscard]] std::string peer() const override { return channel_->peer; }

 private:
  void closeLater() noexcept {
    post(channel_->state->strand, [channel = channel_] { channel->close(); });
  }
  std::shared_ptr<Channel> channel_;
};

}  // namespace

StreamPtr streamOver(std::shared_ptr<SshConnection::State> state, ssh_channel channel, std::string peer) {
  // Whoever lets go of it last, it is destroyed on the connection's strand.
  const Executor strand = state->strand;
  const std::shared_ptr<Channel> shared(
      new Channel(std::move(state), channel, std::move(peer)),
      [strand](Channel* c) { post(strand, [owner = std::shared_ptr<Channel>(c)] {}); });
  return std::make_unique<ChannelStream>(shared);
}

}  // namespace kw
