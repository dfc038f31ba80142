#include "cli/verbs.hpp"
#include "cli/sound_file.hpp"

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
  settingFlag(verb, o, "--encoding", "screen.encoding",
              "Ask for this encoding only: raw, hextile, zlib, tight, zrle, …", "only:");
  settingFlag(verb, o, "--colours", "screen.colours", "Bits per pixel: 32, 24, 16, 15 or 8");
  settingFlag(verb, o, "--quality", "screen.quality", "auto, lossless, high, medium or low");
  settingFlag(verb, o, "--security", "rdp.security",
              "How to sign in to a remote desktop: auto, nla, tls or rdp");
  settingFlag(verb, o, "--codec", "rdp.codec",
              "How a remote desktop's pictures come: auto, novideo, remotefx, nscodec, orders or bitmaps");
  settingFlag(verb, o, "--compression", "spice.compression",
              "Preferred packing of pictures: off, quic, glz, lz, lz4, …");
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

int watch(const LiveOptions& options, int seconds, bool json, const std::string& soundFile) {
  Live live(options);
  const auto sound = soundFile.empty() ? nullptr : std::make_shared<SoundFile>(soundFile);
  if (sound) {
    live.session().observe(sound);
    live.session().setSound(true);
  }
  live.waitForPicture();
  for (int i = 0; seconds == 0 || i < seconds; ++i) {
    live.watchFor(std::chrono::seconds(1));
    if (sound) sound->check();
    const Figures f = live.figures();
    const double latency = std::chrono::duration<double, std::milli>(f.keyToPicture).count();
    if (json) {
      std::cout << nlohmann::json{{"framesPerSecond", f.framesPerSecond},
                                  {"bytesInPerSecond", f.bytesInPerSecond},
                                  {"bytesOutPerSecond", f.bytesOutPerSecond},
                                  {"bytesIn", f.bytesIn},
                                  {"frames", f.frames},
                                  {"encodings", f.encodings},
                                  {"keyToPictureMs", latency},
                                  {"roundTripMs",
                                   std::chrono::duration<double, std::milli>(f.roundTrip).count()},
                                  {"lineBitsPerSecond", f.lineBitsPerSecond},
                                  {"soundBytes", f.soundBytes}}
                       .dump()
                << std::endl;
    } else {
      char line[160];
      std::snprintf(line, sizeof line, "%6.1f frames/s  %9.1f kB/s in  %7.1f kB/s out  %-20s",
                    f.framesPerSecond, f.bytesInPerSecond / 1000, f.bytesOutPerSecond / 1000,
                    f.encodings.c_str());
      std::cout << line;
      if (f.soundBytes > 0) std::cout << "  sound " << f.soundBytes / 1000 << " kB";
      if (latency > 0) std::cout << "  key to picture " << static_cast<int>(latency) << " ms";
      std::cout << std::endl;
    }
  }
  return kDone;
}

struct ScreensWish {
  int on = -1, off = -1;
  std::string place, size;
};

/// "1,0,0,1280x800"; throws Error{Local}.
ScreenOffer placeFrom(const std::string& text) {
  ScreenOffer out;
  int id = 0, used = 0;
  if (std::sscanf(text.c_str(), "%d,%d,%d,%dx%d%n", &id, &out.area.x, &out.area.y, &out.area.width,
                  &out.area.height, &used) != 5 ||
      used != static_cast<int>(text.size()) || id < 1 || out.area.empty())
    throw Error(ErrorKind::Local, "a place is written N,X,Y,WxH", text);
  out.id = static_cast<std::uint32_t>(id - 1);
  out.on = true;
  return out;
}

/// The plan with one screen placed anew. Screens must not overlap: from the left each goes where it was, or
/// beside the one before it.
std::vector<ScreenOffer> packed(std::vector<ScreenOffer> plan, const ScreenOffer& place) {
  for (ScreenOffer& s : plan)
    if (s.id == place.id) s = place;
  std::vector<ScreenOffer*> order;
  for (ScreenOffer& s : plan)
    if (s.on) order.push_back(&s);
  std::stable_sort(order.begin(), order.end(), [&](const ScreenOffer* a, const ScreenOffer* b) {
    return a->area.x != b->area.x ? a->area.x < b->area.x : a->id == place.id && b->id != place.id;
  });
  int x = 0;
  for (ScreenOffer* s : order) {
    s->area.x = x;
    x += s->area.width;
  }
  return plan;
}

void printScreens(const std::vector<ScreenOffer>& list) {
  for (const ScreenOffer& s : list) {
    std::cout << s.id + 1 << "\t" << (s.on ? "on" : "off");
    if (s.on)
      std::cout << "\t" << s.area.width << "x" << s.area.height << "\tat " << s.area.x << "," << s.area.y;
    std::cout << "\n";
  }
}

/// Screens count from 1, as people do.
int screens(const LiveOptions& options, const ScreensWish& wish) {
  Live live(options);
  live.waitForPicture();
  const std::string why = live.waitForScreens(std::chrono::seconds(5));
  const bool changes = wish.on > 0 || wish.off > 0 || !wish.place.empty();
  if (changes && !why.empty()) throw Error(ErrorKind::Unsupported, why, options.target);
  const auto stateOf = [](const std::vector<ScreenOffer>& list, int number) {
    for (const ScreenOffer& s : list)
      if (static_cast<int>(s.id) + 1 == number) return s;
    throw Error(ErrorKind::Local, "the machine has no screen " + std::to_string(number));
  };
  if (wish.on > 0) {
    Size size{1024, 768};
    if (!wish.size.empty() && std::sscanf(wish.size.c_str(), "%dx%d", &size.width, &size.height) != 2)
      throw Error(ErrorKind::Local, "a size is written WxH", wish.size);
    live.session().switchScreen(stateOf(live.offers(), wish.on).id, size);
    live.waitForOffers([&](const auto& list) { return stateOf(list, wish.on).on; });
  }
  if (wish.off > 0) {
    const ScreenOffer before = stateOf(live.offers(), wish.off);
    const auto now = live.offers();
    if (before.on && std::count_if(now.begin(), now.end(), [](const ScreenOffer& s) { return s.on; }) < 2)
      throw Error(ErrorKind::Local, "the last screen stays on");
    live.session().switchScreen(before.id, {});
    live.waitForOffers([&](const auto& list) { return !stateOf(list, wish.off).on; });
  }
  if (!wish.place.empty()) {
    const ScreenOffer place = placeFrom(wish.place);
    stateOf(live.offers(), static_cast<int>(place.id) + 1);
    const auto plan = packed(live.offers(), place);
    live.session().arrangeScreens(plan);
    const Rect wanted = stateOf(plan, static_cast<int>(place.id) + 1).area;
    const bool placed = live.offersWithin(std::chrono::seconds(4), [&](const auto& list) {
      return stateOf(list, static_cast<int>(place.id) + 1).area == wanted;
    });
    if (!placed)
      std::cerr << "kettle: the guest was asked, but its desktop keeps its screens in an order of its own\n";
  }
  printScreens(live.offers());
  if (!why.empty()) std::cerr << "kettle: " << why << "\n";
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
    verb->add_option(
            "--settle", *settle,
            "Milliseconds without anything new before the picture is taken; what only blinks is nothing new")
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
    auto wish = std::make_shared<ScreensWish>();
    auto* verb = app.add_subcommand("screens", "Show, switch and place the screens of a machine");
    addLiveOptions(*verb, *options);
    verb->add_flag_function(
        "--list", [](std::int64_t) {}, "Only show them (as without any flag)");
    verb->add_option("--on", wish->on, "Switch this screen on, counted from 1")->check(CLI::Range(1, 16));
    verb->add_option("--off", wish->off, "Switch this screen off")->check(CLI::Range(1, 16));
    verb->add_option("--place", wish->place, "N,X,Y,WxH: where screen N lies, and how large it is");
    verb->add_option("--at", wish->size, "The size of a screen that is switched on, as 1280x800");
    verb->callback([=, &chosen] { chosen = [=] { return screens(*options, *wish); }; });
  }
  {
    auto options = std::make_shared<LiveOptions>();
    auto seconds = std::make_shared<int>(0);
    auto json = std::make_shared<bool>(false);
    auto* verb = app.add_subcommand("watch", "Print a session's figures once a second");
    addLiveOptions(*verb, *options);
    verb->add_option("--seconds", *seconds, "How long (0: until it ends)")->capture_default_str();
    verb->add_flag("--json", *json, "One JSON object a line");
    auto sound = std::make_shared<std::string>();
    verb->add_option("--sound", *sound, "Write the machine's sound into this WAV file");
    verb->callback([=, &chosen] { chosen = [=] { return watch(*options, *seconds, *json, *sound); }; });
  }
}

}  // namespace kw::cli
