#include "record/setting.hpp"

#include <charconv>
#include <map>

#include "record/settings_parts.hpp"

namespace kw {

const std::vector<Setting>& allSettings() {
  static const std::vector<Setting> settings = [] {
    std::vector<Setting> all;
    for (const auto declare :
         {declareScreenSettings, declareRdpSettings, declareSpiceSettings, declareLineSettings,
          declareSshSettings, declareConnectionSettings, declareSignInSettings, declareHostSettings,
          declareGateSettings, declareFileSettings, declareLookSettings})
      for (Setting& s : declare()) all.push_back(std::move(s));
    return all;
  }();
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
        if (s.ownPrefix[0] != '\0' && value.starts_with(s.ownPrefix) && value.size() < 100) return {};
        known += (known.empty() ? "" : ", ") + std::string(c.value);
      }
      return "\"" + value + "\" is none of: " + known;
    }
    case SettingType::Switch:
      return value == "on" || value == "off" ? "" : "\"" + value + "\" is neither on nor off";
    case SettingType::Whole: {
      if (value.empty() || value.size() > 7 || value.find_first_not_of("0123456789") != std::string::npos)
        return "\"" + value + "\" is not a whole number";
      const int number = std::stoi(value);
      if (number < s.least || number > s.most)
        return "it must lie between " + std::to_string(s.least) + " and " + std::to_string(s.most);
      return {};
    }
    case SettingType::Measure:
      return measureFrom(value) ? "" : "\"" + value + "\" is not a size such as 1920x1080 (200 to 8192)";
    case SettingType::Text: return value.size() <= 4096 ? "" : "it is too long";
  }
  return {};
}

std::optional<std::pair<int, int>> measureFrom(const std::string& text) {
  constexpr int kLeast = 200, kMost = 8192;
  int width = 0, height = 0;
  const char* end = text.data() + text.size();
  const auto first = std::from_chars(text.data(), end, width);
  if (first.ec != std::errc() || first.ptr == end || *first.ptr != 'x') return std::nullopt;
  const auto second = std::from_chars(first.ptr + 1, end, height);
  if (second.ec != std::errc() || second.ptr != end) return std::nullopt;
  if (width < kLeast || height < kLeast || width > kMost || height > kMost) return std::nullopt;
  return std::pair(width, height);
}

std::string notThere(const std::string& section) {
  static const std::map<std::string, std::string> sentences{
      {kScreenSection,
       "Scale, effects, keyboard layout, a program instead of the desktop and what decodes H.264 are for "
       "remote "
       "desktops (RDP)."},
      {kDevicesSection,
       "Folders, printers, smart cards, USB devices, serial ports, microphone and camera of this desk are "
       "not "
       "passed on, by no kind of way in."}};
  const auto found = sentences.find(section);
  return found == sentences.end() ? std::string() : found->second;
}

std::string labelOf(const Setting& s, const std::string& value) {
  for (const SettingChoice& c : s.choices)
    if (value == c.value) return c.label;
  if (s.ownPrefix[0] != '\0' && value.starts_with(s.ownPrefix))
    return value.substr(std::string(s.ownPrefix).size());
  if (s.type == SettingType::Switch) return value == "on" ? "On" : "Off";
  return s.unit[0] != '\0' ? value + " " + s.unit : value;
}

}  // namespace kw
