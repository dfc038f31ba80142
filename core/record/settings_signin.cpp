// Settings of who signs in and with what.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareSignInSettings() {
  using T = SettingType;
  return {
      {.key = "signin.from",
       .section = kSignInSection,
       .type = T::Choice,
       .standard = "kept",
       .label = "Taken from",
       .help = "Where name and password come from. A credential with a name serves any number of machines "
               "and is changed in one place; one that is set for a group counts for all in it.",
       .choices = {{"kept", "Kept here, else asked"},
                   {"ask", "Asked each time"},
                   {"command", "What a command prints"}},
       .protocols = {},
       .ownPrefix = kNamedSignIn},
      {.key = "signin.command",
       .section = kSignInSection,
       .type = T::Text,
       .standard = "",
       .label = "Command",
       .help = "A program of this desk and its words, run without a shell. The first line it prints is the "
               "password. {host}, {port}, {user} and {address} stand for those of the way in.",
       .choices = {},
       .protocols = {}},
      {.key = "signin.user",
       .section = kSignInSection,
       .type = T::Text,
       .standard = "",
       .label = "User",
       .help = "Who signs in where the address does not say.",
       .choices = {},
       .protocols = {"rdp", "ssh", "vnc"}}};
}

}  // namespace kw
