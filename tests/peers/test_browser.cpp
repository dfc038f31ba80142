// The gateway in a real browser: what one sees, types and copies there.
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>

#include <fstream>

#include "base/file.hpp"
#include "gate/gate_client.hpp"
#include "lab/scenario.hpp"
#include "tests/hosted.hpp"
#include "tests/peers/garden.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/peers/relay.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::gate;

TEST_CASE(
    "In a browser: wrong and right password, a machine's screen, typed and seen, its keys, its clipboard, "
    "its end",
    "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Browser b;
  b.go(g.url());
  REQUIRE(b.until("!document.getElementById('signin').hidden"));
  b.type("#name", "duty");
  b.type("#password", "not-this-one");
  b.click("#signin button");
  CHECK(b.until("document.getElementById('signbad').textContent.includes('not right')"));
  signIn(b, g, "duty", "duty-at-the-gate");
  CHECK(b.until("document.getElementById('roster').textContent.includes('answers')"));
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  CHECK(b.text(".bar").find("plain from the gate") != std::string::npos);
  CHECK(b.text(".bar").find("you have the hand") != std::string::npos);
  b.run("document.querySelector('.face').focus()");
  b.keys("Check zone B");
  CHECK(eventually([&] { return g.note() == "Check zone B"; }));
  b.click(".bar button[title^='Text to']");
  b.type(".clipTo", "at 18:00");
  b.click("[data-card='clip'] .own");
  b.run("document.querySelector('.face').focus()");
  // What is copied travels by itself, so it may come after the first key; pasting again does no harm.
  CHECK(eventually([&] {
    b.keys("\xee\x80\x89v");  // WebDriver's Control, then v
    return g.note() == "at 18:00";
  }));
  bool desktop = true;
  b.click(".bar button[title^='Keys']");
  b.run(
      "[...document.querySelectorAll('.keys button')].find(k => k.textContent === "
      "'Ctrl+Alt+Delete').click()");
  CHECK(eventually([&] {
    g.console->withGuest([&](lab::Guest& guest) { desktop = guest.phase() == lab::Phase::Desktop; });
    return !desktop;
  }));
  b.run("[...document.querySelectorAll('.bar button')].find(k => k.textContent === 'end').click()");
  CHECK(b.until("document.querySelector('[data-card=over]')"));
}

TEST_CASE("In a browser: QEMU's picture on the canvas equals the guest's own, pixel for pixel",
          "[browser][qemu]") {
  if (!Browser::available() || !have("/boot/memtest86+x64.bin")) return;
  Garden g;
  Qemu qemu({"-m", "64", "-kernel", "/boot/memtest86+x64.bin"}, "", true);
  REQUIRE(eventually([&] { return qemu.screendump().width() > 0; }));
  g.add("seed-bank", "screen", qemu.address());
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, "seed-bank");
  REQUIRE(b.until(kPictureLives));
  stopWhenPainted(qemu);
  const std::string truth = digestOf(qemu.screendump());
  CHECK(eventually([&] { return canvasDigest(b) == truth; }, std::chrono::seconds(15)));
}

TEST_CASE("In a browser: a line of text, typed and answered, its rows as the terminal has them",
          "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, "irrigation-plc");
  REQUIRE(b.until(
      "document.querySelector('.term') && document.querySelector('.term').textContent.includes('ready')"));
  b.run("document.querySelector('.face').focus()");
  const std::string before = b.text(".term");
  b.keys("1\xee\x80\x87");  // Enter
  CHECK(b.until("document.querySelector('.term').textContent.length > " + std::to_string(before.size() / 2)));
  CHECK(eventually([&] { return b.text(".term") != before; }));
}

TEST_CASE("In a browser: a shell with a key file chosen there, used for this sign-in and kept nowhere",
          "[browser][ssh]") {
  if (!Browser::available() || !lab::SshServer::available()) return;
  Garden g;
  lab::SshServerPlan plan{g.folder.path / "gatehouse", "127.0.0.1", static_cast<std::uint16_t>(freeTcpPort()),
                          ""};
  lab::SshServer server(plan);
  const Id way = g.add("gatehouse", "shell",
                       "ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(plan.port));
  g.tools.store->pin("ssh 127.0.0.1:" + std::to_string(plan.port), server.hostKeySha256());
  g.tools.store->commit("no keys here", [&](StoreWriter& w) {
    for (const char* key : {"ssh.agent", "ssh.useconfig"}) w.set({OwnerKind::WayIn, way}, key, "off");
  });
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, "gatehouse");
  REQUIRE(b.until("document.querySelector('.keyfile')"));
  b.type(".keyfile", server.clientKey());
  REQUIRE(
      b.until("document.querySelector('.term') && /[$#]/.test(document.querySelector('.term').textContent)"));
  CHECK(b.until("document.querySelector('.bar').textContent.includes('sealed from the gate')"));
  b.run("document.querySelector('.face').focus()");
  b.keys("echo mist-$((40+2))\xee\x80\x87");
  CHECK(b.until("document.querySelector('.term').textContent.includes('mist-42')"));
  CHECK(b.until(
      "document.querySelector('.foot').textContent.match(/^(\\d+) columns/) && Number(RegExp.$1) > 90"));
  // Nothing of the key is in what the gateway keeps.
  const std::string key = textOf(readFile(server.clientKey())), part = key.substr(key.size() / 2, 40);
  for (const auto& entry : std::filesystem::recursive_directory_iterator(g.options.state))
    if (entry.is_regular_file()) CHECK(textOf(readFile(entry.path())).find(part) == std::string::npos);
}

TEST_CASE(
    "Two browsers on one machine: the hand asked for and given; a pass used and ended; the gateway back "
    "after its end",
    "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Browser first, second;
  signIn(first, g, "duty", "duty-at-the-gate");
  openMachine(first, "mist-bench");
  REQUIRE(first.until(kPictureLives));
  signIn(second, g, "night volunteer", "volunteers-drive");
  openMachine(second, "mist-bench");
  REQUIRE(second.until(kPictureLives));
  CHECK(second.until("document.querySelector('.bar').textContent.includes('duty has the hand')"));
  CHECK(first.until("document.querySelector('.foot').textContent.includes('night volunteer')"));
  second.click(".askHand");
  REQUIRE(first.until("document.querySelector('.ask')"));
  first.click(".ask .give");
  CHECK(second.until("document.querySelector('.bar').textContent.includes('you have the hand')"));
  second.run("document.querySelector('.face').focus()");
  second.keys("volunteer");
  CHECK(eventually([&] { return g.note() == "volunteer"; }));
  first.run("document.querySelector('.face').focus()");
  first.keys("xyz");  // without the hand
  second.keys("!");
  CHECK(eventually([&] { return g.note() == "volunteer!"; }));

  // The keeper writes to the second, from a window.
  Id way = 0, visit = 0;
  std::mutex mutex;
  ClientPlan plan;
  plan.host = "127.0.0.1", plan.port = g.gate->port(), plan.user = "duty", plan.password = "duty-at-the-gate";
  plan.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
  const auto keeper = std::make_shared<GateClient>(g.runtime.strand(), plan, [&](const ClientView& view) {
    const std::lock_guard held(mutex);
    for (const auto& m : view.machines)
      for (const auto& w : m.at("ways"))
        for (const auto& v : w.value("visits", nlohmann::json::array()))
          if (v.at("who") == "night volunteer") way = w.at("id"), visit = v.at("visit");
  });
  keeper->start();
  REQUIRE(eventually([&] {
    const std::lock_guard held(mutex);
    return visit != 0;
  }));
  keeper->send({{"write", {{"way", way}, {"visit", visit}, {"text", "the valve is being turned"}}}});
  CHECK(second.until(
      "document.querySelector('[data-card=written]')?.textContent.includes('the valve is being turned')"));
  second.click("[data-card=written] button");
  CHECK(second.until("!document.querySelector('[data-card=written]')"));
  keeper->stop();

  // A pass for the second, instead of an account.
  Pass pass;
  pass.wayIn = g.tools.store->load().endpointsOf(g.tools.store->load().machineNamed("mist-bench")->id)[0]->id;
  pass.machine = "mist-bench", pass.label = "screen", pass.note = "seed desk", pass.from = nowSeconds(),
  pass.until = pass.from + 600;
  const std::string token = g.gate->store().makePass(pass);
  second.click("#out");
  second.go(g.url() + "#pass=" + token);
  REQUIRE(second.until(kPictureLives));
  CHECK(second.text(".bar").find("only looks") != std::string::npos);
  CHECK(second.run("return document.querySelectorAll('.machine').length") == 1);
  CHECK(second.run("return location.hash") == "");
  g.gate->store().endPass(pass.id);
  CHECK(second.until(
      "document.querySelector('[data-card=over]') || !document.getElementById('signin').hidden"));

  // Killed and started again: the page comes back to its machine by itself.
  g.gate.reset();
  CHECK(
      first.until("document.querySelector('.face').textContent.includes('lost') || "
                  "document.querySelector('[data-card=over]')"));
  g.open();
  REQUIRE(first.until(
      "document.querySelectorAll('.machine').length > 0 && !document.getElementById('main').hidden",
      std::chrono::seconds(30)));
  openMachine(first, "mist-bench");
  CHECK(first.until(kPictureLives, std::chrono::seconds(30)));
}

TEST_CASE("In a browser: a small screen by touch shows list, then machine", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Browser b(500, 844);  // the narrowest window that Chromium makes
  signIn(b, g, "duty", "duty-at-the-gate");
  CHECK(b.run("return getComputedStyle(document.getElementById('stage')).display") == "none");
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  CHECK(b.run("return getComputedStyle(document.getElementById('roster')).display") == "none");
  CHECK(b.run("return document.documentElement.scrollWidth <= innerWidth") == true);
  b.click(".bar .back");
  CHECK(b.run("return getComputedStyle(document.getElementById('roster')).display") != "none");
}

TEST_CASE("QEMU's own WebSocket: its picture equals its screendump, pixel for pixel", "[qemu][browser]") {
  if (!have("/usr/bin/qemu-system-x86_64") || !have("/boot/memtest86+x64.bin")) return;
  const int port = freeTcpPort(), web = freeTcpPort();
  Qemu qemu({"-m", "64", "-kernel", "/boot/memtest86+x64.bin", "-vnc",
             "127.0.0.1:" + std::to_string(port - 5900) + ",websocket=" + std::to_string(web) + ",id=web"});
  REQUIRE(eventually([&] { return qemu.screendump().width() > 0; }));
  Viewer viewer([&](const Executor& strand) {
    return makeSession(strand, parseAddress("vnc+ws://127.0.0.1:" + std::to_string(web)), "mist-bench",
                       builtInSettings(), {}, {});
  });
  REQUIRE(viewer.live());
  qemu.stop();
  CHECK(viewer.shows(qemu.screendump()));
  CHECK_FALSE(viewer.route().sealed);
}

// No test, and not run with them: the pictures of the page that `./run demo` and `./run screenshots` take.
TEST_CASE("Pictures of the running demo's gateway", "[.][tour]") {
  const char *url = getenv("KETTLE_TOUR_URL"), *file = getenv("KETTLE_TOUR_PASSWORD"),
             *folder = getenv("KETTLE_TOUR_FOLDER");
  REQUIRE((url != nullptr && file != nullptr && folder != nullptr));
  const std::string text = textOf(readFile(file)), password = text.substr(0, text.find('\n'));
  const auto page = [&](Browser& b) {
    b.go(url);
    REQUIRE(b.until("!document.getElementById('signin').hidden"));
    b.type("#name", "duty");
    b.type("#password", password);
    b.click("#signin button");
    REQUIRE(
        b.until("[...document.querySelectorAll('.machine')].filter(m => "
                "m.textContent.includes('answers')).length > 10"));
    openMachine(b, "mist-bench");
    REQUIRE(b.until(kPictureLives));
  };
  Browser wide(1280, 943);
  wide.colours("dark");
  wide.size(1280, 800);
  page(wide);
  wide.save(std::filesystem::path(folder) / "browser.png");
  Browser narrow;
  narrow.colours("light");
  narrow.size(390, 844);
  page(narrow);
  narrow.click(".bar button[title^='Keys']");
  narrow.save(std::filesystem::path(folder) / "browser-phone.png");
}

TEST_CASE("In a browser: the network cut for ten seconds, and the same picture afterwards", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Relay cable(g.gate->port());
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate", "https://127.0.0.1:" + std::to_string(cable.port()) + "/");
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  b.run("document.querySelector('.face').focus()");
  b.keys("before ");
  REQUIRE(eventually([&] { return g.note() == "before "; }));
  cable.pull();
  // Meanwhile the machine goes on.
  g.console->withGuest([](lab::Guest& guest) {
    for (const char c : std::string("meanwhile ")) {
      guest.key(static_cast<std::uint32_t>(c), true);
      guest.key(static_cast<std::uint32_t>(c), false);
    }
  });
  std::this_thread::sleep_for(std::chrono::seconds(10));  // the cut itself
  cable.putBack();
  REQUIRE(b.until(kPictureLives, std::chrono::seconds(30)));
  // Pixel for pixel, as soon as both stand still (the guest's cursor blinks).
  CHECK(eventually(
      [&] {
        std::string truth;
        g.console->withGuest([&](lab::Guest& guest) { truth = digestOf(*guest.picture()); });
        return canvasDigest(b) == truth;
      },
      std::chrono::seconds(30)));
  b.run("document.querySelector('.face').focus()");
  b.keys("after");
  CHECK(eventually([&] { return g.note() == "before meanwhile after"; }));
}

TEST_CASE("In a browser: what is copied on the machine comes out; what policy switches off says why",
          "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  const Snapshot s = g.tools.store->load();
  const Id closed = s.machineNamed("irrigation-plc")->id, mist = s.machineNamed("mist-bench")->id;
  g.tools.store->commit("policy", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, closed}, "gate.access", "off");
  });
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  CHECK(
      b.until("[...document.querySelectorAll('.chip')].some(c => c.disabled && "
              "/whoever edits its sheet/.test(c.title))"));
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  b.run("document.querySelector('.face').focus()");
  b.keys("zone C");
  REQUIRE(eventually([&] { return g.note() == "zone C"; }));
  b.keys(
      "\xee\x80\x89"
      "c");  // WebDriver's Control, then c: the guest copies its note
  b.click(".bar button[title^='Text to']");
  CHECK(b.until(
      "document.querySelector('.clipFrom') && document.querySelector('.clipFrom').value === 'zone C'"));
  // From now on nothing comes out of it, for visits that are open, too.
  g.tools.store->commit("policy", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, mist}, "gate.clipboard", "off");
  });
  CHECK(b.until("document.querySelector('.bar button[title^=\"Text to\"]').disabled"));
}

TEST_CASE("In a browser: what an input method writes arrives once it is finished", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, "mist-bench");
  REQUIRE(b.until(kPictureLives));
  b.run("document.querySelector('.face').focus()");
  b.keys("zone ");
  b.compose("nihon", "\xe6\x97\xa5\xe6\x9c\xac");  // written by its reading, in two characters
  b.keys("!");
  CHECK(eventually([&] { return g.note() == "zone \xe6\x97\xa5\xe6\x9c\xac!"; }));
  INFO(g.note());
  CHECK(g.note().find("nihon") == std::string::npos);
}

TEST_CASE("In a browser: a machine is switched off and on; what loses work is asked twice", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  Hosted hosted(*g.tools.store, g.folder.path, "mist-bench", *g.console);
  hosted.allow(true);
  agreeTo(hosted.command);
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  const std::string chip = "[data-way='power-" + std::to_string(hosted.machine) + "']";
  const auto act = [&](const std::string& verb) {
    return "[data-way='act-" + std::to_string(hosted.machine) + "-" + verb + "']";
  };
  // The list is drawn anew whenever something changes; an element found before is gone then.
  const auto press = [&](const std::string& css) {
    b.run("document.querySelector(arguments[0]).click()", {css});
  };
  REQUIRE(b.until("document.querySelector(\"" + chip + "\")"));
  press(chip);
  REQUIRE(b.until("document.querySelector(\"" + act("off") + "\")"));
  press(act("off"));
  REQUIRE(b.until("/sure/.test(document.querySelector(\"" + act("off") + "\").textContent)"));
  CHECK(g.gate->store().newestAudit("asks to", 5).empty());
  press(act("off"));
  REQUIRE(eventually([&] { return g.gate->store().newestAudit("asks to off", 5).size() == 1; }));
  press(chip);
  REQUIRE(b.until("document.querySelector(\"" + act("start") + "\")"));
  press(act("start"));
  press(chip);
  CHECK(b.until("document.querySelector(\"" + act("shutdown") + "\")"));
  g.gate->stop();
}

TEST_CASE("In a browser: every engine's screens, without a line of code for it", "[browser]") {
  if (!Browser::available()) return;
  Garden g;
  const auto [machine, scheme] = GENERATE(table<std::string, std::string>(
      {{"herbarium-scan", "spice://127.0.0.1:"}, {"seed-bank", "rdp://duty@127.0.0.1:"}}));
  CAPTURE(machine);
  lab::LabSecrets secrets;
  secrets.certificate = makeSelfSigned("fernery");
  secrets.guestPassword = "guest-7";
  std::unique_ptr<lab::Console> guest;
  for (lab::ConsolePlan plan : lab::consolePlans(secrets, std::chrono::milliseconds(0))) {
    if (plan.guest.name != machine) continue;
    for (lab::DoorPlan& door : plan.doors) door.address = "127.0.0.1", door.port = 0;
    guest = std::make_unique<lab::Console>(g.runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(),
                                           plan);
  }
  REQUIRE(guest != nullptr);
  guest->start(true);
  REQUIRE(eventually([&] { return guest->doorPort(0) != 0; }));
  g.add(machine, "desktop", scheme + std::to_string(guest->doorPort(0)));
  Browser b;
  signIn(b, g, "duty", "duty-at-the-gate");
  openMachine(b, machine);
  // What the machine asks, it asks in the page: its certificate, then its password.
  REQUIRE(b.until("document.querySelector('.answer') || document.querySelector('[data-card] .own') || (" +
                  std::string(kPictureLives) + ")"));
  for (int i = 0; i < 3 && b.run("return !(" + std::string(kPictureLives) + ")") == true; ++i) {
    if (b.run("return !!document.querySelector('.answer')") == true) {
      b.type(".answer", "guest-7");
      b.run("document.querySelector('.answer').form.requestSubmit()");
    } else {
      b.run(
          "const go = [...document.querySelectorAll('[data-card] button')].find(k => "
          "k.textContent.startsWith('Go on')); if (go) go.click()");
    }
    b.until("document.querySelector('.answer') || (" + std::string(kPictureLives) + ")");
  }
  CHECK(b.until(kPictureLives, std::chrono::seconds(20)));
  CHECK(b.run("return document.getElementById('screen').width > 300") == true);
  // A second screen is switched on from the page, shown by itself, and switched off.
  const std::string screensButton = ".bar button[title^='The screens']";
  REQUIRE(b.until("!document.querySelector(\"" + screensButton + "\").hidden"));
  b.click(screensButton);
  const auto switchTo = [&](const std::string& words) {
    const std::string one =
        "[...document.querySelectorAll('[data-switch]')].find(k => !k.disabled && "
        "k.textContent === '" +
        words + "')";
    REQUIRE(b.until(one));
    b.run(one + ".click()");
  };
  const int before = b.run("return document.getElementById('screen').width");
  switchTo("switch on");
  CHECK(b.until("document.querySelector('[data-own=\"1\"]')"));
  CHECK(b.until("document.getElementById('screen').width > " + std::to_string(before)));
  switchTo("switch off");
  CHECK(b.until("!document.querySelector('[data-own=\"1\"]')"));
  g.gate.reset();
  guest->stop();
}
