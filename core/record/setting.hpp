// Every setting is declared once, here: key, type, default, label, help. Sheets, command line and docs are
// made from these declarations. A setting's value in force comes from the nearest owner that sets it:
// way in, machine, group(s), place, built in.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace kw {

enum class SettingType {
  Choice,
  Whole,
  Switch,
  Text,
  Measure,  ///< of a picture, in pixels: "1920x1080" (measureFrom)
};

struct SettingChoice {
  const char* value;
  const char* label;
};

struct Setting {
  const char* key;      ///< "screen.fit"
  const char* section;  ///< the page of the sheet: "Screen"
  SettingType type;
  const char* standard;  ///< the built-in value, as text; switches are "on" and "off"
  const char* label;
  const char* help;
  std::vector<SettingChoice> choices;  ///< for Choice
  int least = 0, most = 0;             ///< for Whole
  const char* unit = "";
  std::vector<std::string>
      protocols;  ///< schemes, families, "screen" or "text" (catalogue.hpp: appliesTo); empty: all
  /// A Choice that takes values beginning so as well: what a user made, by its name.
  const char* ownPrefix = "";
};

/// In "signin.from": followed by a credential's name.
inline constexpr const char* kNamedSignIn = "named:";
/// The section whose page holds kept passwords, too.
inline constexpr const char* kSignInSection = "Sign-in";

const std::vector<Setting>& allSettings();
/// Null when no setting has this key.
const Setting* findSetting(const std::string& key);
/// Empty when the value may be set, else a sentence that says what is wrong.
std::string problemWith(const Setting& setting, const std::string& value);
/// Width and height of "1920x1080", 200 to 8192 each; nothing for anything else.
std::optional<std::pair<int, int>> measureFrom(const std::string& text);
/// What people expect among the settings of a section and no engine does, in a sentence; empty: nothing.
std::string notThere(const std::string& section);
/// "Shrink to fit" for "shrink"; "30 s" for "30".
std::string labelOf(const Setting& setting, const std::string& value);

}  // namespace kw
