#include "gate/rules.hpp"

#include "route/opening.hpp"

namespace kw::gate {

Rules rulesOf(const Snapshot& records, Id wayIn) {
  Rules r;
  const SettingReader setting = [&](const std::string& key) {
    const ResolvedSetting found = records.resolve({OwnerKind::WayIn, wayIn}, key);
    r.where[key] = found.origin;
    return found.value;
  };
  r.access = isOn(setting, "gate.access");
  r.drive = setting("gate.hand") == "drive" && setting("screen.viewonly") != "on";
  if (r.where.contains("screen.viewonly") && setting("gate.hand") == "drive")
    r.where["gate.hand"] = r.where["screen.viewonly"];
  const std::string clipboard = setting("gate.clipboard");
  r.clipboardTo = clipboard == "both" || clipboard == "to";
  r.clipboardFrom = clipboard == "both" || clipboard == "from";
  r.several = isOn(setting, "gate.several");
  r.askFirst = setting("gate.door") == "ask";
  r.handEnds = setting("gate.end") == "hand";
  r.record = isOn(setting, "gate.record");
  r.passes = isOn(setting, "gate.passes");
  r.power = isOn(setting, "gate.power");
  r.passHours = wholeOf(setting, "gate.passhours");
  r.passUses = wholeOf(setting, "gate.passuses");
  r.keep = wholeOf(setting, "gate.keep");
  return r;
}

std::string Rules::setBy(const std::string& key) const {
  const auto found = where.find(key);
  if (found == where.end() || found->second == "built in") return " (nobody has switched it on)";
  if (found->second == "set here") return " (set on this way in; whoever edits its sheet can change it)";
  return " (" + found->second + "; whoever edits its sheet can change it)";
}

std::string problemWithPass(const Rules& rules, double hours, int uses) {
  if (!rules.access) return "this machine is not reached through the gateway" + rules.setBy("gate.access");
  if (!rules.passes) return "passes are off for this machine" + rules.setBy("gate.passes");
  if (!(hours > 0) || hours > rules.passHours)
    return "a pass of this machine lasts at most " + std::to_string(rules.passHours) + " h" +
           rules.setBy("gate.passhours");
  if (rules.passUses > 0 && (uses == 0 || uses > rules.passUses))
    return "a pass of this machine opens it at most " + std::to_string(rules.passUses) + " times" +
           rules.setBy("gate.passuses");
  return "";
}

}  // namespace kw::gate
