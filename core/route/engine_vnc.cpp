#include "route/engine_vnc.hpp"

#include "rfb/constants.hpp"
#include "wire/tls.hpp"
#include "wire/websocket.hpp"

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

bool overWebSocket(const Address& address) {
  return address.scheme == "vnc+ws" || address.scheme == "vnc+wss";
}

/// The way goes on over a WebSocket, sealed by TLS where the address says so; "?path=" names the place behind
/// the host.
class WebSocketWay : public Way {
 public:
  WebSocketWay(std::shared_ptr<Way> below, Address to, std::string label, std::shared_ptr<TrustStore> trust,
               std::string authorityFile)
      : below_(std::move(below)),
        to_(std::move(to)),
        label_(std::move(label)),
        trust_(std::move(trust)),
        authorityFile_(std::move(authorityFile)) {}

  Task<StreamPtr> connect(Asker& asker, RouteFacts& facts, ConnectFindings* findings,
                          std::optional<Place> elsewhere) override {
    StreamPtr stream = co_await below_->connect(asker, facts, findings, elsewhere);
    if (to_.scheme == "vnc+wss") stream = co_await sealed(std::move(stream), asker);
    const auto path = to_.options.find("path");
    const std::string host = to_.host + ":" + std::to_string(to_.port);
    const std::string place = path == to_.options.end() ? "/" : path->second;
    const std::string kind = "binary";
    co_return streamOver(co_await openWebSocket(std::move(stream), host, place, kind));
  }
  [[nodiscard]] std::string pinName() const override { return below_->pinName(); }
  [[nodiscard]] std::string forPeople() const override { return below_->forPeople(); }

 private:
  Task<StreamPtr> sealed(StreamPtr plain, Asker& asker) {
    TlsClientOptions options;
    options.hostName = to_.host;
    options.authorityFile = authorityFile_;
    options.decide = [this, &asker](PeerCertificate c) -> Task<bool> {
      co_return co_await trustCertificate(asker, trust_, pinName(), label_, std::move(c));
    };
    co_return co_await startTls(std::move(plain), std::move(options));
  }

  std::shared_ptr<Way> below_;
  Address to_;
  std::string label_;
  std::shared_ptr<TrustStore> trust_;
  std::string authorityFile_;
};

std::shared_ptr<Session> make(Opening opening) {
  VncConfig config = vncConfig(opening.to, opening.label, opening.setting);
  config.trust = trustIn(opening.tools.store);
  config.kept = keptSignInsOf(opening.tools, opening.owner, opening.to, opening.setting);
  config.way = opening.way;
  if (overWebSocket(opening.to))
    config.way = std::make_shared<WebSocketWay>(opening.way, opening.to, opening.label, config.trust,
                                                opening.setting("security.authorities"));
  return makeVncSession(opening.strand, opening.tools.clock, std::move(config));
}

// RFC 6143 7.1.1
Task<void> greets(ByteStream& stream, const Address& address) {
  if (overWebSocket(address)) co_return;  // the visitor speaks first there; opening tells the rest
  const std::string greeting = co_await readGreeting(stream, 12);
  if (!greeting.starts_with("RFB "))
    protocolBroken(address.forPeople(), "something answers, but no VNC console");
}

}  // namespace

const Engine vncEngine{"vnc", make, [](const Address&) { return Look::Connect; }, greets, nullptr, true};

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
