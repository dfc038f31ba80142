// Settings of every connection.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareConnectionSettings() {
  using T = SettingType;
  return {
      {.key = "route.via",
       .section = "Connection",
       .type = T::Text,
       .standard = "",
       .label = "Reached through",
       .help = "SSH jumps, nearest first: ssh://duty@gatehouse, or machines of this program; separated by "
               "commas.",
       .choices = {},
       .protocols = {}},
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
       .protocols = {}}};
}

}  // namespace kw
