// The files of declarations that allSettings() is made of, in the order of the sheet. One file an engine.
#pragma once
#include "record/setting.hpp"

namespace kw {

inline constexpr const char* kScreenSection = "Screen";
inline constexpr const char* kDevicesSection = "Sound and devices";

std::vector<Setting> declareScreenSettings();
std::vector<Setting> declareRdpSettings();
std::vector<Setting> declareSpiceSettings();
std::vector<Setting> declareLineSettings();
std::vector<Setting> declareSshSettings();
std::vector<Setting> declareConnectionSettings();
std::vector<Setting> declareSignInSettings();
std::vector<Setting> declareLookSettings();
std::vector<Setting> declareHostSettings();
std::vector<Setting> declareGateSettings();
std::vector<Setting> declareFileSettings();

}  // namespace kw
