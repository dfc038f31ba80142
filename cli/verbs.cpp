#include "cli/verbs.hpp"

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/live.hpp"
#include "picture/png.hpp"
#include "record/setting.hpp"
#include "session/keys.hpp"

namespace kw::cli {

namespace {

/// A flag that lays its value over a setting.
void settingFlag(CLI::App& verb, LiveOptions& o, const std::string& flag, const std::string& key,
                 const std::string& help, const std::string& before = "") {
  verb.add_option_function<std::string>(
          flag, [&o, key, before](const std::string& value) { o.settings[key] = before + value; }, help)
      ->check([key, before](const std::string& value) {
        const Setting* setting = findSetting(key);
        return before.empty() && setting != nullptr ? problemWith(*setting, value) : std::string();
      });
}

void addLiveOptions(CLI::App& verb, LiveOptions& o) {
  verb.add_option("target", o.target,
                  "A URI (vnc://host:5901), host:port, a socket path, or a machine's name")
      ->required();
  verb.add_option("--password-file", o.passwordFile, "File whose first line is the password");
  verb.add_option("--via", o.via, "SSH jumps, nearest first: ssh://user@jump, …");
  verb.add_option("--user", o.user, "Name to sign in with, where one is asked for");
  verb.add_flag("--trust-once", o.trustOnce,
                "Go on when a certificate is not known yet (never when it has changed)");
  verb.add_option("--timeout", o.timeoutSeconds, "Seconds until the verb gives up")->capture_default_str();
  settingFlag(verb, o, "--encoding", "screen.encoding", "Ask for this encoding only: raw, hextile, zlib, tight, zrle, …",
              "only:");
  settingFlag(verb, o, "--colours", "screen.colours", "Bits per pixel: 32, 24, 16, 15 or 8");
  settingFlag(verb, o, "--quality", "screen.quality", "auto, lossless, high, medium or low");
  settingFlag(verb, o, "--security", "rdp.security", "How to sign in to a remote desktop: auto, nla, tls or rdp");
  settingFlag(verb, o, "--size", "rdp.size", "Size of a new desktop, as 1920x1080");
}

void press(Session& session, const Chord& chord) {
  for (const KeyStroke& k : chord) session.key(k.keysym, k.scanCode, true);
  for (auto k = chord.rbegin(); k != chord.rend(); ++k) session.key(k->keysym, k->scanCode, false);
}

int snap(const LiveOptions& options, const std::string& out, int settle, int screen) {
  Live live(options);
  live.waitForPicture();
  live.waitForQuiet(std::chrono::milliseconds(settle));
  savePng(live.copyOfPicture(screen), out);
  return kDone;
}

int type(const LiveOptions& options, const std::string& text, const std::vector<std::string>& keys,
         int pace) {
  std::vector<Chord> chords = chordsForText(text);
  for (const std::string& chord : keys) chords.push_back(chordFromText(chord));
  Live live(options);
  live.waitForPicture();
  // A PC's keyboard buffer holds sixteen bytes; what comes faster than the guest reads is lost.
  for (const Chord& chord : chords) {
    press(live.session(), chord);
    live.watchFor(std::chrono::milliseconds(pace));
  }
  live.drain();
  return kDone;
}

int click(const LiveOptions& options, Point at, int button) {
  Live live(options);
  live.waitForPicture();
  const unsigned mask = 1U << (button - 1);
  live.session().pointer(at, 0);
  live.session().pointer(at, mask);
  live.session().pointer(at, 0);
  live.drain();
  return kDone;
}

int watch(const LiveOptions& options, int seconds, bool json) {
  Live live(options);
  live.waitForPicture();
  for (int i = 0; seconds == 0 || i < seconds; ++i) {
    live.watchFor(std::chrono::seconds(1));
    const Figures f = live.figures();
    const double latency = std::chrono::duration<double, std::milli>(f.keyToPicture).count();
    if (json) {
      std::cout << nlohmann::json{{"framesPerSecond", f.framesPerSecond},
                                  {"bytesInPerSecond", f.bytesInPerSecond},
                                  {"bytesOutPerSecond", f.bytesOutPerSecond},
                                  {"bytesIn", f.bytesIn},
                                  {"frames", f.frames},
                                  {"encodings", f.encodings},
                                  {"keyToPictureMs", latency}}
                       .dump()
                << std::endl;
    } else {
      char line[160];
      std::snprintf(line, sizeof line, "%6.1f frames/s  %9.1f kB/s in  %7.1f kB/s out  %-20s",
                    f.framesPerSecond, f.bytesInPerSecond / 1000, f.bytesOutPerSecond / 1000,
                    f.encodings.c_str());
      std::cout << line;
      if (latency > 0) std::cout << "  key to picture " << static_cast<int>(latency) << " ms";
      std::cout << std::endl;
    }
  }
  return kDone;
}

}  // namespace

void addSessionVerbs(CLI::App& app, Chosen& chosen) {
  {
    auto options = std::make_shared<LiveOptions>();
    auto out = std::make_shared<std::string>();
    auto settle = std::make_shared<int>(500);
    auto screen = std::make_shared<int>(0);
    auto* verb = app.add_subcommand("snap", "Save a machine's picture once it is whole and stands still");
    addLiveOptions(*verb, *options);
    verb->add_option("--out", *out, "PNG file to write")->required();
    verb->add_option("--settle", *settle, "Milliseconds without change before the picture is taken")
        ->check(CLI::Range(0, 600000))
        ->capture_default_str();
    verb->add_option("--screen", *screen, "Only this screen, counted from 1 (0: all)")->capture_default_str();
    verb->callback([=, &chosen] { chosen = [=] { return snap(*options, *out, *settle, *screen); }; });
  }
  {
    auto options = std::make_shared<LiveOptions>();
    auto text = std::make_shared<std::string>();
    auto keys = std::make_shared<std::vector<std::string>>();
    auto* verb = app.add_subcommand("type", "Type text or press key chords");
    addLiveOptions(*verb, *options);
    auto pace = std::make_shared<int>(15);
    verb->add_option("--pace", *pace, "Milliseconds between keys")
        ->check(CLI::Range(0, 10000))
        ->capture_default_str();
    auto* textOption = verb->add_option("--text", *text, "Text to type");
    auto* keysOption = verb->add_option("--keys", *keys, "Chords in order: \"ctrl+alt+delete\" \"enter\"");
    verb->callback([=, &chosen] {
      if (textOption->count() + keysOption->count() == 0) throw CLI::RequiredError("--text or --keys");
      chosen = [=] { return type(*options, *text, *keys, *pace); };
    });
  }
  {
    auto options = std::make_shared<LiveOptions>();
    auto x = std::make_shared<int>(0), y = std::make_shared<int>(0), button = std::make_shared<int>(1);
    auto* verb = app.add_subcommand("click", "Click into a machine's picture");
    addLiveOptions(*verb, *options);
    verb->add_option("x", *x, "Pixels from the left")->required();
    verb->add_option("y", *y, "Pixels from the top")->required();
    verb->add_option("--button", *button, "1 left, 2 middle, 3 right")
        ->check(CLI::Range(1, 3))
        ->capture_default_str();
    verb->callback([=, &chosen] { chosen = [=] { return click(*options, {*x, *y}, *button); }; });
  }
  {
    auto options = std::make_shared<LiveOptions>();
    auto seconds = std::make_shared<int>(0);
    auto json = std::make_shared<bool>(false);
    auto* verb = app.add_subcommand("watch", "Print a session's figures once a second");
    addLiveOptions(*verb, *options);
    verb->add_option("--seconds", *seconds, "How long (0: until it ends)")->capture_default_str();
    verb->add_flag("--json", *json, "One JSON object a line");
    verb->callback([=, &chosen] { chosen = [=] { return watch(*options, *seconds, *json); }; });
  }
}

}  // namespace kw::cli
