// RDP client and server joined in memory, with what each of them heard.
#pragma once
#include "rdp/client.hpp"
#include "rdp/server.hpp"
#include "tests/support.hpp"

namespace kw::test {

using namespace kw::rdp;

/// Fetches an offer's text into `out`, on the strand.
inline void fetchText(Clip& clip, const Executor& strand, std::string* out) {
  clip.fetch(ClipForm::Text, [strand, out](std::optional<Bytes> text) {
    if (text) post(strand, [out, t = std::string(text->begin(), text->end())] { *out = t; });
  });
}

struct Seen : ClientEvents {
  Executor strand;
  std::shared_ptr<Clip> clip;
  SignIn answer{"duty", "fern-house", SecretUse::Unknown};
  bool leavesOut = false, trusts = true, goesOn = true;
  std::vector<SignInRequest> asked;
  std::vector<PeerCertificate> certificates;
  std::vector<std::string> plains;
  Agreed agreed;
  bool isOpen = false;
  int canResize = 0;
  Size size;
  std::vector<Rect> monitors;
  std::vector<SampleForm> sounds;
  Bytes samples;
  Region region = Region::exact();
  rdp::Cursor cursor;
  std::string text, said;
  int bells = 0;

  Task<std::optional<SignIn>> signIn(SignInRequest request) override {
    asked.push_back(request);
    if (leavesOut) co_return std::nullopt;
    co_return answer;
  }
  Task<bool> trust(PeerCertificate c) override {
    certificates.push_back(c);
    co_return trusts;
  }
  Task<bool> plain(std::string method) override {
    plains.push_back(method);
    co_return goesOn;
  }
  void opened(const Agreed& a) override { agreed = a, isOpen = true; }
  void pictureResized(Size s, const std::vector<Rect>& m) override { size = s, monitors = m, region.clear(); }
  void damaged(const Region& r) override { region.add(r); }
  void cursorChanged(const rdp::Cursor& c) override { cursor = c; }
  void bell() override { ++bells; }
  void clipCame(std::shared_ptr<Clip> c) override { clip = c, fetchText(*c, strand, &text); }
  void resizable(int most) override { canResize = most; }
  void soundBegins(SampleForm form) override { sounds.push_back(form); }
  void sound(ByteView s) override { samples.insert(samples.end(), s.begin(), s.end()); }
  void told(const std::string& s) override { said = s; }
};

struct Desk : ServerEvents {
  Executor strand;
  std::shared_ptr<Clip> clip;
  std::vector<std::pair<std::uint32_t, bool>> keys;
  std::u32string characters;
  std::vector<std::pair<Point, unsigned>> pointers;
  std::string text;
  NtlmAccount account;
  std::shared_ptr<Framebuffer> picture;
  Server* server = nullptr;
  void signedIn(const NtlmAccount& a) override { account = a; }
  void informed(const ClientInfo& told) override { info = told; }
  ClientInfo info;
  void scanCode(std::uint32_t code, bool down) override { keys.emplace_back(code, down); }
  void character(char32_t c, bool down) override {
    if (down) characters += c;
  }
  void pointer(Point at, unsigned buttons) override { pointers.emplace_back(at, buttons); }
  void clipCame(std::shared_ptr<Clip> c) override { clip = c, fetchText(*c, strand, &text); }
  std::vector<Rect> layout;  ///< as wanted last
  bool layoutWanted(const std::vector<Rect>& monitors) override {
    layout = monitors;
    Rect all;
    for (const Rect& m : monitors) all = all.united(m);
    const Size size = all.size();
    {
      const Framebuffer next = colourfulPicture(size, 3);
      const auto lock = picture->lock();
      picture->resize(size);
      picture->put(picture->rect(), next.row(0));
    }
    server->resized(monitors);
    return true;
  }
};

inline const MadeCertificate& certificate() {
  static const MadeCertificate made = makeSelfSigned("fernery");
  return made;
}

class Bench {
 public:
  explicit Bench(bool trickle = false) : trickle_(trickle) {
    server.certificate = certificate();
    server.account = [](const NtlmAccount& a) {
      return a.user == "duty"      ? KnownAccount{"fern-house", 0}
             : a.user == "expired" ? KnownAccount{"", 0xc0000071}
                                   : KnownAccount{"", 0xc0000064};
    };
    client.host = "fernery";
  }
  ~Bench() { runtime.stop(); }

  void open() {
    seen.strand = desk.strand = strand;
    shown = std::make_shared<Framebuffer>(Size{10, 10});
    *shown = colourfulPicture({320, 200});
    desk.picture = shown;
    visitor = std::make_unique<Client>(strand, systemClock(), seen_, client, seen);
    spawn(
        strand,
        [this]() -> Task<void> {
          Client::Dial dialling = [this]() -> Task<StreamPtr> { co_return dial(); };
          co_await visitor->run(std::move(dialling));
        },
        [this](std::exception_ptr e) {
          const std::lock_guard held(mutex);
          try {
            std::rethrow_exception(e);
          } catch (const Error& error) {
            end = error;
          }
        });
  }
  bool live() {
    return eventually(
        [this] { return on([this] { return seen.isOpen && seen.region.covers(seen_->rect()); }); });
  }
  std::optional<Error> ended() {
    eventually([this] {
      const std::lock_guard held(mutex);
      return end.has_value();
    });
    const std::lock_guard held(mutex);
    return end;
  }
  /// Runs on the strand and waits.
  template <typename F>
  std::invoke_result_t<F> on(F what) {
    std::promise<decltype(what())> done;
    post(strand, [&] { done.set_value(what()); });
    return done.get_future().get();
  }
  template <typename F>
  bool until(F what) {
    return eventually([&] { return on(what); });
  }

  ClientOptions client;
  ServerOptions server;
  Seen seen;
  Desk desk;
  std::shared_ptr<Framebuffer> seen_ = std::make_shared<Framebuffer>();
  std::shared_ptr<Framebuffer> shown;
  std::unique_ptr<Client> visitor;
  std::shared_ptr<Server> host;
  int dials = 0;
  Runtime runtime{1};
  Executor strand = runtime.strand();

 private:
  StreamPtr dial() {
    ++dials;
    auto [a, b] = memoryPair(strand);
    host = std::make_shared<Server>(strand, shown, server, desk);
    desk.server = host.get();
    spawn(strand, [serving = host, other = std::make_shared<StreamPtr>(std::move(b))]() -> Task<void> {
      co_await serving->run(std::move(*other));
    });
    if (trickle_) return std::make_unique<Trickle>(std::move(a));
    return std::move(a);
  }
  bool trickle_;
  std::mutex mutex;
  std::optional<Error> end;
};

}  // namespace kw::test
