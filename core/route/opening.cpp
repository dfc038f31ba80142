#include "route/opening.hpp"

#include <charconv>

#include "record/catalogue.hpp"
#include "record/setting.hpp"
#include "route/sign_in_source.hpp"

namespace kw {

namespace {

std::string secretAbout(Owner owner) {
  return "sign-in " + std::to_string(static_cast<int>(owner.kind)) + " " + std::to_string(owner.id);
}

class StoreTrust : public TrustStore {
 public:
  explicit StoreTrust(std::shared_ptr<Store> store) : store_(std::move(store)) {}
  std::optional<std::string> pinned(const std::string& peer) override { return store_->pinned(peer); }
  void pin(const std::string& peer, const std::string& sha256) override { store_->pin(peer, sha256); }

 private:
  std::shared_ptr<Store> store_;
};

constexpr const char* kUseWords[] = {"", "clear", "challenge", "sealed", "proved"};

SecretUse useFromWord(const std::string& word) {
  for (int i = 0; i < 5; ++i)
    if (word == kUseWords[i]) return static_cast<SecretUse>(i);
  return SecretUse::Unknown;
}

int wholeFrom(const std::string& text, int otherwise) {
  int value = otherwise;
  std::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}

}  // namespace

SettingReader builtInSettings() {
  return [](const std::string& key) { return Snapshot().resolve({}, key).value; };
}

SettingReader settingsOf(const Snapshot& snapshot, Owner owner) {
  // Each value is resolved once.
  auto values = std::make_shared<std::map<std::string, std::string>>();
  const Snapshot* s = &snapshot;
  return [s, owner, values](const std::string& key) {
    auto [at, fresh] = values->try_emplace(key);
    if (fresh) at->second = s->resolve(owner, key).value;
    return at->second;
  };
}

SettingReader overlaid(SettingReader below, std::map<std::string, std::string> over) {
  return [below = std::move(below), over = std::move(over)](const std::string& key) {
    const auto found = over.find(key);
    return found == over.end() ? below(key) : found->second;
  };
}

int wholeOf(const SettingReader& setting, const std::string& key) {
  const Setting* declared = findSetting(key);
  return wholeFrom(setting(key), declared == nullptr ? 0 : wholeFrom(declared->standard, 0));
}

bool isOn(const SettingReader& setting, const std::string& key) { return setting(key) == "on"; }

ReconnectPolicy reconnectPolicy(const SettingReader& setting) {
  ReconnectPolicy policy;
  policy.enabled = isOn(setting, "reconnect.again");
  policy.longest = std::chrono::seconds(wholeOf(setting, "reconnect.longest"));
  return policy;
}

// Inside the seal: user, password and, since kinds are told apart, what it was kept for; parted by NUL.
void keepSignIn(const OpeningTools& tools, Owner owner, const SignIn& signIn) {
  if (!tools.store || !tools.vault || !tools.vault->isOpen()) return;
  const std::string use = kUseWords[static_cast<int>(signIn.use)];
  std::string plain;
  plain.reserve(signIn.user.size() + signIn.password.size() + use.size() + 2);  // growing would leave copies
  plain.append(signIn.user).append(1, '\0').append(signIn.password.view());
  if (signIn.use != SecretUse::Unknown) plain.append(1, '\0').append(use);
  const Secret sealed(std::move(plain));
  tools.store->putSecret(owner, tools.vault->seal(sealed, secretAbout(owner)));
}

std::optional<SignIn> keptSignIn(const OpeningTools& tools, Owner owner) {
  if (!tools.store || !tools.vault || !tools.vault->isOpen()) return std::nullopt;
  const auto sealedText = tools.store->secret(owner);
  if (!sealedText) return std::nullopt;
  const auto plain = tools.vault->unseal(*sealedText, secretAbout(owner));
  if (!plain) return std::nullopt;
  const std::string_view text = plain->view();
  const auto split = text.find('\0');
  if (split == std::string::npos) return std::nullopt;
  const auto second = std::min(text.find('\0', split + 1), text.size());
  SignIn out{std::string(text.substr(0, split)), text.substr(split + 1, second - split - 1),
             SecretUse::Unknown};
  if (second < text.size()) out.use = useFromWord(std::string(text.substr(second + 1)));
  return out;
}

KeptSignIns keptSignInsOf(const OpeningTools& tools, Owner owner, const Address& address,
                          const SettingReader& setting) {
  auto source = std::make_shared<SignInSource>(tools, owner, address, setting);
  KeptSignIns kept;
  kept.find = [source](SecretUse use) { return source->find(use); };
  kept.keep = [source](const SignIn& s) { source->keep(s); };
  if (source->hasCommand())
    kept.fetch = [source]() -> Task<std::optional<SignIn>> { co_return co_await source->fetch(); };
  kept.user = source->user();
  kept.credential = source->credential();
  kept.account = accountWords(address);
  return kept;
}

std::shared_ptr<TrustStore> trustIn(std::shared_ptr<Store> store) {
  return store ? std::make_shared<StoreTrust>(std::move(store)) : nullptr;
}

}  // namespace kw
