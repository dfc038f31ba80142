#include "route/engine_vnc.hpp"

#include "rfb/constants.hpp"

namespace kw {

namespace {

/// "auto", one that is preferred, or "only:NAME" (from a shell), with nothing else but raw.
std::vector<std::int32_t> encodingsFor(const std::string& word) {
  std::int32_t first = 0;
  if (word.starts_with("only:")) {
    if (!rfb::encodingFromName(word.substr(5), first))
      throw Error(ErrorKind::Local, "no encoding has this name", word.substr(5));
    return {first, rfb::encoding::kRaw};
  }
  if (word == "auto" || !rfb::encodingFromName(word, first)) return {};
  std::vector<std::int32_t> list{first, rfb::encoding::kCopyRect};
  for (std::int32_t e : {rfb::encoding::kZrle, rfb::encoding::kHextile, rfb::encoding::kRaw})
    if (e != first) list.push_back(e);
  return list;
}

std::shared_ptr<Session> make(Opening opening) {
  VncConfig config = vncConfig(opening.to, opening.label, opening.setting);
  config.trust = trustIn(opening.tools.store);
  config.kept = keptSignInsOf(opening.tools, opening.owner, opening.to);
  config.way = opening.way;
  return makeVncSession(opening.strand, opening.tools.clock, std::move(config));
}

// RFC 6143 7.1.1
Task<void> greets(ByteStream& stream, const Address& address) {
  const std::string greeting = co_await readGreeting(stream, 12);
  if (!greeting.starts_with("RFB "))
    protocolBroken(address.forPeople(), "something answers, but no VNC console");
}

}  // namespace

const Engine vncEngine{"vnc", make, [](const Address&) { return Look::Connect; }, greets, nullptr};

QualityLevels qualityLevels(const std::string& word) {
  if (word == "lossless") return {-1, 2};
  if (word == "medium") return {6, 4};
  if (word == "low") return {3, 9};
  return {8, 2};  // "high", and where "auto" begins
}

VncConfig vncConfig(const Address& address, const std::string& label, const SettingReader& setting) {
  VncConfig config;
  config.label = label;
  config.host = address.host;
  config.port = address.port;
  config.unixPath = address.path;
  config.connectLimit = std::chrono::seconds(wholeOf(setting, "connect.limit"));
  config.viewOnly = isOn(setting, "screen.viewonly");
  config.reconnect = reconnectPolicy(setting);
  rfb::ClientOptions& o = config.options;
  o.shared = isOn(setting, "screen.shared");
  o.format = rfb::formatOfColours(wholeOf(setting, "screen.colours"));
  o.encodings = encodingsFor(setting("screen.encoding"));
  const QualityLevels levels = qualityLevels(setting("screen.quality"));
  config.chooseQuality = setting("screen.quality") == "auto";
  o.quality = levels.quality;
  o.compression = levels.compression;
  o.audio = isOn(setting, "sound.play");
  o.clipboard = setting("clipboard.way") != "off";
  o.security.sealedOnly = isOn(setting, "security.sealed");
  o.security.allowAnonymousTls = isOn(setting, "security.anonymous");
  o.security.authorityFile = setting("security.authorities");
  return config;
}

}  // namespace kw
