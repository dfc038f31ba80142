#include "route/opening.hpp"

#include "rfb/constants.hpp"
#include "route/text_opening.hpp"

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

std::vector<std::int32_t> encodingsFor(const std::string& word) {
  std::int32_t first = 0;
  if (word == "auto" || !rfb::encodingFromName(word, first)) return {};
  std::vector<std::int32_t> list{first, rfb::encoding::kCopyRect};
  for (std::int32_t e : {rfb::encoding::kZrle, rfb::encoding::kHextile, rfb::encoding::kRaw})
    if (e != first) list.push_back(e);
  return list;
}

}  // namespace

bool isPictureScheme(const std::string& scheme) { return scheme == "vnc" || scheme == "vnc+unix"; }
bool canOpen(const std::string& scheme) { return isPictureScheme(scheme) || isTextScheme(scheme); }

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

QualityLevels qualityLevels(const std::string& word) {
  if (word == "lossless") return {-1, 2};
  if (word == "medium") return {6, 4};
  if (word == "low") return {3, 9};
  return {8, 2};  // "high", and where "auto" begins
}

VncConfig vncConfig(const Address& address, const std::string& label, const SettingReader& setting) {
  if (!isPictureScheme(address.scheme))
    throw Error(ErrorKind::Unsupported, "this version has no engine for " + address.scheme + " yet",
                address.uri());
  VncConfig config;
  config.label = label;
  config.host = address.host;
  config.port = address.port;
  config.unixPath = address.path;
  config.connectLimit = std::chrono::seconds(std::stoi(setting("connect.limit")));
  config.viewOnly = setting("screen.viewonly") == "on";
  config.reconnect.enabled = setting("reconnect.again") == "on";
  config.reconnect.longest = std::chrono::seconds(std::stoi(setting("reconnect.longest")));
  rfb::ClientOptions& o = config.options;
  o.shared = setting("screen.shared") == "on";
  const std::string colours = setting("screen.colours");
  o.format = colours == "8"    ? PixelFormat::rgb332()
             : colours == "16" ? PixelFormat::rgb565()
                               : PixelFormat::native();
  o.encodings = encodingsFor(setting("screen.encoding"));
  const QualityLevels levels = qualityLevels(setting("screen.quality"));
  config.chooseQuality = setting("screen.quality") == "auto";
  o.quality = levels.quality;
  o.compression = levels.compression;
  o.audio = setting("sound.play") == "on";
  o.clipboard = setting("clipboard.way") != "off";
  o.security.sealedOnly = setting("security.sealed") == "on";
  o.security.allowAnonymousTls = setting("security.anonymous") == "on";
  o.security.authorityFile = setting("security.authorities");
  return config;
}

void keepSignIn(const OpeningTools& tools, Owner owner, const rfb::SignIn& signIn) {
  if (!tools.store || !tools.vault || !tools.vault->isOpen()) return;
  const std::string plain = signIn.user + '\0' + signIn.password;
  tools.store->putSecret(owner, tools.vault->seal(plain, secretAbout(owner)));
}

std::optional<rfb::SignIn> keptSignIn(const OpeningTools& tools, Owner owner) {
  if (!tools.store || !tools.vault || !tools.vault->isOpen()) return std::nullopt;
  const auto sealedText = tools.store->secret(owner);
  if (!sealedText) return std::nullopt;
  const auto plain = tools.vault->unseal(*sealedText, secretAbout(owner));
  if (!plain) return std::nullopt;
  const auto split = plain->find('\0');
  if (split == std::string::npos) return std::nullopt;
  return rfb::SignIn{plain->substr(0, split), plain->substr(split + 1)};
}

std::shared_ptr<TrustStore> trustIn(std::shared_ptr<Store> store) {
  return std::make_shared<StoreTrust>(std::move(store));
}

std::shared_ptr<Session> makeSession(const Executor& strand, const Address& address, const std::string& label,
                                     const SettingReader& setting, const OpeningTools& tools, Owner owner,
                                     const SessionChanges& changes) {
  if (isTextScheme(address.scheme)) {
    TextConfig config = textConfig(address, label, setting, tools, owner);
    if (changes.text) changes.text(config);
    return makeTextSession(strand, tools.clock, std::move(config));
  }
  VncConfig config = vncConfig(address, label, setting);
  if (owner.id != 0)
    useRecords(config, tools, owner);
  else if (tools.store)
    config.trust = trustIn(tools.store);
  if (const std::vector<SshHop> hops = hopsTo(address, setting, tools); !hops.empty())
    config.connect = [hops, address, limit = config.connectLimit, tools](Asker& asker, RouteFacts& facts,
                                                                         ConnectFindings* findings) {
      return connectThrough(hops, address, limit, tools, asker, facts, findings);
    };
  if (changes.vnc) changes.vnc(config);
  return makeVncSession(strand, tools.clock, std::move(config));
}

void useRecords(VncConfig& config, const OpeningTools& tools, Owner owner) {
  if (tools.store) config.trust = trustIn(tools.store);
  config.keptSignIn = [tools, owner](const rfb::SignInRequest&) { return keptSignIn(tools, owner); };
  config.rememberSignIn = [tools, owner](const rfb::SignIn& s) { keepSignIn(tools, owner, s); };
}

}  // namespace kw
