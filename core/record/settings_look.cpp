// Settings of how a machine stands in lists, and of commands of one's own.
#include "record/settings_parts.hpp"

namespace kw {

std::vector<Setting> declareLookSettings() {
  using T = SettingType;
  return {
      {.key = "look.favourite",
       .section = "In the roster",
       .type = T::Switch,
       .standard = "off",
       .label = "Favourite",
       .help = "Stands on top of the roster, before all groups.",
       .choices = {},
       .protocols = {}},
      {.key = "look.mark",
       .section = "In the roster",
       .type = T::Text,
       .standard = "",
       .label = "Mark",
       .help = "One to three letters or a sign of your own, beside the name.",
       .choices = {},
       .protocols = {}},
      {.key = "look.colour",
       .section = "In the roster",
       .type = T::Choice,
       .standard = "none",
       .label = "Colour",
       .help = "Of its mark in the roster and its pane, so that machines of a kind, or those that must be "
               "handled with care, are known at a glance.",
       .choices = {{"none", "None"},
                   {"moss", "Moss"},
                   {"lake", "Lake"},
                   {"plum", "Plum"},
                   {"straw", "Straw"},
                   {"clay", "Clay"},
                   {"ash", "Ash"}},
       .protocols = {}},
      {.key = "look.template",
       .section = "In the roster",
       .type = T::Switch,
       .standard = "off",
       .label = "A template",
       .help = "New machines can be made from it; it is neither looked at nor opened.",
       .choices = {},
       .protocols = {}},
      {.key = "commands.own",
       .section = "Commands",
       .type = T::Text,
       .standard = "",
       .label = "In its menu",
       .help = "Title = program words, parted by ;; and run on this desk without a shell. {name}, {on}, "
               "{host}, {port}, {user} and {address} stand for those of the machine.",
       .choices = {},
       .protocols = {}},
      {.key = "commands.before",
       .section = "Commands",
       .type = T::Text,
       .standard = "",
       .label = "Before opening",
       .help = "A program and its words, with the same placeholders. It is waited for; when it fails, "
               "nothing is opened.",
       .choices = {},
       .protocols = {}},
      {.key = "commands.after",
       .section = "Commands",
       .type = T::Text,
       .standard = "",
       .label = "After closing",
       .help = "A program and its words, with the same placeholders.",
       .choices = {},
       .protocols = {}}};
}

}  // namespace kw
