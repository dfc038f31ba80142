#include "route/ssh_pool.hpp"

#include "base/run_on.hpp"
#include "base/runtime.hpp"

#include <boost/asio/use_awaitable.hpp>

namespace kw {

namespace {

class HeldStream : public ByteStream {
 public:
  HeldStream(StreamPtr inner, std::shared_ptr<void> what)
      : held_(std::move(what)), inner_(std::move(inner)) {}
  Task<std::size_t> readSome(ByteSpan into) override { return inner_->readSome(into); }
  Task<void> write(ByteView bytes) override { return inner_->write(bytes); }
  void close() noexcept override { inner_->close(); }
  [[nodiscard]] bool sealed() const override { return inner_->sealed(); }
  int detach() override { return -1; }
  [[nodiscard]] std::string peer() const override { return inner_->peer(); }

 private:
  // In this order: the stream goes first, the connection that it runs over after it.
  std::shared_ptr<void> held_;
  StreamPtr inner_;
};

/// Turns what a connection asks into questions of a session, on the session's strand.
class Questions : public SshEvents {
 public:
  Questions(Executor sessionStrand, Asker& asker, std::shared_ptr<TrustStore> trust, const SshHop& hop,
            std::string pinName)
      : strand_(std::move(sessionStrand)),
        asker_(asker),
        trust_(std::move(trust)),
        hop_(hop),
        pinName_(std::move(pinName)) {}

  Task<bool> trust(HostKey key) override {
    const std::string& peer = pinName_;
    const auto pinned = trust_ ? trust_->pinned(peer) : std::nullopt;
    if (pinned && *pinned == key.sha256) co_return true;
    if (!pinned && key.knownHosts == HostKey::Known::Yes) co_return true;
    const bool changed = pinned || key.knownHosts == HostKey::Known::Changed;
    Question question;
    question.kind = Question::Kind::Trust;
    question.text = changed ? "The SSH key of " + hop_.options.host + " has changed."
                            : "The SSH key of " + hop_.options.host + " is not known yet.";
    question.pinned = pinned.value_or(changed ? "another key in known_hosts" : "");
    question.certificate.subject = key.type + " key of " + hop_.options.host;
    question.certificate.sha256 = key.sha256;
    const Answer answer = co_await put(question);
    if (answer.accepted && answer.remember) {
      if (trust_) trust_->pin(peer, key.sha256);
      rememberKey = true;
    }
    co_return answer.accepted;
  }

  Task<std::optional<Secret>> answer(SshPrompt prompt) override {
    if (hop_.answers) {
      auto own = co_await hop_.answers(prompt);
      if (own) co_return own;
    }
    Question question;
    question.kind = prompt.hidden ? Question::Kind::Password : Question::Kind::Text;
    question.text = prompt.text;
    question.again = prompt.again;
    question.credential = hop_.credential;
    const Answer answer = co_await put(question);
    if (!answer.accepted) co_return std::nullopt;
    if (prompt.kind == SshPrompt::Kind::Password && answer.remember) toKeep = answer.password;
    co_return answer.password;
  }

  void doing(const std::string& what) override {
    post(strand_, [&asker = asker_, what, alive = std::weak_ptr<int>(alive_)] {
      if (alive.lock()) asker.doing(what);
    });
  }

  bool rememberKey = false;
  std::optional<Secret> toKeep;

 private:
  Task<Answer> put(Question question) {
    auto task = asker_.ask(std::move(question));
    co_return co_await runOn(strand_, std::move(task));
  }
  Executor strand_;
  Asker& asker_;
  std::shared_ptr<TrustStore> trust_;
  SshHop hop_;
  std::string pinName_;
  std::shared_ptr<int> alive_ = std::make_shared<int>(0);
};

std::string keyOf(const std::vector<SshHop>& hops, std::size_t count) {
  std::string key;
  for (std::size_t i = 0; i < count; ++i)
    key +=
        hops[i].options.user + "@" + hops[i].options.host + ":" + std::to_string(hops[i].options.port) + " ";
  return key;
}

/// What the key of a hop is remembered by: the hops before it count, since two sites may use one address.
std::string pinNameOf(const std::vector<SshHop>& hops, std::size_t at) {
  std::string name = "ssh ";
  for (std::size_t i = 0; i <= at; ++i)
    name += (i == 0 ? "" : " > ") + hops[i].options.host + ":" + std::to_string(hops[i].options.port);
  return name;
}

}  // namespace

/// A connection that is being opened; others wait for its end, each on his own executor.
struct SshPool::Opening {
  struct Waiter {
    explicit Waiter(const Executor& e) : on(e), over(e) {}
    Executor on;
    Signal over;
  };
  Task<void> ended() {
    const Executor here = co_await asio::this_coro::executor;
    auto self = std::make_shared<Waiter>(here);
    if (!joins(self)) co_return;
    co_await self->over.wait();
  }
  void end() {
    const std::lock_guard held(lock);
    isOver = true;
    for (const auto& w : waiters) post(w->on, [w] { w->over.notify(); });
    waiters.clear();
  }

 private:
  bool joins(const std::shared_ptr<Waiter>& waiter) {
    const std::lock_guard held(lock);
    if (!isOver) waiters.push_back(waiter);
    return !isOver;
  }
  std::mutex lock;
  bool isOver = false;
  std::vector<std::shared_ptr<Waiter>> waiters;
};

std::shared_ptr<SshPool::Opening> SshPool::openingElsewhere(const std::string& key) {
  const std::lock_guard held(lock_);
  auto& slot = opening_[key];
  if (slot) return slot;
  slot = std::make_shared<Opening>();
  return nullptr;
}

void SshPool::end(const std::string& key) {
  std::shared_ptr<Opening> opening;
  {
    const std::lock_guard held(lock_);
    const auto at = opening_.find(key);
    opening = std::move(at->second);
    opening_.erase(at);
  }
  opening->end();
}

StreamPtr keeping(StreamPtr stream, std::shared_ptr<void> what) {
  return std::make_unique<HeldStream>(std::move(stream), std::move(what));
}

std::shared_ptr<SshConnection> SshPool::find(const std::string& key) {
  const std::lock_guard held(lock_);
  const auto at = open_.find(key);
  auto connection = at == open_.end() ? nullptr : at->second.lock();
  return connection && connection->alive() ? connection : nullptr;
}

void SshPool::keep(const std::string& key, const std::shared_ptr<SshConnection>& connection) {
  const std::lock_guard held(lock_);
  open_[key] = connection;
}

Task<std::shared_ptr<SshConnection>> SshPool::connect(std::vector<SshHop> hops,
                                                      std::shared_ptr<TrustStore> trust, Asker& asker,
                                                      RouteFacts& facts, ConnectFindings* findings) {
  const Executor here = co_await asio::this_coro::executor;
  facts.hops.clear();
  for (const SshHop& hop : hops) facts.hops.push_back({hop.name, false, ""});
  std::shared_ptr<SshConnection> last;
  for (std::size_t i = 0; i < hops.size(); ++i) {
    const SshHop& hop = hops[i];
    const std::string key = keyOf(hops, i + 1);
    while (const std::shared_ptr<Opening> elsewhere = openingElsewhere(key)) co_await elsewhere->ended();
    const std::shared_ptr<void> ends(nullptr, [self = shared_from_this(), key](void*) { self->end(key); });
    // Looked for only now: whoever opened it kept it before he ended.
    if (auto have = find(key)) {
      last = have;
      facts.hops[i] = {hop.name, true, "shared, " + have->ciphers()};
      continue;
    }
    try {
      StreamPtr below;
      if (last) {
        StreamPtr tunnel = co_await last->forward(hop.options.host, hop.options.port);
        below = keeping(std::move(tunnel), last);
      } else
        below = co_await connectTcp(hop.options.host, static_cast<std::uint16_t>(hop.options.port),
                                    hop.options.limit, findings);
      const Executor strand = newStrand_();
      auto questions = std::make_shared<Questions>(here, asker, trust, hop, pinNameOf(hops, i));
      auto opened = co_await SshConnection::open(strand, std::move(below), hop.options, questions);
      if (questions->rememberKey) co_await opened->remember();
      if (questions->toKeep && hop.remember) hop.remember(*questions->toKeep);
      facts.hops[i] = {hop.name, true, "signed in with " + opened->signedInWith()};
      last = opened;
    } catch (const Error& e) {
      facts.hops[i].found = e.detail();
      throw Error(
          e.kind(), e.detail(),
          i + 1 < hops.size() || hops.size() > 1 ? e.where() + ", hop " + std::to_string(i + 1) : e.where());
    }
    keep(key, last);
  }
  co_return last;
}

}  // namespace kw
