// What came with a connection file.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareFileSettings() {
  return {
      {.key = "file.kept",
       .section = "Connection",
       .type = SettingType::Text,
       .standard = "",
       .label = "Other lines of its file",
       .help = "What an imported connection file said that has no place here; written back when exported.",
       .choices = {},
       .protocols = {}}};
}

}  // namespace kw
