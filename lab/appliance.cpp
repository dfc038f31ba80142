#include "lab/appliance.hpp"

#include <cmath>
#include <cstdio>
#include <vector>

namespace kw::lab {

namespace {

std::string formatted(const char* form, double a, double b = 0, double c = 0, double d = 0) {
  char text[200];
  std::snprintf(text, sizeof text, form, a, b, c, d);
  return text;
}

/// Typing with echo; a line is complete at a return.
class LineEditor {
 public:
  bool echo = true;
  /// Feeds one character; what is shown goes to `out`. True when a line is complete.
  bool feed(char c, std::string& out) {
    if (c == '\r' || c == '\n') {
      out += "\r\n";
      return true;
    }
    if (c == '\b' || c == '\x7f') {
      if (!line.empty()) {
        line.pop_back();
        if (echo) out += "\b \b";
      }
    } else if (c == '\x03') {
      line.clear();
      out += "^C\r\n";
      return true;
    } else if (static_cast<unsigned char>(c) >= 0x20 && line.size() < 200) {
      line += c;
      if (echo) out += c;
    }
    return false;
  }
  std::string take() { return std::exchange(line, {}); }
  std::string line;
};

class MistBench : public Appliance {
 public:
  MistBench(std::string user, std::string password)
      : user_(std::move(user)), password_(std::move(password)) {}

  std::string greet(Time) override { return stage_ == Stage::Booting ? "" : "\r\n" + prompt(); }

  std::string advance(Time now) override {
    if (bootAt_ < Time(0)) bootAt_ = now;
    std::string out;
    static const std::vector<const char*> kBoot = {
        "\x1b[2J\x1b[HAlder Vale valve controller, boot 2.4",
        "memory 64 MiB ok",
        "bus 0: zone cards 1 2 3",
        "loading image from slot A ... 1482 KiB",
        "[    0.000000] controller starting on mist-bench",
        "[    0.412008] serial: ttyS0 at 115200",
        "[    0.958113] zones: 3 cards, 12 valves",
        "[    1.330471] clock: set from fernery",
        "[    1.702255] services: mist, log, sign-in",
        "",
    };
    while (stage_ == Stage::Booting && bootLine_ < kBoot.size() &&
           now >= bootAt_ + Time(180 * static_cast<int>(bootLine_)))
      out += std::string(kBoot[bootLine_++]) + "\r\n";
    if (stage_ == Stage::Booting && bootLine_ == kBoot.size()) {
      stage_ = Stage::Name;
      out += prompt();
    }
    now_ = now;
    return out;
  }

  std::string take(const std::string& bytes, Time now) override {
    now_ = now;
    std::string out;
    for (const char c : bytes) {
      if (stage_ == Stage::Booting) continue;
      editor_.echo = stage_ != Stage::Password;
      if (!editor_.feed(c, out)) continue;
      out += answer(editor_.take());
    }
    return out;
  }
  void breakSeen(Time) override { reboot(); }

 private:
  enum class Stage { Booting, Name, Password, Shell };

  [[nodiscard]] std::string prompt() const {
    if (stage_ == Stage::Name) return "mist-bench login: ";
    if (stage_ == Stage::Password) return "Password: ";
    return "\x1b[32mmist-bench\x1b[0m:\x1b[34m~\x1b[0m$ ";
  }
  void reboot() {
    stage_ = Stage::Booting;
    bootLine_ = 0;
    bootAt_ = now_;
    editor_.line.clear();
  }
  std::string answer(const std::string& line) {
    if (stage_ == Stage::Name) {
      if (!line.empty()) given_ = line, stage_ = Stage::Password;
      return prompt();
    }
    if (stage_ == Stage::Password) {
      const bool right = given_ == user_ && line == password_;
      stage_ = right ? Stage::Shell : Stage::Name;
      return right ? "\r\nZone controller of bench M. \"help\" lists what it knows.\r\n\r\n" + prompt()
                   : "\r\nLogin incorrect\r\n" + prompt();
    }
    const std::string said = run(line);
    return stage_ == Stage::Booting ? said : said + prompt();
  }
  std::string run(const std::string& line) {
    const std::string word = line.substr(0, line.find(' '));
    if (word.empty()) return {};
    if (word == "help")
      return "zones    state of the three zones\r\nvalve N  open or close valve N (1 to 3)\r\nlog      the "
             "last entries\r\nuptime   since the last start\r\nreboot   start again\r\nexit     sign out\r\n";
    if (word == "zones") return zones();
    if (word == "valve") return valve(line);
    if (word == "log")
      return "06:00:00 mist cycle 1, 40 s\r\n06:30:00 mist cycle 2, 40 s\r\n06:31:12 zone 2 humidity 71 %, "
             "\x1b[33mlow\x1b[0m\r\n07:00:00 mist cycle 3, 40 s\r\n";
    if (word == "uptime")
      return formatted("up %.0f s, 3 zones, 1 person signed in\r\n",
                       static_cast<double>((now_ - bootAt_).count()) / 1000);
    if (word == "reboot") {
      reboot();
      return "going down\r\n";
    }
    if (word == "exit") {
      stage_ = Stage::Name;
      return "\r\n";
    }
    return word + ": not known; try help\r\n";
  }
  [[nodiscard]] std::string zones() const {
    std::string out = "\x1b[1mzone  humidity  soil   valve\x1b[0m\r\n";
    const double t = static_cast<double>(now_.count()) / 1000;
    for (int i = 0; i < 3; ++i) {
      out += formatted("%3.0f   %5.1f %%   %4.1f C  ", i + 1, 78 + 6 * std::sin(t / 9 + i),
                       19.5 + std::cos(t / 13 + 2 * i));
      out += open_[static_cast<std::size_t>(i)] ? "\x1b[32mopen\x1b[0m\r\n" : "\x1b[31mshut\x1b[0m\r\n";
    }
    return out;
  }
  std::string valve(const std::string& line) {
    const std::size_t space = line.find(' ');
    const char digit = space == std::string::npos || space + 1 >= line.size() ? '0' : line[space + 1];
    if (digit < '1' || digit > '3') return "valve: 1 to 3\r\n";
    const auto i = static_cast<std::size_t>(digit - '1');
    open_[i] = !open_[i];
    return std::string("valve ") + digit + (open_[i] ? " open\r\n" : " shut\r\n");
  }

  std::string user_, password_, given_;
  LineEditor editor_;
  Stage stage_ = Stage::Booting;
  std::size_t bootLine_ = 0;
  Time bootAt_{-1}, now_{0};
  std::vector<bool> open_ = {true, false, true};
};

class WeatherMast : public Appliance {
 public:
  explicit WeatherMast(unsigned seed) : seed_(seed) {}
  std::string take(const std::string& bytes, Time) override {
    return bytes.find('?') != std::string::npos
               ? "# weather-mast, telemetry every second: wind m/s, from, air C, humidity %\r\n"
               : "";
  }
  std::string advance(Time now) override {
    std::string out;
    if (next_ < Time(0)) next_ = now;
    for (; next_ <= now; next_ += Time(1000)) {
      const double t = static_cast<double>(next_.count()) / 1000 + seed_;
      out += formatted("WIND %4.1f FROM %03.0f AIR %5.1f HUM %4.1f",
                       4.2 + 2.1 * std::sin(t / 7) + std::sin(t * 1.7) / 2,
                       std::fmod(220 + 30 * std::sin(t / 40) + 360, 360), 11.8 + std::sin(t / 300),
                       76 + 4 * std::sin(t / 60)) +
             "\r\n";
    }
    return out;
  }

 private:
  unsigned seed_;
  Time next_{-1};
};

class Irrigation : public Appliance {
 public:
  std::string greet(Time) override { return page(); }
  std::string advance(Time) override { return {}; }
  std::string take(const std::string& bytes, Time) override {
    std::string out;
    for (const char c : bytes) {
      if (c >= '1' && c <= '6')
        on_[static_cast<std::size_t>(c - '1')] = !on_[static_cast<std::size_t>(c - '1')];
      if (c == 'a') on_.assign(6, false), note_ = "all circuits shut";
      if (c >= '1' && c <= '6')
        note_ = std::string("circuit ") + c + (on_[static_cast<std::size_t>(c - '1')] ? " opened" : " shut");
      if (c != '\n' && c != '\0') out = page();
    }
    return out;
  }

 private:
  [[nodiscard]] std::string page() const {
    static constexpr const char* kNames[] = {"rose walk",   "fern gully", "alpine bed",
                                             "long border", "nursery",    "lawn"};
    std::string out = "\x1b[2J\x1b[H\x1b[7m  IRRIGATION   Outdoors   pump pressure 3.1 bar  \x1b[0m\r\n\r\n";
    for (std::size_t i = 0; i < 6; ++i) {
      char line[96];
      std::snprintf(line, sizeof line, "  %zu  %-14s %s\r\n", i + 1, kNames[i],
                    on_[i] ? "\x1b[32mrunning\x1b[0m" : "shut");
      out += line;
    }
    return out + "\r\n  1-6 open or shut   a all shut\r\n\r\n  " + note_ + "\r\n  > ";
  }
  std::vector<bool> on_ = {false, true, false, false, true, false};
  std::string note_ = "ready";
};

}  // namespace

std::unique_ptr<Appliance> mistBenchLine(std::string user, std::string password) {
  return std::make_unique<MistBench>(std::move(user), std::move(password));
}
std::unique_ptr<Appliance> weatherMast(unsigned seed) { return std::make_unique<WeatherMast>(seed); }
std::unique_ptr<Appliance> irrigationMenu() { return std::make_unique<Irrigation>(); }

}  // namespace kw::lab
