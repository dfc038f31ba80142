// Settings of SPICE alone.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareSpiceSettings() {
  using T = SettingType;
  return {{.key = "spice.compression",
           .section = "SPICE",
           .type = T::Choice,
           .standard = "host",
           .label = "Preferred compression",
           .help = "How the host packs pictures; all but the automatic kinds keep every pixel as it is.",
           .choices = {{"host", "As the host has it"},
                       {"off", "None"},
                       {"auto_glz", "Choose, with a dictionary"},
                       {"auto_lz", "Choose, without one"},
                       {"quic", "QUIC"},
                       {"glz", "GLZ"},
                       {"lz", "LZ"},
                       {"lz4", "LZ4"}},
           .protocols = {"spice"}},
          {.key = "spice.tlsport",
           .section = "SPICE",
           .type = T::Whole,
           .standard = "0",
           .label = "Port for sealed channels",
           .help = "Where the host listens with TLS besides the plain port; 0: none.",
           .choices = {},
           .least = 0,
           .most = 65535,
           .protocols = {"spice"}}};
}

}  // namespace kw
