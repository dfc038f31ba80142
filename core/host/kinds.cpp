// The table of host kinds.
#include "base/runtime.hpp"
#include "host/adapter.hpp"

namespace kw::host {

Task<std::string> HostAdapter::readInGuest(std::string, std::string) {
  throw Error(ErrorKind::Unsupported, "a host of this kind does not look into its machines");
  co_return std::string();
}

Task<std::string> HostAdapter::firstPassword(std::string) {
  throw Error(ErrorKind::Unsupported, "a host of this kind keeps no first passwords")
      .withCure("Paste it where it is shown, encrypted to your key.");
  co_return std::string();
}

namespace {

constexpr HostKind kKinds[] = {
    {"libvirt", "libvirt", "libvirt:qemu:///system", makeLibvirtAdapter},
    {"qmp", "QEMU by QMP", "qmp:/run/machines (a socket, or a folder of them)", makeQmpAdapter},
    {"command", "own command", "command:/usr/local/bin/our-machines", makeCommandAdapter, true}};

constexpr std::pair<PowerAct, const char*> kActs[] = {
    {PowerAct::Start, "start"},     {PowerAct::ShutDown, "shutdown"}, {PowerAct::Off, "off"},
    {PowerAct::Restart, "restart"}, {PowerAct::Reset, "reset"},       {PowerAct::Pause, "pause"},
    {PowerAct::Resume, "resume"}};

}  // namespace

const char* nameOf(PowerAct act) {
  for (const auto& [known, name] : kActs)
    if (known == act) return name;
  return "";
}

std::optional<PowerAct> powerActFrom(const std::string& name) {
  for (const auto& [act, known] : kActs)
    if (name == known) return act;
  return std::nullopt;
}

bool losesWork(PowerAct act) { return act == PowerAct::Off || act == PowerAct::Reset; }

std::span<const HostKind> allHostKinds() { return kKinds; }

std::unique_ptr<HostAdapter> makeAdapter(const std::string& address, const AdapterTools& tools) {
  const auto colon = address.find(':');
  std::string known;
  for (const HostKind& kind : kKinds) {
    if (colon != std::string::npos && address.compare(0, colon, kind.scheme) == 0)
      return kind.make(address.substr(colon + 1), tools);
    known += (known.empty() ? "" : ", ") + std::string(kind.scheme) + ":";
  }
  throw Error(ErrorKind::Local, "a host's address begins with one of " + known, address);
}

std::string commandOf(const std::string& address) {
  const auto colon = address.find(':');
  for (const HostKind& kind : kKinds)
    if (kind.runsCommand && colon != std::string::npos && address.compare(0, colon, kind.scheme) == 0)
      return address.substr(colon + 1);
  return {};
}

std::string problemWithHostAddress(const std::string& address) {
  try {
    Runtime runtime(1);
    makeAdapter(address, {runtime.strand(), systemClock(), {}, {}});
    return {};
  } catch (const Error& e) {
    return e.what();
  }
}

}  // namespace kw::host
