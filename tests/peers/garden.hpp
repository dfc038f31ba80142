// A gateway with a machine's screen and a line of text behind it, and what a browser does there.
#pragma once
#include <openssl/evp.h>

#include "gate/gate.hpp"
#include "lab/host.hpp"
#include "lab/scenario.hpp"
#include "tests/peers/browser.hpp"

namespace kw::test {

using namespace kw::gate;

/// Time that can be made to stand still for a guest, whose picture then moves no more.
class HeldClock : public Clock {
 public:
  [[nodiscard]] TimePoint now() const override {
    const std::lock_guard held(mutex_);
    return still_ ? *still_ : systemClock()->now();
  }
  Task<void> sleep(std::chrono::nanoseconds time) override { return systemClock()->sleep(time); }
  void hold() {
    const TimePoint at = systemClock()->now();
    const std::lock_guard held(mutex_);
    still_ = at;
  }

 private:
  mutable std::mutex mutex_;
  std::optional<TimePoint> still_;
};

struct Garden {
  Garden() {
    lab::ConsolePlan plan;
    plan.guest.name = "mist-bench";
    plan.guest.scene = lab::SceneKind::MistBench;
    plan.options.name = "mist-bench";
    console = std::make_unique<lab::Console>(runtime.strand(), clock, std::make_shared<lab::Fonts>(), plan);
    console->start(true);
    lab::TextServicePlan line;
    line.kind = lab::TextServicePlan::Kind::Telnet;
    line.address = "127.0.0.1";
    line.make = [] { return lab::irrigationMenu(); };
    text = std::make_unique<lab::TextService>(runtime.strand(), systemClock(), line);
    text->start();
    tools.store = openSqliteStore(folder.path / "records.sqlite");
    tools.vault = openVault(folder.path / "vault");
    add("mist-bench", "screen", "vnc://127.0.0.1:" + std::to_string(console->port()));
    add("irrigation-plc", "menu", "telnet://127.0.0.1:" + std::to_string(text->port()));
    options.port = 0;
    options.state = folder.path / "gate";
    open();
    gate->store().addAccount("duty", "duty-at-the-gate", Role::Keeper);
    gate->store().addAccount("night volunteer", "volunteers-drive", Role::Drive);
  }
  ~Garden() {
    gate.reset();
    text.reset();
    console->stop();
    runtime.stop();
  }
  void open() {
    gate = std::make_unique<Gate>(runtime, options, tools);
    gate->start();
    options.port = gate->port();
  }
  Id add(const std::string& name, const std::string& label, const std::string& address) {
    Id id = 0;
    tools.store->commit("add", [&](StoreWriter& w) {
      Machine m;
      m.name = name;
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = label, e.address = address;
      w.put(e);
      id = e.id;
    });
    return id;
  }
  [[nodiscard]] std::string url() const { return "https://127.0.0.1:" + std::to_string(gate->port()) + "/"; }
  /// What the guest's note field holds.
  std::string note() {
    std::string out;
    console->withGuest([&](lab::Guest& g) {
      g.key(0xffe3, true);
      g.key('c', true);
      out = g.takeCopied();
      g.key(0xffe3, false);
    });
    return out;
  }

  TemporaryFolder folder;
  Runtime runtime{2};
  std::shared_ptr<HeldClock> clock = std::make_shared<HeldClock>();
  std::unique_ptr<lab::Console> console;
  std::unique_ptr<lab::TextService> text;
  OpeningTools tools;
  GateOptions options;
  std::unique_ptr<Gate> gate;
};

/// `url`: another way to the gateway's page than straight.
inline void signIn(Browser& b, const Garden& g, const std::string& name, const std::string& password,
                   const std::string& url = "") {
  b.go(url.empty() ? g.url() : url);
  REQUIRE(b.until("!document.getElementById('signin').hidden"));
  b.type("#name", name);
  b.type("#password", password);
  b.click("#signin button");
  REQUIRE(b.until("document.querySelectorAll('.machine').length > 0"));
}

inline void openMachine(Browser& b, const std::string& name) {
  REQUIRE(
      b.until("[...document.querySelectorAll('.machine')].some(m => m.querySelector('b').textContent === '" +
              name + "')"));
  b.run(
      "[...document.querySelectorAll('.machine')].find(m => m.querySelector('b').textContent === "
      "arguments[0]).querySelector('.chip').click()",
      {name});
}

inline const char* const kPictureLives =
    "document.querySelector('#screen') && document.querySelector('.foot').textContent.includes('fps')";

/// SHA-256 of the canvas's pixels, RGBA.
inline std::string canvasDigest(Browser& b) {
  return b.await(
      R"((async () => { const c = document.getElementById('screen'), k = new OffscreenCanvas(c.width, c.height), x = k.getContext('2d', {willReadFrequently: true});
    x.drawImage(c, 0, 0); const d = await crypto.subtle.digest('SHA-256', x.getImageData(0, 0, c.width, c.height).data);
    return c.width + 'x' + c.height + ' ' + [...new Uint8Array(d)].map(v => v.toString(16).padStart(2, '0')).join(''); })())");
}

inline std::string digestOf(const Framebuffer& f) {
  Bytes rgba;
  rgba.reserve(static_cast<std::size_t>(f.width()) * static_cast<std::size_t>(f.height()) * 4);
  for (int y = 0; y < f.height(); ++y)
    for (int x = 0; x < f.width(); ++x) {
      const Pixel p = f.pixel(x, y);
      for (const int shift : {16, 8, 0}) rgba.push_back(static_cast<Byte>(p >> shift));
      rgba.push_back(255);
    }
  Byte digest[32];
  unsigned size = sizeof digest;
  EVP_Digest(rgba.data(), rgba.size(), digest, &size, EVP_sha256(), nullptr);
  return std::to_string(f.width()) + "x" + std::to_string(f.height()) + " " + hex(ByteView(digest, size));
}

}  // namespace kw::test
