#include "rfb/sasl.hpp"

#include <openssl/crypto.h>
#include <sasl/sasl.h>

#include <cstring>
#include <mutex>

#include "base/error.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

namespace {

constexpr std::size_t kMostMechanisms = 4096, kMostMessage = 1 << 20;
constexpr unsigned kLeastSealing = 56;  ///< bits; what servers ask for without TLS
constexpr unsigned kBuffer = 8192;

/// The library's tables are not made for several threads; calls are short and never wait.
std::mutex& library() {
  static std::mutex mutex;
  return mutex;
}

int quiet(void*, int, const char*) { return SASL_OK; }

void startLibrary() {
  static const int started = [] {
    using Proc = int (*)(void);
    static sasl_callback_t callbacks[] = {
        {SASL_CB_LOG, reinterpret_cast<Proc>(reinterpret_cast<void (*)()>(quiet)), nullptr},
        {SASL_CB_LIST_END, nullptr, nullptr}};
    return sasl_client_init(callbacks);
  }();
  if (started != SASL_OK) throw Error(ErrorKind::Local, "the SASL library does not start");
}

/// One side of a SASL exchange; also seals what follows it.
class Connection {
 public:
  Connection(const std::string& host, bool overTls) {
    const std::lock_guard held(library());
    startLibrary();
    if (sasl_client_new("vnc", host.empty() ? "localhost" : host.c_str(), nullptr, nullptr, callbacks_, 0,
                        &connection_) != SASL_OK)
      throw Error(ErrorKind::Local, "the SASL library makes no connection");
    sasl_security_properties_t wanted{};
    wanted.maxbufsize = kBuffer;
    if (overTls) {
      const sasl_ssf_t outer = 256;
      sasl_setprop(connection_, SASL_SSF_EXTERNAL, &outer);
    } else {
      wanted.min_ssf = kLeastSealing;
      wanted.max_ssf = 100'000;
      wanted.security_flags = SASL_SEC_NOPLAINTEXT | SASL_SEC_NOANONYMOUS;
    }
    sasl_setprop(connection_, SASL_SEC_PROPS, &wanted);
  }
  ~Connection() {
    const std::lock_guard held(library());
    sasl_dispose(&connection_);
  }
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  struct Step {
    int result = SASL_FAIL;
    bool asks = false;     ///< fill in signIn and call again
    bool answers = false;  ///< there is something to send, perhaps of no bytes
    Bytes answer;
  };
  Step start(const std::string& offered, std::string& mechanism) {
    const std::lock_guard held(library());
    const char *out = nullptr, *name = nullptr;
    unsigned size = 0;
    sasl_interact_t* prompts = prompts_;
    const int result = sasl_client_start(connection_, offered.c_str(), &prompts, &out, &size, &name);
    if (name != nullptr) mechanism = name;
    return took(result, prompts, out, size);
  }
  Step step(const Bytes& challenge) {
    const std::lock_guard held(library());
    const char* out = nullptr;
    unsigned size = 0;
    sasl_interact_t* prompts = prompts_;
    const int result = sasl_client_step(connection_, reinterpret_cast<const char*>(challenge.data()),
                                        static_cast<unsigned>(challenge.size()), &prompts, &out, &size);
    return took(result, prompts, out, size);
  }
  /// Answers what the library asked for.
  void fillIn() {
    for (sasl_interact_t* p = prompts_; p != nullptr && p->id != SASL_CB_LIST_END; ++p) {
      const bool password = p->id == SASL_CB_PASS, user = p->id == SASL_CB_AUTHNAME;
      p->result = password ? signIn.password.c_str() : user ? signIn.user.c_str() : "";
      p->len = static_cast<unsigned>(password ? signIn.password.size() : user ? signIn.user.size() : 0);
    }
  }
  std::string trouble() {
    const std::lock_guard held(library());
    const char* said = sasl_errdetail(connection_);
    return said != nullptr ? cleanUtf8(said) : "";
  }
  /// Bits of the mechanism's own sealing; 0: none.
  unsigned sealing() {
    const std::lock_guard held(library());
    const void* value = nullptr;
    return sasl_getprop(connection_, SASL_SSF, &value) == SASL_OK ? *static_cast<const sasl_ssf_t*>(value)
                                                                  : 0;
  }
  Bytes encode(ByteView plain) {
    const std::lock_guard held(library());
    const char* out = nullptr;
    unsigned size = 0;
    if (sasl_encode(connection_, reinterpret_cast<const char*>(plain.data()),
                    static_cast<unsigned>(plain.size()), &out, &size) != SASL_OK)
      throw Error(ErrorKind::Local, "the SASL library does not seal a message");
    return {out, out + size};
  }
  Bytes decode(ByteView sealedText) {
    const std::lock_guard held(library());
    const char* out = nullptr;
    unsigned size = 0;
    if (sasl_decode(connection_, reinterpret_cast<const char*>(sealedText.data()),
                    static_cast<unsigned>(sealedText.size()), &out, &size) != SASL_OK)
      protocolBroken("SASL layer", "a message does not open: it was changed on its way");
    return {out, out + size};
  }
  /// The most that encode() takes at once.
  std::size_t mostPlain() {
    const std::lock_guard held(library());
    const void* value = nullptr;
    const bool told = sasl_getprop(connection_, SASL_MAXOUTBUF, &value) == SASL_OK;
    const unsigned most = told ? *static_cast<const unsigned*>(value) : 0;
    return std::clamp<std::size_t>(most, 256, 65536);
  }

  SignIn signIn;

 private:
  Step took(int result, sasl_interact_t* prompts, const char* out, unsigned size) {
    prompts_ = prompts;
    Step step;
    step.result = result;
    step.asks = result == SASL_INTERACT;
    step.answers = out != nullptr;
    if (out != nullptr) step.answer.assign(out, out + size);
    return step;
  }

  sasl_callback_t callbacks_[4] = {{SASL_CB_AUTHNAME, nullptr, nullptr},
                                   {SASL_CB_USER, nullptr, nullptr},
                                   {SASL_CB_PASS, nullptr, nullptr},
                                   {SASL_CB_LIST_END, nullptr, nullptr}};
  sasl_interact_t* prompts_ = nullptr;
  sasl_conn_t* connection_ = nullptr;
};

class SaslStream : public ByteStream {
 public:
  SaslStream(StreamPtr below, std::shared_ptr<Connection> sasl)
      : below_(std::move(below)), sasl_(std::move(sasl)), most_(sasl_->mostPlain()) {}
  Task<std::size_t> readSome(ByteSpan into) override {
    while (at_ == plain_.size()) {
      Bytes in(16 * 1024);
      const std::size_t n = co_await below_->readSome(in);
      plain_ = sasl_->decode(ByteView(in).first(n));
      at_ = 0;
    }
    const std::size_t n = std::min(into.size(), plain_.size() - at_);
    std::memcpy(into.data(), plain_.data() + at_, n);
    at_ += n;
    co_return n;
  }
  Task<void> write(ByteView bytes) override {
    while (!bytes.empty()) {
      const std::size_t n = std::min(bytes.size(), most_);
      const Bytes out = sasl_->encode(bytes.first(n));
      co_await below_->write(out);
      bytes = bytes.subspan(n);
    }
  }
  void close() noexcept override { below_->close(); }
  [[nodiscard]] bool sealed() const override { return true; }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }

 private:
  StreamPtr below_;
  std::shared_ptr<Connection> sasl_;
  std::size_t most_, at_ = 0;
  Bytes plain_;
};

Task<Bytes> readExactly(ByteStream& stream, std::size_t n) {
  Bytes out(n);
  for (std::size_t at = 0; at < n;) at += co_await stream.readSome(ByteSpan(out).subspan(at));
  co_return out;
}

Task<Bytes> readCounted(ByteStream& stream, std::size_t most, const char* what) {
  const Bytes head = co_await readExactly(stream, 4);
  const std::uint32_t size = loadBe32(head.data());
  if (size > most) protocolBroken(what, "announces " + std::to_string(size) + " bytes");
  co_return co_await readExactly(stream, size);
}

/// With a zero byte at its end, which is counted; nothing at all is a length of 0.
void putMessage(ByteWriter& w, const Connection::Step& step) {
  w.u32(step.answers ? static_cast<std::uint32_t>(step.answer.size() + 1) : 0);
  if (step.answers) w.bytes(step.answer).u8(0);
}

bool fine(const Connection::Step& step) { return step.result == SASL_OK || step.result == SASL_CONTINUE; }

[[noreturn]] void refused(Connection& sasl, const std::string& peer) {
  const std::string why = sasl.trouble();
  throw Error(ErrorKind::SignInFailed, "wrong user or password" + (why.empty() ? "" : " (" + why + ")"),
              peer);
}

}  // namespace

Task<SaslOutcome> saslSignIn(ByteStream& stream, std::string host, bool overTls,
                             std::function<Task<SignIn>(std::string mechanism)> ask) {
  auto sasl = std::make_shared<Connection>(host, overTls);
  const Bytes listed = co_await readCounted(stream, kMostMechanisms, "SASL mechanisms");
  const std::string offered = textOf(listed);
  SaslOutcome outcome;
  Connection::Step step = sasl->start(offered, outcome.mechanism);
  if (step.result == SASL_NOMECH)
    throw Error(ErrorKind::Unsupported,
                std::string("no SASL mechanism in common") + (overTls ? "" : " that seals the session") +
                    "; the server offers " + cleanUtf8(offered),
                stream.peer());
  for (int asked = 0; step.asks; ++asked) {
    if (asked == 0) sasl->signIn = co_await ask(outcome.mechanism);
    if (asked > 4) refused(*sasl, stream.peer());
    sasl->fillIn();
    step = sasl->start(offered, outcome.mechanism);
  }
  if (!fine(step)) refused(*sasl, stream.peer());
  ByteWriter first;
  first.u32(static_cast<std::uint32_t>(outcome.mechanism.size())).text(outcome.mechanism);
  putMessage(first, step);
  co_await stream.write(first.view());
  for (int rounds = 0;; ++rounds) {
    if (rounds > 50) protocolBroken("SASL", "the exchange does not end");
    Bytes challenge;
    bool complete = false;
    try {
      challenge = co_await readCounted(stream, kMostMessage, "SASL message");
      const Bytes over = co_await readExactly(stream, 1);
      complete = over[0] != 0;
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::ClosedByPeer) throw;
      refused(*sasl, stream.peer());  // servers hang up on a wrong password
    }
    if (!challenge.empty()) challenge.pop_back();  // its zero byte
    if (!complete || !challenge.empty()) {
      step = sasl->step(challenge);
      for (int asked = 0; step.asks; ++asked) {
        if (asked == 0 && sasl->signIn.user.empty() && sasl->signIn.password.empty())
          sasl->signIn = co_await ask(outcome.mechanism);
        if (asked > 4) refused(*sasl, stream.peer());
        sasl->fillIn();
        step = sasl->step(challenge);
      }
      if (!fine(step)) refused(*sasl, stream.peer());
    }
    if (complete) break;
    ByteWriter next;
    putMessage(next, step);
    co_await stream.write(next.view());
  }
  if (step.result != SASL_OK) refused(*sasl, stream.peer());
  if (!overTls) {
    if (sasl->sealing() < kLeastSealing)
      throw Error(ErrorKind::Unsupported, "the server's SASL mechanism does not seal the session",
                  stream.peer());
    outcome.seal = [sasl](StreamPtr below) -> StreamPtr {
      return std::make_unique<SaslStream>(std::move(below), sasl);
    };
  }
  co_return outcome;
}

}  // namespace kw::rfb
