#include "route/engine.hpp"

#include "record/catalogue.hpp"

namespace kw {

namespace {
const Engine* const kEngines[] = {&vncEngine, &rdpEngine, &spiceEngine, &lineEngine, &sshEngine};
}

std::span<const Engine* const> allEngines() { return kEngines; }

const Engine* engineFor(const std::string& scheme) {
  const WayKind* known = findWayKind(scheme);
  if (known == nullptr) return nullptr;
  for (const Engine* engine : kEngines)
    if (std::string_view(engine->family) == known->family) return engine;
  return nullptr;
}

bool canOpen(const std::string& scheme) { return engineFor(scheme) != nullptr; }

Task<std::string> readGreeting(ByteStream& stream, std::size_t n) {
  std::string greeting;
  Bytes bytes(n);
  while (greeting.size() < n) {
    const std::size_t got = co_await stream.readSome(ByteSpan(bytes).first(n - greeting.size()));
    greeting += textOf(ByteView(bytes).first(got));
  }
  co_return greeting;
}

std::string kindOf(const Address& address, const SettingReader& setting) {
  const Engine* engine = engineFor(address.scheme);
  if (engine != nullptr && engine->kind != nullptr) return engine->kind(address, setting);
  const WayKind* known = findWayKind(address.scheme);
  return known == nullptr ? address.scheme : known->chip;
}

std::shared_ptr<Session> makeSession(const Executor& strand, const Address& address, const std::string& label,
                                     const SettingReader& setting, const OpeningTools& tools, Owner owner) {
  const Engine* engine = engineFor(address.scheme);
  if (engine == nullptr)
    throw Error(ErrorKind::Unsupported, "this version has no engine for " + address.scheme + " yet",
                address.uri());
  auto session =
      engine->make({strand, address, label, setting, tools, owner, wayTo(address, setting, tools)});
  session->setPolicy(policyOf(setting));
  return session;
}

Policy policyOf(const SettingReader& setting) {
  Policy policy;
  const std::string clipboard = setting("clipboard.way");
  policy.clipboardTo = clipboard == "both" || clipboard == "to";
  policy.clipboardFrom = clipboard == "both" || clipboard == "from";
  const std::string kinds = setting("clipboard.kinds");
  policy.clipFormatted = kinds != "plain";
  policy.clipPictures = kinds == "all" || kinds == "pictures";
  policy.clipFiles = kinds == "all";
  policy.onlyLook = isOn(setting, "screen.viewonly");
  return policy;
}

}  // namespace kw
