// Visits in a real browser: slow lines, several screens, the door, recordings.
#include "credential/one_time_code.hpp"
#include "gate/recording.hpp"
#include "tests/busy_machine.hpp"
#include "tests/peers/garden.hpp"
#include "tests/peers/relay.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// What the gateway itself has of it is what it shows, whatever it gives on.
void addLossless(Garden& g, const std::string& name, const std::string& address) {
  const Id way = g.add(name, "screen", address);
  g.tools.store->commit("exact", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, way}, "screen.quality", "lossless");
  });
}

}  // namespace

TEST_CASE("In a browser: over a slow line the picture is coarser while it moves, and exact once it is still",
          "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  BusyMachine bees;
  addLossless(g, "bee-camera", bees.address());
  Relay cable(g.gate->port());
  cable.narrow(150'000);
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate", "https://127.0.0.1:" + std::to_string(cable.port()) + "/");
  openMachine(b, "bee-camera");
  REQUIRE(b.until(kPictureLives));
  bees.busy = true;
  const std::string figures = "document.querySelector('.foot [data-level]').dataset";
  CHECK(b.until(figures + ".level > 0", std::chrono::seconds(30)));
  CHECK(b.text(".foot").find("coarser while it moves (slow line)") != std::string::npos);
  // It keeps up instead of piling up: what is asked comes back within moments.
  CHECK(b.until("parseInt(document.querySelector('.bar').textContent.match(/(\\d+) ms/)?.[1]) < 1500",
                std::chrono::seconds(20)));
  // The machine stops moving: the last picture, sharp to the last pixel.
  bees.busy = false;
  const auto settled = [&] {
    std::string truth;
    bees.look([&](const Framebuffer& picture) { truth = digestOf(picture); });
    return canvasDigest(b) == truth;
  };
  CHECK(eventually(settled, std::chrono::seconds(60)));
  CHECK(b.until(figures + ".lossy === 'false'"));
  // Who wants it exact has it so, whatever the line; the browser remembers.
  b.run(
      "[...document.querySelectorAll('.foot button')].find(k => "
      "k.textContent.startsWith('picture')).click()");
  CHECK(b.until(figures + ".level === '0'"));
  CHECK(b.text(".foot").find("always exact") != std::string::npos);
  g.gate.reset();
}

TEST_CASE("In a browser: a machine's screens one by one, and in windows of their own", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  lab::ConsolePlan plan;
  plan.guest.name = "propagation-bench";
  plan.guest.twoScreens = true;
  plan.guest.signsInAlone = std::chrono::milliseconds(0);
  lab::Console bench(g.runtime.strand(), g.clock, std::make_shared<lab::Fonts>(), plan);
  bench.start(true);
  addLossless(g, "propagation-bench", "vnc://127.0.0.1:" + std::to_string(bench.port()));
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, "propagation-bench");
  REQUIRE(b.until(kPictureLives));
  REQUIRE(b.until("!document.querySelector('.bar button[title^=\"The screens\"]').hidden"));
  std::vector<Screen> screens;
  bench.withGuest([&](lab::Guest& guest) { screens = guest.screens(); });
  REQUIRE(screens.size() == 2);
  const Rect second = screens[1].area;
  b.click(".bar button[title^='The screens']");
  REQUIRE(b.until("document.querySelector('[data-only=\"1\"]')"));
  b.click("[data-only='1']");
  CHECK(b.until("(f => Math.abs(f.clientWidth / f.clientHeight - " + std::to_string(second.width) + "/" +
                std::to_string(second.height) + ") < 0.01)(document.querySelector('.frame'))"));
  // A click in it is a click on that screen.
  const auto pointerAt = [&] {
    Point at;
    bench.withGuest([&](lab::Guest& guest) { at = guest.pointerAt(); });
    return at;
  };
  b.click(".frame");
  CHECK(eventually([&] { return std::abs(pointerAt().x - (second.x + second.width / 2)) <= 2; }));
  // The first in a window of its own: its pixels, and its pointer.
  g.clock->hold();
  b.click(".bar button[title^='The screens']");
  b.click("[data-own='0']");
  b.window(1);
  REQUIRE(b.until("document.querySelector('canvas')"));
  const Rect first = screens[0].area;
  b.run("document.querySelector('canvas').id = 'screen'");
  CHECK(eventually(
      [&] {
        Framebuffer truth(Size{first.width, first.height});
        bench.withGuest([&](lab::Guest& guest) {
          for (int y = 0; y < first.height; ++y)
            std::copy_n(guest.picture()->at(first.x, first.y + y), first.width, truth.row(y));
        });
        return canvasDigest(b) == digestOf(truth);
      },
      std::chrono::seconds(20)));
  b.click("canvas");
  CHECK(eventually([&] { return std::abs(pointerAt().x - (first.x + first.width / 2)) <= 2; }));
  // It goes with the visit.
  b.window(0);
  b.run("[...document.querySelectorAll('.bar button')].find(k => k.textContent === 'end').click()");
  CHECK(b.until("document.querySelector('[data-card=over]')"));
  CHECK(eventually([&] {
    try {
      b.window(1);
      return false;
    } catch (const std::exception&) {
      return true;
    }
  }));
  g.gate.reset();
  bench.stop();
}

TEST_CASE(
    "Two browsers where it is asked first: one waits at the door, is let in; the recording is played again",
    "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  const Snapshot s = g.tools.store->load();
  const Id mist = s.machineNamed("mist-bench")->id, plc = s.machineNamed("irrigation-plc")->id;
  g.tools.store->commit("policy", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, mist}, "gate.door", "ask");
    for (const Id machine : {mist, plc}) w.set({OwnerKind::Machine, machine}, "gate.record", "on");
  });
  Browser first, second;
  signIn(first, g, "duty", "duty-at-the-gate");
  openMachine(first, "mist-bench");
  REQUIRE(first.until(kPictureLives));
  CHECK(first.until("!document.querySelector('.recorded').hidden"));
  first.run("document.querySelector('.face').focus()");
  first.keys("kept for good");
  REQUIRE(eventually([&] { return g.note() == "kept for good"; }));
  signIn(second, g, "night volunteer", "volunteers-drive");
  openMachine(second, "mist-bench");
  REQUIRE(second.until("document.querySelector('[data-card=door]')"));
  CHECK(second.text("[data-card=door]").find("duty is at mist-bench") != std::string::npos);
  CHECK(second.run("return !!document.querySelector('#screen')") == false);
  REQUIRE(first.until("document.querySelector('.knock')"));
  CHECK(first.text(".knock").find("night volunteer") != std::string::npos);
  first.click(".letin");
  CHECK(second.until(kPictureLives));
  CHECK(second.until("!document.querySelector('[data-card=door]')"));
  CHECK(first.until("!document.querySelector('.knock')"));
  // A text is recorded in the same way.
  openMachine(second, "irrigation-plc");
  REQUIRE(second.until("document.querySelector('.term')?.textContent.includes('ready')"));
  second.run("[...document.querySelectorAll('.bar button')].find(k => k.textContent === 'end').click()");
  CHECK(second.until("document.querySelector('[data-card=over]')"));
  // The last picture, and its file, which has it once it grows no more.
  g.clock->hold();
  const auto size = [&] {
    std::uint64_t sum = 0;
    for (const RecordingFacts& f : recordingsIn(g.options.state / "recordings")) sum += f.bytes;
    return sum;
  };
  CHECK(eventually([&] {
    const std::uint64_t before = size();
    std::this_thread::sleep_for(std::chrono::milliseconds(700));  // three of the recording's pictures
    return size() == before;
  }));
  std::string truth;
  const auto settled = [&] {
    g.console->withGuest([&](lab::Guest& guest) { truth = digestOf(*guest.picture()); });
    return canvasDigest(first) == truth;
  };
  CHECK(eventually(settled, std::chrono::seconds(20)));
  first.run("[...document.querySelectorAll('.bar button')].find(k => k.textContent === 'end').click()");
  REQUIRE(first.until("document.querySelector('[data-card=over]')"));
  const auto play = [&](const std::string& machine) {
    first.click("#recordings");
    REQUIRE(first.until("document.querySelector('#recordingcard .play')"));
    first.run(
        "[...document.querySelectorAll('#recordingcard tr')].find(r => r.textContent.includes(arguments[0]))"
        ".querySelector('.play').click()",
        {machine});
    REQUIRE(first.until("document.querySelector('.foot [data-over]')", std::chrono::seconds(60)));
  };
  play("mist-bench");
  CHECK(first.text(".foot").find("The end.") != std::string::npos);
  CHECK(eventually([&] { return canvasDigest(first) == truth; }, std::chrono::seconds(10)));
  play("irrigation-plc");
  CHECK(first.until("document.querySelector('.term')?.textContent.includes('ready')"));
}

TEST_CASE("In a browser: a one-time code; the machine's picture follows the window", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  const std::string secret = *fromBase32(g.gate->store().startCodes("night volunteer"));
  Browser b;
  b.go(g.url());
  REQUIRE(b.until("!document.getElementById('signin').hidden"));
  const auto signInWith = [&](const std::string& code) {
    b.run("for (const id of ['name', 'password', 'code']) document.getElementById(id).value = ''");
    b.type("#name", "night volunteer");
    b.type("#password", "volunteers-drive");
    if (!code.empty()) b.type("#code", code);
    b.click("#signin button");
  };
  signInWith("");
  CHECK(b.until("document.getElementById('signbad').textContent.includes('not right')"));
  signInWith(timeCode(secret, nowSeconds()));
  REQUIRE(b.until("document.querySelectorAll('.machine').length > 0"));
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  const std::string fit = ".bar button[title^='Fit to']";
  b.click(fit);
  CHECK(b.text(fit) == "one to one");
  b.click(fit);
  CHECK(b.text(fit) == "follow");
  const auto follows = [&] {
    const int width = b.run("return document.querySelector('.face').clientWidth & ~1"),
              height = b.run("return document.querySelector('.face').clientHeight & ~1");
    Size size;
    g.console->withGuest([&](lab::Guest& guest) { size = guest.picture()->size(); });
    return size == Size{width, height};
  };
  CHECK(eventually(follows));
  b.size(900, 700);
  CHECK(eventually(follows));
}
