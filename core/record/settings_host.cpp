// Settings of machines that a host runs.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareHostSettings() {
  using T = SettingType;
  return {
      {.key = "host.id",
       .section = "Host",
       .type = T::Text,
       .standard = "",
       .label = "ID on its host",
       .help = "Which of the host's machines this is; adopting fills it in. With it, changes on the host "
               "are noticed and power can be switched.",
       .choices = {},
       .protocols = {}},
      {.key = "host.setagain",
       .section = "Host",
       .type = T::Switch,
       .standard = "off",
       .label = "Set the console's password at each start",
       .help = "Hosts forget it when a machine stops. The kept password of this way in is given to the "
               "host again whenever the machine is started from here.",
       .choices = {},
       .protocols = {"screen"}},
      {.key = "host.wait",
       .section = "Host",
       .type = T::Whole,
       .standard = "300",
       .label = "Wait for a start at most",
       .help = "How long starting and opening waits until the way in answers.",
       .choices = {},
       .least = 5,
       .most = 7200,
       .unit = "s",
       .protocols = {}},
      {.key = "host.changeover",
       .section = "Host",
       .type = T::Choice,
       .standard = "ask",
       .label = "When it answers after a start",
       .help = "While this way in is awaited, the machine's console may be looked at. This says whether that "
               "is left once this way in is there.",
       .choices = {{"ask", "Offer to leave the console"},
                   {"self", "Leave the console by itself"},
                   {"stay", "Leave both open"}},
       .protocols = {}}};
}

}  // namespace kw
