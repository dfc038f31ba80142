#include "lab/text_service.hpp"

#include <list>

#include "base/error.hpp"
#include "lab/uart.hpp"
#include "line/telnet.hpp"

namespace kw::lab {

namespace {

struct Visitor {
  explicit Visitor(const Executor& on) : toSend(on) {}
  std::unique_ptr<ByteStream> stream;
  TelnetStream* telnet = nullptr;  ///< the stream, when it is one
  LineSettings listens;            ///< of its terminal server port
  bool viaServer = false;
  Bytes outbox;
  Signal toSend;
};

}  // namespace

struct TextService::State : std::enable_shared_from_this<TextService::State> {
  State(Executor on, std::shared_ptr<Clock> c, TextServicePlan p)
      : strand(std::move(on)),
        clock(std::move(c)),
        plan(std::move(p)),
        appliance(plan.make()),
        began(clock->now()) {}

  [[nodiscard]] Appliance::Time now() const {
    return std::chrono::duration_cast<Appliance::Time>(clock->now() - began);
  }

  void say(const std::string& text) {
    for (const auto& v : visitors) sayTo(*v, text);
  }
  void sayTo(Visitor& v, const std::string& text) {
    if (text.empty() || v.outbox.size() > (1U << 20)) return;
    LineErrors errors;
    const Bytes heard = v.viaServer ? overTheWire(viewOf(text), plan.line, v.listens, &errors)
                                    : Bytes(text.begin(), text.end());
    if (v.telnet != nullptr) v.telnet->noteErrors(errors);
    v.outbox.insert(v.outbox.end(), heard.begin(), heard.end());
    v.toSend.notify();
  }

  Task<void> accept() {
    auto self = shared_from_this();
    while (!stopped) {
      StreamPtr stream = co_await listener->accept();
      auto v = std::make_shared<Visitor>(strand);
      v->stream = wrap(std::move(stream), *v);
      visitors.push_back(v);
      sayTo(*v, appliance->greet(now()));
      spawn(
          strand, [self, v] { return self->serve(v); },
          [self, v](std::exception_ptr) {
            v->stream->close();
            self->visitors.remove(v);
          });
    }
  }

  std::unique_ptr<ByteStream> wrap(StreamPtr stream, Visitor& v) {
    if (plan.kind == TextServicePlan::Kind::Socket) return stream;
    TelnetServerOptions options;
    if (plan.kind == TextServicePlan::Kind::TerminalServer) {
      v.viaServer = true;
      ComPortEvents events;
      events.changed = [&v](LineSettings wanted) { return v.listens = wanted; };
      events.breakChanged = [this](bool on) {
        if (on) appliance->breakSeen(now());
      };
      options.comPort = events;
      options.echo = false;
    }
    auto telnet = telnetServer(std::move(stream), options);
    v.telnet = telnet.get();
    return telnet;
  }

  Task<void> serve(std::shared_ptr<Visitor> v) { co_await firstOf(readFrom(v), writeTo(v)); }
  Task<void> readFrom(std::shared_ptr<Visitor> v) {
    Bytes in(4096);
    for (;;) {
      const std::size_t n = co_await v->stream->readSome(in);
      Bytes heard(in.begin(), in.begin() + static_cast<std::ptrdiff_t>(n));
      if (v->viaServer) heard = overTheWire(heard, v->listens, plan.line);
      say(appliance->take(textOf(heard), now()));
    }
  }
  Task<void> writeTo(std::shared_ptr<Visitor> v) {
    for (;;) {
      while (v->outbox.empty()) co_await v->toSend.wait();
      const Bytes out = std::exchange(v->outbox, {});
      co_await v->stream->write(out);
    }
  }

  Task<void> tick() {
    auto self = shared_from_this();
    while (!stopped) {
      say(appliance->advance(now()));
      co_await clock->sleep(std::chrono::milliseconds(60));
    }
  }

  Executor strand;
  std::shared_ptr<Clock> clock;
  TextServicePlan plan;
  std::unique_ptr<Appliance> appliance;
  TimePoint began;
  std::unique_ptr<Listener> listener;
  std::list<std::shared_ptr<Visitor>> visitors;
  bool stopped = false;
};

TextService::TextService(Executor strand, std::shared_ptr<Clock> clock, TextServicePlan plan)
    : plan_(plan), state_(std::make_shared<State>(std::move(strand), std::move(clock), std::move(plan))) {}

TextService::~TextService() {
  post(state_->strand, [state = state_] {
    state->stopped = true;
    if (state->listener) state->listener->close();
    for (const auto& v : state->visitors) v->stream->close();
  });
}

void TextService::start() {
  if (plan_.kind == TextServicePlan::Kind::Socket) {
    std::error_code ignored;
    std::filesystem::remove(plan_.socket, ignored);  // left by a lab that was killed
    state_->listener = listenUnix(state_->strand, plan_.socket);
  } else {
    state_->listener = listenTcp(state_->strand, plan_.address, plan_.port);
    port_ = state_->listener->port();
  }
  spawn(state_->strand, [state = state_] { return state->accept(); });
  spawn(state_->strand, [state = state_] { return state->tick(); });
}

}  // namespace kw::lab
