#include "route/text_opening.hpp"

#include <pwd.h>
#include <unistd.h>

#include "base/file.hpp"
#include "credential/one_time_code.hpp"
#include "line/serial.hpp"
#include "line/telnet.hpp"
#include "route/sign_in_source.hpp"
#include "ssh/config.hpp"

namespace kw {

namespace {

std::string option(const Address& address, const std::string& key, const std::string& otherwise) {
  const auto at = address.options.find(key);
  return at == address.options.end() ? otherwise : at->second;
}

std::string userHere() {
  const passwd* p = getpwuid(getuid());
  return p != nullptr ? p->pw_name : "root";
}

std::string withHome(const std::string& path) {
  const char* home = std::getenv("HOME");
  return path.starts_with("~/") && home != nullptr ? home + path.substr(1) : path;
}

text::TerminalOptions terminalOptions(const SettingReader& setting) {
  text::TerminalOptions o;
  o.scrollRows = static_cast<std::size_t>(wholeOf(setting, "text.scroll"));
  const std::string enter = setting("text.enter");
  o.enter = enter == "lf"     ? text::EnterSends::Lf
            : enter == "crlf" ? text::EnterSends::CrLf
                              : text::EnterSends::Cr;
  o.backspace = setting("text.backspace") == "backspace" ? text::BackspaceSends::Backspace
                                                         : text::BackspaceSends::Delete;
  o.charset = setting("text.charset") == "latin1" ? text::Charset::Latin1 : text::Charset::Utf8;
  o.newlineReturns = setting("text.newline") == "on";
  return o;
}

/// Watch words in a setting stand on one line, parted by ;;
std::vector<text::WatchWord> watchWordsOf(std::string words) {
  for (auto at = words.find(";;"); at != std::string::npos; at = words.find(";;")) words.replace(at, 2, "\n");
  return text::parseWatchWords(words);
}

std::optional<text::LogOptions> logOptions(const std::string& label, const SettingReader& setting) {
  const std::string form = setting("text.log");
  if (form == "off") return std::nullopt;
  text::LogOptions o;
  o.folder = stateFolder() / "logs";
  o.name = label;
  o.form = form == "raw" ? text::LogForm::Raw : text::LogForm::Plain;
  o.times = setting("text.logtimes") == "on";
  return o;
}

struct LineWish {
  Address address;
  LineSettings line;
  std::chrono::nanoseconds limit;
  std::shared_ptr<Way> way;
  std::vector<SshHop> hops;
  std::optional<SshHop> ssh;  ///< the address itself, for a shell
  OpeningTools tools;
  std::string authorities;
  std::string label;
};

Task<TextLine> serialLine(LineWish wish) {
  TextLine out;
  SerialLine line = co_await openSerial(wish.address.path, wish.line);
  out.stream = std::move(line.stream);
  out.control = line.control;
  out.hasSettings = true;
  out.kind = "serial";
  co_return out;
}

Task<TextLine> telnetLine(LineWish wish, StreamPtr below) {
  TelnetOptions options;
  options.comPort = wish.address.scheme == "telnet+serial";
  options.line = wish.line;
  options.limit = wish.limit;
  auto telnet = co_await telnetClient(std::move(below), options);
  TelnetStream* raw = telnet.get();
  TextLine out;
  out.control = raw;
  out.hasSettings = options.comPort;
  out.kind = options.comPort ? "network serial" : "telnet";
  if (!options.comPort) out.echoesHere = [raw] { return !raw->remoteEcho(); };
  out.resize = [raw](int columns, int rows) -> Task<void> {
    raw->setWindowSize(columns, rows);
    const Bytes nothing;
    co_await raw->write(nothing);
  };
  out.stream = std::move(telnet);
  co_return out;
}

Task<TextLine> shellLine(LineWish wish, Asker& asker, RouteFacts& facts, ConnectFindings* findings) {
  std::vector<SshHop> hops = wish.hops;
  hops.push_back(*wish.ssh);
  std::shared_ptr<TrustStore> trust = trustIn(wish.tools.store);
  auto connection = co_await wish.tools.ssh->connect(std::move(hops), trust, asker, facts, findings);
  facts.hops.pop_back();  // the last one is the machine itself
  TextLine out;
  const auto command = wish.address.options.find("exec");
  if (command != wish.address.options.end()) {
    out.stream = co_await connection->exec(command->second);
  } else {
    SshConnection::Shell shell = co_await connection->shell("xterm-256color", 80, 24);
    out.stream = std::move(shell.stream);
    out.resize = std::move(shell.resize);
  }
  out.stream = keeping(std::move(out.stream), connection);
  out.kind = "ssh, " + connection->ciphers();
  co_return out;
}

Task<StreamPtr> sealedStream(LineWish wish, StreamPtr below, Asker& asker) {
  const Executor here = co_await asio::this_coro::executor;
  TlsClientOptions options;
  options.hostName = wish.address.host;
  options.authorityFile = wish.authorities;
  std::shared_ptr<TrustStore> trust = trustIn(wish.tools.store);
  const std::string peer = wish.way->pinName();
  const std::string label = wish.label;
  options.decide = [&asker, trust, peer, label](PeerCertificate c) {
    return trustCertificate(asker, trust, peer, label, std::move(c));
  };
  co_return co_await startTls(std::move(below), std::move(options));
}

Task<TextLine> makeLine(LineWish wish, Asker& asker, RouteFacts& facts, ConnectFindings* findings) {
  if (wish.address.scheme == "serial") co_return co_await serialLine(std::move(wish));
  if (wish.address.scheme == "ssh") co_return co_await shellLine(std::move(wish), asker, facts, findings);
  StreamPtr below = co_await wish.way->connect(asker, facts, findings);
  if (wish.address.scheme.starts_with("telnet"))
    co_return co_await telnetLine(std::move(wish), std::move(below));
  TextLine out;
  out.kind = wish.address.scheme == "unix" ? "socket" : wish.address.scheme;
  if (wish.address.scheme == "tls")
    out.stream = co_await sealedStream(wish, std::move(below), asker);
  else
    out.stream = std::move(below);
  co_return out;
}

/// What can be answered without asking anybody: the command's password, the passphrase of a credential's key,
/// a code of its second factor. Each is given once; a wrong one is asked for.
class OwnAnswers {
 public:
  explicit OwnAnswers(std::shared_ptr<SignInSource> source) : source_(std::move(source)) {}

  Task<std::optional<Secret>> answer(SshPrompt prompt) {
    if (prompt.again) co_return std::nullopt;
    switch (prompt.kind) {
      case SshPrompt::Kind::Password:
        if (source_->hasCommand()) {
          const auto fetched = co_await source_->fetch();
          co_return fetched ? std::optional(fetched->password) : std::nullopt;
        }
        co_return std::nullopt;
      case SshPrompt::Kind::Passphrase: co_return some(source_->bundle().passphrase);
      case SshPrompt::Kind::Challenge: {
        const Secret secret = source_->bundle().codeSecret;
        if (!asksForCode(prompt.text)) co_return std::nullopt;
        co_return secret.empty() ? std::nullopt : std::optional<Secret>(timeCode(secret, std::time(nullptr)));
      }
    }
    co_return std::nullopt;
  }

 private:
  static std::optional<Secret> some(const Secret& text) {
    return text.empty() ? std::nullopt : std::optional(text);
  }
  std::shared_ptr<SignInSource> source_;
};

/// The way in by SSH of a machine in the records, with its own route before it.
std::vector<SshHop> hopsOfMachine(const std::string& name, OpeningTools& tools, int depth);

/// `tools` keep the records that had to be read.
std::vector<SshHop> hopsFromText(const std::string& text, OpeningTools& tools, int depth) {
  std::vector<SshHop> out;
  for (const std::string& item : splitList(text)) {
    if (item.find("://") == std::string::npos) {
      for (SshHop& hop : hopsOfMachine(item, tools, depth)) out.push_back(std::move(hop));
      continue;
    }
    const Address address = parseAddress(item);
    if (address.scheme != "ssh")
      throw Error(ErrorKind::Local, "a jump is an ssh:// address or a machine with one", item);
    out.push_back(sshHop(address, builtInSettings(), tools, {}));
  }
  return out;
}

std::vector<SshHop> hopsOfMachine(const std::string& name, OpeningTools& tools, int depth) {
  if (depth > 8) throw Error(ErrorKind::Local, "the route goes in a circle", name);
  if (!tools.records)
    tools.records = std::make_shared<const Snapshot>(tools.store ? tools.store->load() : Snapshot());
  const Snapshot& records = *tools.records;
  const Machine* machine = records.machineNamed(name);
  if (machine == nullptr)
    throw Error(ErrorKind::Local, "the route names a machine that is not in the records", name);
  for (const Endpoint* e : records.endpointsOf(machine->id)) {
    if (e->scheme() != "ssh") continue;
    const Owner owner{OwnerKind::WayIn, e->id};
    const SettingReader setting = settingsOf(records, owner);
    std::vector<SshHop> out = hopsFromText(setting("route.via"), tools, depth + 1);
    out.push_back(sshHop(parseAddress(e->address), setting, tools, owner));
    return out;
  }
  throw Error(ErrorKind::Local, "the route names a machine without a way in by SSH", name);
}

}  // namespace

std::vector<std::string> splitList(const std::string& text) {
  std::vector<std::string> out;
  std::size_t at = 0;
  while (at < text.size()) {
    const auto end = std::min(text.find(',', at), text.size());
    const auto first = text.find_first_not_of(" \t", at);
    if (first != std::string::npos && first < end) {
      const auto last = text.find_last_not_of(" \t", end - 1);
      out.push_back(text.substr(first, last - first + 1));
    }
    at = end + 1;
  }
  return out;
}

LineSettings lineSettings(const Address& address, const SettingReader& setting) {
  LineSettings line;
  const std::string speed = option(address, "speed", setting("line.speed"));
  if (speed.empty() || speed.size() > 8 || speed.find_first_not_of("0123456789") != std::string::npos ||
      std::stoi(speed) == 0)
    throw Error(ErrorKind::Local, "\"" + speed + "\" is not a speed", address.uri());
  line.speed = std::stoi(speed);
  setFrame(line, option(address, "frame", setting("line.frame")));
  line.flow = flowFromWord(option(address, "flow", setting("line.flow")));
  return line;
}

namespace {

/// What the address does not say itself comes from the SSH client configuration.
void useSshConfig(SshOptions& o, const Address& address, bool userIsSaid) {
  const SshHostConfig found = SshConfig::load(SshConfig::usualFile()).lookup(address.host);
  o.host = found.hostName;
  if (found.port != 0 && address.port == 22) o.port = found.port;
  if (!found.user.empty() && !userIsSaid) o.user = found.user;
  o.keyFiles = found.identityFiles;
  o.certificateFile = found.certificateFile;
}

}  // namespace

SshHop sshHop(const Address& address, const SettingReader& setting, const OpeningTools& tools, Owner owner) {
  SshHop hop;
  hop.owner = owner;
  SshOptions& o = hop.options;
  o.host = address.host;
  o.port = address.port;
  const auto source = std::make_shared<SignInSource>(tools, owner, address, setting);
  o.user = source->user().empty() ? userHere() : source->user();
  if (setting("ssh.useconfig") == "on") useSshConfig(o, address, !source->user().empty());
  o.useAgent = setting("ssh.agent") == "on";
  for (const std::string& file : splitList(option(address, "key", setting("ssh.keys"))))
    o.keyFiles.push_back(withHome(file));
  if (tools.onlyGiven) {
    o.useAgent = false;
    o.keyFiles.clear();
  }
  if (!tools.givenKeyFile.empty()) o.keyFiles.insert(o.keyFiles.begin(), tools.givenKeyFile);
  if (const std::string own = setting("ssh.certificate"); !own.empty()) o.certificateFile = withHome(own);
  o.knownHostsFile = withHome(setting("ssh.knownhosts"));
  o.keepAlive = std::chrono::seconds(wholeOf(setting, "ssh.alive"));
  o.limit = std::chrono::seconds(wholeOf(setting, "connect.limit"));
  // Over SSH a password goes to a server whose key is trusted.
  if (const auto found = source->find(SecretUse::Proved)) o.password = found->password;
  if (const Secret key = source->bundle().key; !key.empty()) o.keyTexts.push_back(key);
  const auto answers = std::make_shared<OwnAnswers>(source);
  hop.answers = [answers](SshPrompt prompt) -> Task<std::optional<Secret>> {
    co_return co_await answers->answer(prompt);
  };
  hop.credential = source->credential();
  hop.name = o.user + "@" + o.host + (o.port == 22 ? "" : ":" + std::to_string(o.port));
  if (owner.id != 0)
    hop.remember = [source, user = o.user](const Secret& password) {
      source->keep({user, password, SecretUse::Proved});
    };
  return hop;
}

namespace {

/// ProxyJump: user@host:port, several with commas; each is looked up there, too.
std::vector<SshHop> hopsFromSshConfig(const Address& address, const OpeningTools& tools) {
  const SshConfig config = SshConfig::load(SshConfig::usualFile());
  std::vector<SshHop> out;
  for (const std::string& item : splitList(config.lookup(address.host).proxyJump)) {
    Address jump = parseAddress(item.find("://") == std::string::npos ? "ssh://" + item : item);
    const auto usual = builtInSettings();
    const SettingReader setting = [usual](const std::string& key) {
      return key == "ssh.useconfig" ? std::string("on") : usual(key);
    };
    out.push_back(sshHop(jump, setting, tools, {}));
  }
  return out;
}

}  // namespace

std::vector<SshHop> hopsTo(const Address& address, const SettingReader& setting, const OpeningTools& tools) {
  const std::string via = tools.via.empty() ? option(address, "via", setting("route.via")) : tools.via;
  if (via == "none") return {};
  // A password that was given is the target's: no jump on the way gets to see it.
  OpeningTools onTheWay = tools;
  onTheWay.givenPassword.reset();
  onTheWay.givenKeyFile.clear();
  onTheWay.onlyGiven = false;  // jumps are this desk's own
  if (via.empty() && address.scheme == "ssh" && setting("ssh.useconfig") == "on")
    return hopsFromSshConfig(address, onTheWay);
  return hopsFromText(via, onTheWay, 0);
}

Task<StreamPtr> connectThrough(std::vector<SshHop> hops, Address address, std::chrono::nanoseconds limit,
                               OpeningTools tools, Asker& asker, RouteFacts& facts,
                               ConnectFindings* findings) {
  const bool socket = address.scheme.ends_with("unix");
  if (hops.empty()) {
    if (socket) co_return co_await connectUnix(address.path);
    co_return co_await connectTcp(address.host, static_cast<std::uint16_t>(address.port), limit, findings);
  }
  if (socket)
    throw Error(ErrorKind::Unsupported, "a socket of this machine is not reached through a jump",
                address.path);
  std::shared_ptr<TrustStore> trust = trustIn(tools.store);
  auto last = co_await tools.ssh->connect(std::move(hops), trust, asker, facts, findings);
  StreamPtr tunnel = co_await last->forward(address.host, address.port);
  co_return keeping(std::move(tunnel), last);
}

std::optional<Address> nearestJump(const Snapshot& records, Id wayIn) try {
  const std::vector<std::string> items =
      splitList(records.resolve({OwnerKind::WayIn, wayIn}, "route.via").value);
  if (items.empty() || items[0] == "none") return std::nullopt;
  if (items[0].find("://") != std::string::npos) return parseAddress(items[0]);
  const Machine* machine = records.machineNamed(items[0]);
  if (machine == nullptr) return std::nullopt;
  for (const Endpoint* e : records.endpointsOf(machine->id))
    if (e->scheme() == "ssh") return parseAddress(e->address);
  return std::nullopt;
} catch (const Error&) {
  return std::nullopt;
}

TextConfig textConfig(const Address& address, const std::string& label, const SettingReader& setting,
                      const OpeningTools& tools, Owner owner) {
  TextConfig config;
  config.label = label;
  config.place = address.forPeople();
  config.terminal = terminalOptions(setting);
  const std::string echo = setting("text.echo");
  config.localEcho = echo == "on" ? LocalEcho::On : echo == "off" ? LocalEcho::Off : LocalEcho::Auto;
  config.reconnect = reconnectPolicy(setting);
  config.pacing = {std::chrono::milliseconds(wholeOf(setting, "text.pace")),
                   std::chrono::milliseconds(wholeOf(setting, "text.paceline"))};
  config.viewOnly = setting("screen.viewonly") == "on";
  config.watchWords = watchWordsOf(setting("text.words"));
  config.log = logOptions(label, setting);
  config.greeting = text::unescaped(setting("text.greeting"));
  LineWish wish{address,
                lineSettings(address, setting),
                std::chrono::seconds(wholeOf(setting, "connect.limit")),
                wayTo(address, setting, tools),
                hopsTo(address, setting, tools),
                {},
                tools,
                setting("security.authorities"),
                label};
  if (address.scheme == "ssh") wish.ssh = sshHop(address, setting, tools, owner);
  config.connect = [wish](Asker& asker, RouteFacts& facts, ConnectFindings* findings) {
    return makeLine(wish, asker, facts, findings);
  };
  return config;
}

namespace {

std::shared_ptr<Session> make(Opening o) {
  return makeTextSession(o.strand, o.tools.clock, textConfig(o.to, o.label, o.setting, o.tools, o.owner));
}

Look lookAtLine(const Address& address) {
  if (address.scheme == "serial" || address.scheme == "unix") return Look::Path;
  return address.scheme == "telnet" ? Look::Connect : Look::Not;
}

std::string kindOfLine(const Address& address, const SettingReader& setting) {
  if (address.scheme == "serial" || address.scheme == "telnet+serial")
    return lineSettings(address, setting).forPeople();
  return address.scheme == "unix" ? "socket" : address.scheme;
}

// RFC 4253 4.2
Task<void> sshGreets(ByteStream& stream, const Address& address) {
  const std::string greeting = co_await readGreeting(stream, 12);
  if (!greeting.starts_with("SSH-"))
    protocolBroken(address.forPeople(), "something answers, but no SSH server");
}

}  // namespace

const Engine lineEngine{"line", make, lookAtLine, nullptr, kindOfLine};
const Engine sshEngine{"ssh", make, [](const Address&) { return Look::Connect; }, sshGreets, nullptr};

}  // namespace kw
