#include "record/setting.hpp"

namespace kw {

const std::vector<Setting>& allSettings() {
  using T = SettingType;
  static const std::vector<Setting> settings{
      {.key = "screen.size",
       .section = "Screen",
       .type = T::Choice,
       .standard = "asis",
       .label = "Picture size",
       .help = "Whether the machine keeps its own picture size or is asked to follow the pane.",
       .choices = {{"asis", "As the machine has it"}, {"follow", "Follow the pane"}},
       .protocols = {}},
      {.key = "screen.fit",
       .section = "Screen",
       .type = T::Choice,
       .standard = "shrink",
       .label = "When it does not fit",
       .help = "How a picture larger or smaller than the pane is shown.",
       .choices = {{"shrink", "Shrink to fit"},
                   {"fill", "Fit, growing too"},
                   {"actual", "One to one, moving about"},
                   {"whole", "Whole-number zoom"}},
       .protocols = {}},
      {.key = "screen.colours",
       .section = "Screen",
       .type = T::Choice,
       .standard = "32",
       .label = "Colours",
       .help = "Fewer colours need less data on a slow line.",
       .choices = {{"32", "True colour (32-bit)"}, {"16", "65,536 (16-bit)"}, {"8", "256 (8-bit)"}},
       .protocols = {"vnc"}},
      {.key = "screen.quality",
       .section = "Screen",
       .type = T::Choice,
       .standard = "auto",
       .label = "Picture quality",
       .help = "Photographs may be compressed with loss; lossless keeps every pixel.",
       .choices = {{"auto", "Choose by line speed"},
                   {"lossless", "Lossless"},
                   {"high", "High"},
                   {"medium", "Medium"},
                   {"low", "Low, for slow lines"}},
       .protocols = {"vnc"}},
      {.key = "screen.encoding",
       .section = "Screen",
       .type = T::Choice,
       .standard = "auto",
       .label = "Preferred encoding",
       .help = "How pixels travel. The best one for most lines is chosen by itself.",
       .choices = {{"auto", "Choose by itself"},
                   {"tight", "Tight"},
                   {"zrle", "ZRLE"},
                   {"hextile", "Hextile"},
                   {"zlib", "Zlib"},
                   {"raw", "Raw"}},
       .protocols = {"vnc"}},
      {.key = "screen.open",
       .section = "Screen",
       .type = T::Choice,
       .standard = "pane",
       .label = "Show on opening",
       .help = "Where a new session appears.",
       .choices = {{"pane", "In a pane"}, {"full", "Full screen"}, {"window", "In a window of its own"}},
       .protocols = {}},
      {.key = "screen.refresh",
       .section = "Screen",
       .type = T::Whole,
       .standard = "60",
       .label = "Paint at most",
       .help = "Pictures a second that are painted, to spare this desk's processor.",
       .choices = {},
       .least = 1,
       .most = 240,
       .unit = "per second",
       .protocols = {}},
      {.key = "screen.viewonly",
       .section = "Screen",
       .type = T::Switch,
       .standard = "off",
       .label = "Only look",
       .help = "Keys and pointer are not sent to the machine.",
       .choices = {},
       .protocols = {}},
      {.key = "screen.shared",
       .section = "Screen",
       .type = T::Switch,
       .standard = "on",
       .label = "Leave others connected",
       .help = "Off: opening this screen ends other people's sessions on it.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "keyboard.positions",
       .section = "Keyboard and clipboard",
       .type = T::Switch,
       .standard = "on",
       .label = "Send key positions",
       .help = "Scan codes besides characters, so that the machine's own keyboard layout counts.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "keyboard.desktop",
       .section = "Keyboard and clipboard",
       .type = T::Switch,
       .standard = "on",
       .label = "Take this program's shortcuts",
       .help =
           "On: while a picture has the keyboard, all keys go to the machine; the release chord frees them.",
       .choices = {},
       .protocols = {}},
      {.key = "keyboard.release",
       .section = "Keyboard and clipboard",
       .type = T::Choice,
       .standard = "shifts",
       .label = "Release chord",
       .help = "Frees keyboard and pointer and opens the spout.",
       .choices = {{"shifts", "Both Shift keys"},
                   {"controls", "Both Ctrl keys"},
                   {"ctrlshift", "Right Ctrl and right Shift"}},
       .protocols = {}},
      {.key = "keyboard.own",
       .section = "Keyboard and clipboard",
       .type = T::Text,
       .standard = "",
       .label = "Own key sequences",
       .help = "Offered under Keys, separated by commas: ctrl+alt+f7, super+l",
       .choices = {},
       .protocols = {}},
      {.key = "clipboard.way",
       .section = "Keyboard and clipboard",
       .type = T::Choice,
       .standard = "both",
       .label = "Clipboard",
       .help = "Text copied on one side can be pasted on the other.",
       .choices = {{"both", "Both ways"},
                   {"to", "Only to the machine"},
                   {"from", "Only from the machine"},
                   {"off", "Off"}},
       .protocols = {"vnc"}},
      {.key = "sound.play",
       .section = "Sound",
       .type = T::Switch,
       .standard = "off",
       .label = "Play sound",
       .help = "Plays the machine's sound here; each pane can be muted.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "security.sealed",
       .section = "Security",
       .type = T::Switch,
       .standard = "off",
       .label = "Only sealed lines",
       .help = "Refuses a session that would travel unencrypted.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "security.anonymous",
       .section = "Security",
       .type = T::Switch,
       .standard = "on",
       .label = "Allow TLS without certificate",
       .help = "Such a line is sealed, but nobody proves to be the machine.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "security.authorities",
       .section = "Security",
       .type = T::Text,
       .standard = "",
       .label = "Own authorities",
       .help = "A PEM file of certificate authorities to trust besides the system's.",
       .choices = {},
       .protocols = {"vnc"}},
      {.key = "reconnect.again",
       .section = "Connection",
       .type = T::Switch,
       .standard = "on",
       .label = "Connect again by itself",
       .help = "After a lost line, with growing delays.",
       .choices = {},
       .protocols = {}},
      {.key = "reconnect.longest",
       .section = "Connection",
       .type = T::Whole,
       .standard = "30",
       .label = "Longest delay",
       .help = "Between two attempts.",
       .choices = {},
       .least = 1,
       .most = 3600,
       .unit = "s",
       .protocols = {}},
      {.key = "connect.limit",
       .section = "Connection",
       .type = T::Whole,
       .standard = "10",
       .label = "Wait for an answer",
       .help = "After this an attempt counts as timed out.",
       .choices = {},
       .least = 1,
       .most = 600,
       .unit = "s",
       .protocols = {}},
  };
  return settings;
}

const Setting* findSetting(const std::string& key) {
  for (const Setting& setting : allSettings())
    if (setting.key == key) return &setting;
  return nullptr;
}

std::string problemWith(const Setting& s, const std::string& value) {
  switch (s.type) {
    case SettingType::Choice: {
      std::string known;
      for (const SettingChoice& c : s.choices) {
        if (value == c.value) return {};
        known += (known.empty() ? "" : ", ") + std::string(c.value);
      }
      return "\"" + value + "\" is none of: " + known;
    }
    case SettingType::Switch:
      return value == "on" || value == "off" ? "" : "\"" + value + "\" is neither on nor off";
    case SettingType::Whole: {
      if (value.empty() || value.size() > 6 || value.find_first_not_of("0123456789") != std::string::npos)
        return "\"" + value + "\" is not a whole number";
      const int number = std::stoi(value);
      if (number < s.least || number > s.most)
        return "it must lie between " + std::to_string(s.least) + " and " + std::to_string(s.most);
      return {};
    }
    case SettingType::Text: return value.size() <= 4096 ? "" : "it is too long";
  }
  return {};
}

std::string labelOf(const Setting& s, const std::string& value) {
  for (const SettingChoice& c : s.choices)
    if (value == c.value) return c.label;
  if (s.type == SettingType::Switch) return value == "on" ? "On" : "Off";
  return s.unit[0] != '\0' ? value + " " + s.unit : value;
}

}  // namespace kw
