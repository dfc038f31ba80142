// Settings of SSH.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareSshSettings() {
  using T = SettingType;
  return {
      {.key = "ssh.agent",
       .section = "SSH",
       .type = T::Switch,
       .standard = "on",
       .label = "Use the agent's keys",
       .help = "Keys that an SSH agent of this desk holds are tried first.",
       .choices = {},
       .protocols = {"ssh"}},
      {.key = "ssh.keys",
       .section = "SSH",
       .type = T::Text,
       .standard = "",
       .label = "Key files",
       .help = "Separated by commas; a certificate beside a key is used with it.",
       .choices = {},
       .protocols = {"ssh"}},
      {.key = "ssh.certificate",
       .section = "SSH",
       .type = T::Text,
       .standard = "",
       .label = "Certificate",
       .help = "For the first key, when it does not lie beside it.",
       .choices = {},
       .protocols = {"ssh"}},
      {.key = "ssh.useconfig",
       .section = "SSH",
       .type = T::Switch,
       .standard = "off",
       .label = "Use ~/.ssh/config",
       .help = "Name, port, user, keys and jumps of a host come from there where the address does not say.",
       .choices = {},
       .protocols = {"ssh"}},
      {.key = "ssh.knownhosts",
       .section = "SSH",
       .type = T::Text,
       .standard = "",
       .label = "known_hosts file",
       .help = "Empty: the usual one in ~/.ssh. Read, and written when a key is kept.",
       .choices = {},
       .protocols = {"ssh"}},
      {.key = "ssh.alive",
       .section = "SSH",
       .type = T::Whole,
       .standard = "30",
       .label = "Sign of life",
       .help = "Sent so often, so that nobody between takes the line for dead; 0: never.",
       .choices = {},
       .least = 0,
       .most = 3600,
       .unit = "s",
       .protocols = {"ssh"}}};
}

}  // namespace kw
