#include "host/qmp.hpp"

#include <utility>

#include "base/result_within.hpp"
#include "host/line_reader.hpp"

namespace kw::host {

using Json = nlohmann::json;

struct QmpMonitor::Pending {
  explicit Pending(const Executor& on) : arrived(on) {}
  Signal arrived;
  std::optional<Json> answer;
  std::string refusal;
  bool lost = false;
};

QmpMonitor::QmpMonitor(const Executor& strand, StreamPtr stream)
    : strand_(strand), stream_(std::move(stream)) {}

void QmpMonitor::close() {
  over_ = true;
  stream_->close();
}

void QmpMonitor::failAll() {
  over_ = true;
  for (auto& [id, p] : std::exchange(pending_, {})) {
    p->lost = true;
    p->arrived.notify();
  }
}

namespace {

Json parsedLine(const std::string& line) {
  Json message = Json::parse(line, nullptr, false);
  if (!message.is_object()) protocolBroken("QMP", "a line is no JSON object");
  return message;
}

std::string textAt(const Json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_string() ? cleanUtf8(found->get<std::string>()) : std::string();
}

int portFrom(const std::string& text) {
  return text.empty() || text.size() > 5 || text.find_first_not_of("0123456789") != std::string::npos
             ? 0
             : std::stoi(text);
}

Running runningFrom(const std::string& status) {
  if (status == "running") return Running::On;
  if (status == "shutdown") return Running::Off;
  if (status == "guest-panicked" || status == "internal-error") return Running::Crashed;
  if (status == "paused" || status == "suspended" || status == "prelaunch" || status == "io-error" ||
      status == "watchdog" || status == "debug")
    return Running::Paused;
  return Running::Unknown;
}

}  // namespace

namespace {

constexpr auto kGreetingLimit = std::chrono::seconds(4);

/// QEMU greets at once; while somebody else is connected it does not.
Task<std::string> greetingOf(LineReader& lines) {
  try {
    co_return co_await resultWithin(kGreetingLimit, "QMP", lines.next());
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::TimedOut) throw;
  }
  throw Error(ErrorKind::TimedOut,
              "QEMU's monitor says nothing: it has one visitor at a time, and somebody else is there")
      .withCure(
          "Close the other program that watches this machine, or give QEMU a second monitor (-qmp again).");
}

}  // namespace

void QmpMonitor::take(const Json& message, const std::function<void(const std::string&)>& happened) {
  if (const std::string event = textAt(message, "event"); !event.empty()) return happened(event);
  const auto id = message.find("id");
  if (id == message.end() || !id->is_number_integer()) return;
  const auto found = pending_.find(id->get<int>());
  if (found == pending_.end()) return;
  const auto p = found->second;
  pending_.erase(found);
  if (const auto error = message.find("error"); error != message.end() && error->is_object())
    p->refusal = textAt(*error, "desc").empty() ? "refused" : textAt(*error, "desc");
  else
    p->answer = message.contains("return") ? message["return"] : Json();
  p->arrived.notify();
}

Task<void> QmpMonitor::run(std::function<void()> ready, std::function<void(const std::string&)> happened) {
  LineReader lines(*stream_);
  try {
    const Json greeting = parsedLine(co_await greetingOf(lines));
    const auto qmp = greeting.find("QMP");
    if (qmp == greeting.end() || !qmp->is_object()) protocolBroken("QMP", "something answers, but no QEMU");
    const Json number = qmp->value("version", Json::object()).value("qemu", Json::object());
    if (number.is_object())
      version_ = std::to_string(number.value("major", 0)) + "." + std::to_string(number.value("minor", 0)) +
                 "." + std::to_string(number.value("micro", 0));
    co_await stream_->write(viewOf("{\"execute\":\"qmp_capabilities\",\"id\":0}\n"));
    for (;;) {
      const Json message = parsedLine(co_await lines.next());
      if (!message.contains("id")) continue;
      if (message.contains("error")) protocolBroken("QMP", "the monitor lets nobody in");
      break;
    }
    ready();
    for (;;) take(parsedLine(co_await lines.next()), happened);
  } catch (const Json::exception&) {
    failAll();
    protocolBroken("QMP", "the greeting has an unexpected shape");
  } catch (...) {
    failAll();
    throw;
  }
}

Task<Json> QmpMonitor::call(std::string command, Json arguments) {
  const auto lost = [] { return Error(ErrorKind::ClosedByPeer, "QEMU ended"); };
  if (over_) throw lost();
  const int id = next_++;
  const auto pending = pending_[id] = std::make_shared<Pending>(strand_);
  Json message{{"execute", command}, {"id", id}};
  if (!arguments.empty()) message["arguments"] = std::move(arguments);
  const std::string line = message.dump() + "\n";
  co_await stream_->write(viewOf(line));
  while (!pending->answer && pending->refusal.empty() && !pending->lost) co_await pending->arrived.wait();
  if (pending->lost) throw lost();
  if (!pending->refusal.empty()) throw Error(ErrorKind::Local, "QEMU says: " + pending->refusal, command);
  co_return std::move(*pending->answer);
}

std::vector<SerialFacts> serialsFrom(const Json& chardevs) {
  std::vector<SerialFacts> out;
  if (!chardevs.is_array()) return out;
  for (const Json& c : chardevs) {
    if (!c.is_object() || out.size() >= 64) continue;
    const std::string label = textAt(c, "label");
    std::string where = textAt(c, "filename");
    if (label.find("serial") == std::string::npos && label.find("console") == std::string::npos) continue;
    if (where.starts_with("disconnected:")) where = where.substr(13);
    where = where.substr(0, where.find(','));
    SerialFacts s;
    s.name = label;
    if (where.starts_with("pty:"))
      s.address = "serial:" + where.substr(4);
    else if (where.starts_with("unix:"))
      s.address = where;
    else if (where.starts_with("tcp:") || where.starts_with("telnet:"))
      s.address = where.substr(0, where.find(':')) + "://" + where.substr(where.find(':') + 1);
    out.push_back(std::move(s));
  }
  return out;
}

namespace {

/// What QEMU refuses to tell (built without it) is simply not there.
Task<Json> maybe(QmpMonitor& monitor, std::string command, Json arguments = Json::object()) {
  try {
    co_return co_await monitor.call(command, arguments);
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::Local) throw;
    co_return Json();
  }
}

ConsoleFacts consoleFrom(const char* scheme, const Json& told) {
  ConsoleFacts c;
  c.scheme = scheme;
  c.listen = textAt(told, "host");
  c.password = !textAt(told, "auth").empty() && textAt(told, "auth") != "none";
  if (textAt(told, "family") == "unix") {
    c.socket = textAt(told, "service").empty() ? c.listen : textAt(told, "service");
    c.listen.clear();
    return c;
  }
  if (const auto port = told.find("port"); port != told.end() && port->is_number_integer())
    c.port = std::clamp(port->get<int>(), 0, 65535);
  if (const auto port = told.find("tls-port"); port != told.end() && port->is_number_integer())
    c.tlsPort = std::clamp(port->get<int>(), 0, 65535);
  if (c.port == 0) c.port = portFrom(textAt(told, "service"));
  return c;
}

}  // namespace

Task<AgentPort> agentPort(QmpMonitor& monitor) {
  constexpr const char* kName = "org.qemu.guest_agent.0";
  std::string chardev;
  for (const char* folder : {"/machine/peripheral", "/machine/peripheral-anon"}) {
    const Json at{{"path", folder}};
    const Json devices = co_await maybe(monitor, "qom-list", at);
    if (!devices.is_array()) continue;
    for (const Json& device : devices) {
      if (textAt(device, "type") != "child<virtserialport>") continue;
      const std::string path = std::string(folder) + "/" + textAt(device, "name");
      const Json name{{"path", path}, {"property", "name"}}, line{{"path", path}, {"property", "chardev"}};
      if (co_await maybe(monitor, "qom-get", name) != kName) continue;
      const Json found = co_await maybe(monitor, "qom-get", line);
      if (found.is_string()) chardev = found.get<std::string>();
    }
  }
  AgentPort out;
  if (chardev.empty()) co_return out;
  const Json chardevs = co_await maybe(monitor, "query-chardev");
  if (!chardevs.is_array()) co_return out;
  for (const Json& c : chardevs) {
    if (textAt(c, "label") != chardev) continue;
    std::string where = textAt(c, "filename");
    if (where.starts_with("disconnected:")) where = where.substr(13);
    if (where.starts_with("unix:")) out.socket = where.substr(5, where.find(',') - 5);
    const auto open = c.find("frontend-open");
    out.answers = !out.socket.empty() && open != c.end() && *open == true;
  }
  co_return out;
}

Task<StockMachine> readMachine(QmpMonitor& monitor, std::string fallbackName) {
  StockMachine m;
  m.name = textAt(co_await maybe(monitor, "query-name"), "name");
  if (m.name.empty()) m.name = std::move(fallbackName);
  m.id = textAt(co_await maybe(monitor, "query-uuid"), "UUID");
  if (m.id.empty() || m.id.find_first_not_of("0-") == std::string::npos) m.id = m.name;
  const std::string status = textAt(co_await maybe(monitor, "query-status"), "status");
  m.state = runningFrom(status);
  if (m.state == Running::Paused || m.state == Running::Crashed) m.reason = status;
  const auto enabled = [](const Json& told) {
    return told.is_object() && told.contains("enabled") && told["enabled"] == true;
  };
  if (const Json vnc = co_await maybe(monitor, "query-vnc"); enabled(vnc))
    m.consoles.push_back(consoleFrom("vnc", vnc));
  if (const Json spice = co_await maybe(monitor, "query-spice"); enabled(spice))
    m.consoles.push_back(consoleFrom("spice", spice));
  m.serials = serialsFrom(co_await maybe(monitor, "query-chardev"));
  if (const Json cpus = co_await maybe(monitor, "query-cpus-fast"); cpus.is_array())
    m.processors = static_cast<int>(cpus.size());
  if (const Json memory = co_await maybe(monitor, "query-memory-size-summary"); memory.is_object())
    if (const auto base = memory.find("base-memory"); base != memory.end() && base->is_number_integer())
      m.memory = static_cast<int>(std::min<std::int64_t>(base->get<std::int64_t>() >> 20, 1 << 30));
  co_return m;
}

}  // namespace kw::host
