// What the simulated guests show.
#include <cmath>
#include <cstdio>

#include "lab/guest.hpp"

namespace kw::lab {

namespace {
constexpr Pixel kSlate = rgb(0x1d, 0x2b, 0x2f), kFern = rgb(0x2f, 0x4f, 0x49), kPaper = rgb(0xee, 0xf1, 0xea),
                kInk = rgb(0x22, 0x2a, 0x2c), kQuiet = rgb(0x7a, 0x88, 0x88), kLeaf = rgb(0x4e, 0x9a, 0x6e),
                kClay = rgb(0xb8, 0x66, 0x42), kSky = rgb(0x3b, 0x6a, 0x86), kWhite = rgb(0xff, 0xff, 0xff),
                kConsole = rgb(0x0e, 0x12, 0x14), kConsoleText = rgb(0xc9, 0xd3, 0xcf);

/// A number in 0..most that depends on nothing but its arguments.
unsigned scatter(std::uint32_t seed, std::uint32_t step, unsigned most) {
  std::uint32_t h = seed * 2654435761U ^ (step + 0x9e3779b9U);
  h ^= h >> 16;
  h *= 0x85ebca6bU;
  h ^= h >> 13;
  h *= 0xc2b2ae35U;
  h ^= h >> 16;
  return h % (most + 1);
}

template <typename... Args>
std::string format(const char* pattern, Args... args) {
  char text[160];
  std::snprintf(text, sizeof text, pattern, args...);
  return text;
}

void window(Canvas& canvas, const Rect& at, const std::string& title) {
  canvas.fill({at.x + 4, at.y + 5, at.width, at.height}, rgb(0x14, 0x1d, 0x20));
  canvas.fill(at, kPaper);
  canvas.fill({at.x, at.y, at.width, 34}, rgb(0xd3, 0xdd, 0xd3));
  canvas.text({at.x + 14, at.y + 23}, title, kInk, Face::SansBold, 15);
}

void bar(Canvas& canvas, const Rect& at, int percent, Pixel colour) {
  canvas.fill(at, rgb(0xd6, 0xdc, 0xd6));
  canvas.fill({at.x, at.y, at.width * percent / 100, at.height}, colour);
}

std::string clockText(Guest::Time now) {
  const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(now).count() + 14 * 3600 + 32 * 60;
  return format("%02d:%02d:%02d", static_cast<int>(seconds / 3600 % 24), static_cast<int>(seconds / 60 % 60),
                static_cast<int>(seconds % 60));
}

std::uint32_t secondsOf(Guest::Time now) {
  return static_cast<std::uint32_t>(std::chrono::duration_cast<std::chrono::seconds>(now).count());
}

}  // namespace

void Guest::paint(Canvas& canvas, Time now) const {
  const Time in = now - phaseSince_;
  switch (phase_) {
    case Phase::Firmware: return paintFirmware(canvas, in);
    case Phase::Boot: return paintBoot(canvas, in);
    case Phase::SignIn: return paintSignIn(canvas, now);
    case Phase::Desktop: break;
  }
  switch (plan_.scene) {
    case SceneKind::MistBench: return paintMistBench(canvas, now);
    case SceneKind::TicketKiosk: return paintTicketKiosk(canvas, now);
    case SceneKind::SeedBank: return paintSeedBank(canvas, now);
    case SceneKind::HerbariumScan: return paintHerbarium(canvas, now);
    case SceneKind::BeeCamera: return paintBees(canvas, now);
    case SceneKind::AudioGuide:
    case SceneKind::PropagationBench: return paintBench(canvas, now);
  }
}

void Guest::paintFirmware(Canvas& canvas, Time in) const {
  canvas.fill(canvas.area(), kConsole);
  canvas.text({24, 40}, "Alder firmware 4.2", rgb(0x8f, 0xc9, 0xb4), Face::Mono, 18);
  canvas.text({24, 76}, plan_.name, kConsoleText, Face::Mono, 15);
  const int checked = static_cast<int>(in.count() * 2048 / 1500);
  canvas.text({24, 104}, format("memory %4d MB", std::min(checked, 2048)), kConsoleText, Face::Mono, 15);
  canvas.text({24, 372}, "F2 settings   F10 start from another disk", kQuiet, Face::Mono, 14);
}

void Guest::paintBoot(Canvas& canvas, Time in) const {
  static constexpr const char* lines[] = {
      "mist: valve bank 0 ready",    "mist: valve bank 1 ready", "net: eth0 up 1000/full",
      "disk: root clean, 41 % used", "clock: set from the mast", "console: screen 0",
      "service: bench supervisor",   "service: zone scheduler",  "service: journal",
      "service: sign-in on screen",
  };
  canvas.fill(canvas.area(), kConsole);
  const auto shown = std::min<std::size_t>(std::size(lines), static_cast<std::size_t>(in.count() / 260));
  for (std::size_t i = 0; i < shown; ++i) {
    const double stamp = 0.4 + static_cast<double>(i) * 0.261 +
                         scatter(plan_.seed, static_cast<std::uint32_t>(i), 90) / 1000.0;
    canvas.text({16, 30 + static_cast<int>(i) * 20}, format("[%9.3f] ", stamp) + lines[i], kConsoleText,
                Face::Mono, 15);
  }
}

void Guest::paintSignIn(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  canvas.verticalGradient(all, kFern, kSlate);
  const Rect box{all.width / (plan_.twoScreens ? 4 : 2) - 180, all.height / 2 - 110, 360, 220};
  window(canvas, box, "Sign in to " + plan_.name);
  canvas.text({box.x + 20, box.y + 66}, "Name", kInk, Face::Sans, 14);
  canvas.fill({box.x + 110, box.y + 48, 226, 28}, kWhite);
  canvas.text({box.x + 118, box.y + 67}, user_, kInk, Face::Mono, 15);
  canvas.text({box.x + 20, box.y + 112}, "Password", kInk, Face::Sans, 14);
  canvas.fill({box.x + 110, box.y + 94, 226, 28}, kWhite);
  canvas.text({box.x + 118, box.y + 113}, std::string(password_.size(), '*'), kInk, Face::Mono, 15);
  canvas.frame({box.x + 110, box.y + (inPassword_ ? 94 : 48), 226, 28}, kLeaf, 2);
  if (!signInRemark_.empty()) canvas.text({box.x + 20, box.y + 160}, signInRemark_, kClay, Face::Sans, 14);
  canvas.text({box.x + 20, box.y + 200}, clockText(now), kQuiet, Face::Mono, 13);
}

int Guest::level(int zone, Time now) const {
  if (!valves_[static_cast<std::size_t>(zone)]) return 12;
  const std::uint32_t step = secondsOf(now);
  return 70 + static_cast<int>(scatter(plan_.seed + static_cast<std::uint32_t>(zone) * 77, step, 24));
}

void Guest::paintNote(Canvas& canvas, const Rect& at, Time now) const {
  canvas.fill(at, kWhite);
  canvas.frame(at, kLeaf);
  const bool blink = now.count() / 500 % 2 == 0;
  const int end = canvas.text({at.x + 10, at.y + 21}, note_, kInk, Face::Mono, 15);
  if (blink) canvas.fill({end + 1, at.y + 7, 2, at.height - 14}, kInk);
}

void Guest::paintMistBench(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  canvas.verticalGradient(all, kFern, kSlate);
  window(canvas, {40, 60, 620, 300}, "Mist bench — zones");
  static constexpr const char* zones[] = {"Zone A  Ferns", "Zone B  Orchids", "Zone C  Cuttings"};
  for (int zone = 0; zone < 3; ++zone) {
    const int y = 150 + zone * 44, percent = level(zone, now);
    const bool open = valves_[static_cast<std::size_t>(zone)];
    canvas.disc({72, y + 14}, 6, open ? kLeaf : kQuiet);
    canvas.text({92, y + 20}, zones[zone], kInk, Face::Sans, 16);
    bar(canvas, {270, y + 6, 260, 16}, percent, open ? kLeaf : kQuiet);
    canvas.text({546, y + 20}, format("%d %%", percent), kInk, Face::Mono, 15);
  }
  canvas.text({60, 128}, "Humidity now; click a zone to open or shut its valve", kQuiet, Face::Sans, 14);
  const int burst = 250 - static_cast<int>(secondsOf(now) % 250);
  canvas.text({60, 318}, format("Next burst in %d min %02d s", burst / 60, burst % 60), kInk, Face::Sans, 16);
  window(canvas, {40, 400, 620, 110}, "Note for the night volunteer");
  paintNote(canvas, {60, 452, 580, 32}, now);
  // A slow curve that moves every frame.
  const Rect plot{700, 60, std::max(0, all.width - 740), 300};
  if (plot.width > 80) {
    window(canvas, plot, "Humidity, last ten minutes");
    for (int x = 0; x < plot.width - 40; ++x) {
      const double t = (now.count() / 100 + x) / 36.0;
      const int y = plot.y + 180 + static_cast<int>(60 * std::sin(t) + 18 * std::sin(t * 3.1 + plan_.seed));
      canvas.fill({plot.x + 20 + x, y, 2, 3}, kSky);
    }
  }
  canvas.fill({0, all.height - 36, all.width, 36}, kSlate);
  canvas.text({16, all.height - 13}, "zones   alarms   valves", kConsoleText, Face::Sans, 14);
  canvas.text({all.width - 96, all.height - 13}, clockText(now), kConsoleText, Face::Mono, 14);
}

/// A plate viewer across screens: the plate, its labels, the queue of the scanner.
void Guest::paintHerbarium(Canvas& canvas, Time now) const {
  canvas.fill(canvas.area(), kSlate);
  for (const Screen& screen : screens_) {
    const Rect a = screen.area;
    canvas.verticalGradient(a, rgb(0x2c, 0x34, 0x2e), rgb(0x18, 0x1e, 0x1b));
    const Rect page{a.x + 28, a.y + 30, a.width - 56, a.height - 60};
    if (screen.id == 0) {
      window(canvas, page, "Plate viewer");
      const Rect sheet{page.x + page.width / 4, page.y + 54, page.width / 2, page.height - 140};
      canvas.fill(sheet, rgb(0xf3, 0xee, 0xdc));
      canvas.frame(sheet, kQuiet);
      const int stem = sheet.x + sheet.width / 2;
      canvas.fill({stem - 2, sheet.y + 30, 4, sheet.height - 60}, kLeaf);
      for (int i = 0; i < 9; ++i) {
        const int y = sheet.y + 50 + i * (sheet.height - 110) / 9, reach = 26 + (i * 37 + called_ * 11) % 60;
        for (int k = 0; k < reach; k += 6) {
          canvas.disc({stem - 8 - k, y - k / 4}, 6, kLeaf);
          canvas.disc({stem + 8 + k, y + 12 - k / 4}, 6, kFern);
        }
      }
      paintNote(canvas, {page.x + 20, page.bottom() - 56, page.width - 40, 34}, now);
    } else if (screen.id == 1) {
      window(canvas, page, "Labels");
      for (int i = 0; i < 6; ++i) {
        const Rect card{page.x + 20, page.y + 54 + i * 62, page.width - 40, 50};
        canvas.fill(card, kWhite);
        canvas.text({card.x + 14, card.y + 30}, format("AV-H %04d", 310 + called_ + i), kInk, Face::Mono, 16);
        canvas.text({card.x + 180, card.y + 30}, i % 2 == 0 ? "gathered by the seed desk" : "from the vale",
                    kQuiet, Face::Sans, 14);
      }
    } else {
      window(canvas, page, "Scanner");
      for (int i = 0; i < 5; ++i) {
        const int percent = static_cast<int>((secondsOf(now) * 7 + static_cast<unsigned>(i) * 23) % 101);
        canvas.text({page.x + 24, page.y + 84 + i * 44}, format("Tray %d", i + 1), kInk, Face::Sans, 15);
        bar(canvas, {page.x + 110, page.y + 70 + i * 44, std::max(60, page.width - 220), 16}, percent, kSky);
      }
      canvas.text({page.x + 24, page.bottom() - 24}, clockText(now), kQuiet, Face::Mono, 14);
    }
  }
}

/// Bees before a hive: everything moves, as a camera's picture does.
void Guest::paintBees(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  canvas.verticalGradient(all, rgb(0x86, 0xa8, 0xb4), rgb(0x4c, 0x5f, 0x41));
  const Rect hive{all.width / 2 - 120, all.height / 2 - 70, 240, 180};
  canvas.fill(hive, rgb(0xc9, 0x9a, 0x52));
  canvas.fill({hive.x - 12, hive.y - 26, hive.width + 24, 28}, rgb(0x8a, 0x63, 0x35));
  canvas.fill({hive.x + 40, hive.bottom() - 46, hive.width - 80, 14}, kConsole);
  for (unsigned i = 0; i < 40; ++i) {
    const double t = static_cast<double>(now.count()) / 900.0 + i * 1.7;
    const int x = all.width / 2 + static_cast<int>((60 + i * 6) * std::sin(t * (1 + i % 3 * 0.2)));
    const int y =
        hive.bottom() - 40 + static_cast<int>((20 + i * 3) * std::cos(t * 1.3 + i)) - static_cast<int>(i) * 3;
    canvas.disc({x, y}, 4, rgb(0x2a, 0x22, 0x14));
    canvas.disc({x + 2, y}, 2, rgb(0xe0, 0xb0, 0x4c));
  }
  canvas.text({14, all.height - 14}, "bee-camera  " + clockText(now), kWhite, Face::Mono, 15);
}

/// The seed catalogue: drawers on the left, a table of lots, a note.
void Guest::paintSeedBank(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  canvas.verticalGradient(all, rgb(0x41, 0x3a, 0x2c), rgb(0x1f, 0x22, 0x1d));
  window(canvas, {30, 44, all.width - 60, all.height - 210}, "Seed catalogue");
  static constexpr const char* drawers[] = {"Ferns",   "Orchids", "Grasses", "Legumes",
                                            "Alpines", "Palms",   "Mosses",  "Returned"};
  for (int i = 0; i < 8; ++i) {
    const Rect row{46, 92 + i * 38, 170, 32};
    canvas.fill(row, i == called_ % 8 ? rgb(0xd5, 0xe2, 0xd2) : rgb(0xe4, 0xe7, 0xe1));
    canvas.text({row.x + 12, row.y + 21}, drawers[i], kInk, Face::Sans, 15);
  }
  static constexpr const char* heads[] = {"Lot", "Gathered", "Grams", "Germinates"};
  const int left = 240, step = std::max(120, (all.width - left - 80) / 4);
  for (int c = 0; c < 4; ++c) canvas.text({left + c * step, 108}, heads[c], kQuiet, Face::SansBold, 14);
  const int rows = std::max(1, (all.height - 340) / 30);
  for (int r = 0; r < rows; ++r) {
    const auto n = static_cast<std::uint32_t>(r + called_ * 31);
    const int y = 138 + r * 30, percent = 30 + static_cast<int>(scatter(plan_.seed, n, 65));
    canvas.fill({left - 8, y - 19, all.width - left - 40, 1}, rgb(0xd6, 0xdc, 0xd6));
    canvas.text({left, y}, format("AV-%04d", 1200 + static_cast<int>(n) * 3), kInk, Face::Mono, 15);
    canvas.text({left + step, y}, format("week %02d", 1 + static_cast<int>(scatter(plan_.seed + 3, n, 51))),
                kInk, Face::Sans, 15);
    canvas.text({left + 2 * step, y}, format("%d", 4 + static_cast<int>(scatter(plan_.seed + 5, n, 180))),
                kInk, Face::Mono, 15);
    bar(canvas, {left + 3 * step, y - 12, step - 60, 14}, percent, percent > 60 ? kLeaf : kClay);
  }
  window(canvas, {30, all.height - 150, all.width - 60, 84}, "Note to the seed desk");
  paintNote(canvas, {50, all.height - 106, all.width - 100, 32}, now);
  canvas.fill({0, all.height - 36, all.width, 36}, kSlate);
  const unsigned cold = scatter(plan_.seed + 9, secondsOf(now) / 3, 9);
  canvas.text({16, all.height - 13}, format("cold store -18.%u °C", cold), kConsoleText, Face::Sans, 14);
  canvas.text({all.width - 96, all.height - 13}, clockText(now), kConsoleText, Face::Mono, 14);
}

void Guest::paintTicketKiosk(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  const int half = all.width / 2;
  const int serving = 140 + called_ + static_cast<int>(secondsOf(now) / 6 % 40);
  // Screen one: the desk.
  canvas.verticalGradient({0, 0, half, all.height}, rgb(0x53, 0x3d, 0x2b), rgb(0x24, 0x1c, 0x18));
  window(canvas, {40, 60, half - 80, 420}, "Ticket desk");
  canvas.text({64, 140}, "Waiting", kQuiet, Face::Sans, 15);
  for (int i = 0; i < 7; ++i) {
    const int y = 160 + i * 42;
    canvas.fill({64, y, half - 128, 36}, i == 0 ? rgb(0xdd, 0xe8, 0xdb) : rgb(0xe4, 0xe7, 0xe1));
    canvas.text({80, y + 24}, format("%03d", serving + i), kInk, Face::Mono, 17);
    static constexpr const char* kinds[] = {"day visit", "with guide", "school class", "members"};
    canvas.text({170, y + 24}, kinds[scatter(plan_.seed, static_cast<std::uint32_t>(serving + i), 3)], kInk,
                Face::Sans, 15);
    canvas.text({half - 160, y + 24},
                format("%d", 1 + static_cast<int>(
                                     scatter(plan_.seed + 5, static_cast<std::uint32_t>(serving + i), 5))),
                kInk, Face::Mono, 15);
  }
  paintNote(canvas, {64, all.height - 120, half - 128, 34}, now);
  // Screen two: for the visitors.
  canvas.verticalGradient({half, 0, half, all.height}, rgb(0x21, 0x3a, 0x33), rgb(0x12, 0x1e, 0x1c));
  canvas.text({half + 60, 120}, "Now at the desk", rgb(0xcf, 0xe0, 0xd6), Face::Sans, 30);
  canvas.text({half + 60, 360}, format("%03d", serving), kWhite, Face::SansBold, 220);
  canvas.text({half + 60, 460}, "Alder Vale Botanic Garden", rgb(0xcf, 0xe0, 0xd6), Face::Sans, 26);
  const int slide = static_cast<int>(now.count() / 20 % half);
  canvas.fill({half, all.height - 40, half, 40}, kSlate);
  canvas.disc({half + slide, all.height - 20}, 10, kClay);
}

void Guest::paintBench(Canvas& canvas, Time now) const {
  const Rect all = canvas.area();
  canvas.verticalGradient(all, kSky, kSlate);
  const bool guide = plan_.scene == SceneKind::AudioGuide;
  window(canvas, {40, 50, all.width - 80, 330},
         guide ? "Audio guide — players" : format("Propagation bench %02d", plan_.number));
  for (int i = 0; i < 6; ++i) {
    const int percent =
        30 + static_cast<int>(scatter(plan_.seed + static_cast<std::uint32_t>(i), secondsOf(now) / 2, 60));
    const int y = 110 + i * 42;
    canvas.text({64, y + 18}, guide ? format("Player %d", i + 1) : format("Tray %d", i + 1), kInk, Face::Sans,
                15);
    bar(canvas, {180, y + 4, all.width - 380, 16}, percent, i % 2 == 0 ? kLeaf : kClay);
    canvas.text({all.width - 170, y + 18}, format("%d %%", percent), kInk, Face::Mono, 15);
  }
  window(canvas, {40, 410, all.width - 80, 110}, "Note");
  paintNote(canvas, {60, 462, all.width - 120, 32}, now);
  const int drip = static_cast<int>(now.count() / 15 % std::max(1, all.width - 100));
  canvas.disc({50 + drip, all.height - 60}, 9, kPaper);
  canvas.text({40, all.height - 18}, plan_.name + "   " + clockText(now), kConsoleText, Face::Mono, 14);
}

}  // namespace kw::lab
