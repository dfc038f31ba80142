// RDP from addresses and settings.

#include "rdp/input.hpp"
#include "record/setting.hpp"

#include "route/engine.hpp"
#include "session/rdp_session.hpp"

namespace kw {

namespace {

/// "1920x1080"; throws Error{Local}.
Size sizeFrom(const std::string& text) {
  const auto measure = measureFrom(text);
  if (!measure)
    throw Error(ErrorKind::Local, "\"" + text + "\" is not a size such as 1920x1080 (200 to 8192)");
  Size size{measure->first, measure->second};
  size.width &= ~1;
  return size;
}

rdp::SignInKind signInKind(const std::string& word) {
  if (word == "nla") return rdp::SignInKind::Network;
  if (word == "tls") return rdp::SignInKind::Tls;
  return word == "rdp" ? rdp::SignInKind::Legacy : rdp::SignInKind::Strongest;
}

rdp::ProofKind proofKind(const std::string& word) {
  if (word == "kerberos") return rdp::ProofKind::Kerberos;
  return word == "ntlm" ? rdp::ProofKind::Ntlm : rdp::ProofKind::Fitting;
}

std::optional<unsigned> packingFor(const std::string& word) {
  if (word == "off") return std::nullopt;
  return word == "more" ? rdp::bulk::kRdp61 : rdp::bulk::k64K;
}

rdp::CodecOffer codecsFor(const std::string& word) {
  rdp::CodecOffer out;
  out.pipeline = word == "auto" || word == "novideo";
  out.video = word == "auto";
  out.remoteFx = word == "remotefx";
  out.nsCodec = word == "nscodec";
  out.orders = word == "orders";
  return out;
}

std::shared_ptr<Session> make(Opening o) {
  RdpConfig config;
  config.label = o.label;
  config.way = o.way;
  config.trust = trustIn(o.tools.store);
  config.kept = keptSignInsOf(o.tools, o.owner, o.to, o.setting);
  config.reconnect = reconnectPolicy(o.setting);
  config.viewOnly = isOn(o.setting, "screen.viewonly");
  rdp::ClientOptions& c = config.options;
  c.host = o.to.host;
  config.port = o.to.port;
  c.user = o.tools.givenUser.empty() ? o.to.user : o.tools.givenUser;
  if (c.user.empty()) c.user = config.kept.user;
  c.domain = o.setting("rdp.domain");
  c.signIn = signInKind(o.setting("rdp.security"));
  c.proof = proofKind(o.setting("rdp.proof"));
  c.sealedOnly = isOn(o.setting, "security.sealed");
  c.authorityFile = o.setting("security.authorities");
  c.size = sizeFrom(o.setting(o.setting("screen.size") == "fixed" ? "screen.fixed" : "rdp.size"));
  c.colours = wholeOf(o.setting, "screen.colours");
  c.scale = wholeOf(o.setting, "rdp.scale");
  c.keyboardLayout = rdp::layoutNumber(o.setting("rdp.layout"));
  c.performanceFlags = rdp::performanceFlags(o.setting("rdp.effects"));
  c.codecs = codecsFor(o.setting("rdp.codec"));
  c.codecs.hardware = o.setting("rdp.decoder") == "hardware";
  c.packing = packingFor(o.setting("rdp.compress"));
  c.sound = isOn(o.setting, "sound.play");
  c.soundThere = o.setting("sound.play") == "there";
  c.program = o.setting("rdp.program");
  c.folder = o.setting("rdp.folder");
  c.administrative = isOn(o.setting, "rdp.admin");
  c.clipboard = o.setting("clipboard.way") != "off";
  c.positions = isOn(o.setting, "keyboard.positions");
  c.routingToken = o.setting("rdp.balance");
  if (const auto machine = o.to.options.find("machine"); machine != o.to.options.end())
    c.machineId = machine->second;
  return makeRdpSession(o.strand, o.tools.clock, std::move(config));
}

std::string kind(const Address& address, const SettingReader&) {
  return address.options.contains("machine") ? "rdp console" : "rdp";
}

/// The negotiation is answered by every service that speaks RDP (MS-RDPBCGR 2.2.1.2). A host's console is not
/// asked without a machine's ID, which would be somebody's visit.
Task<void> greets(ByteStream& stream, const Address& address) {
  if (address.options.contains("machine")) co_return;
  const Bytes request = rdp::writeConnectRequest({});
  co_await stream.write(request);
  const std::string answer = co_await readGreeting(stream, 7);
  if (answer[0] != 3 || answer[5] != static_cast<char>(0xd0))
    protocolBroken(address.forPeople(), "something answers, but no RDP service");
}

}  // namespace

const Engine rdpEngine{"rdp", make, [](const Address&) { return Look::Connect; }, greets, kind, true};

}  // namespace kw
