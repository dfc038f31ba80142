// Hosts that run libvirt, by its own library. Its calls block, so they run on a thread of the adapter's; its
// events come on the one event thread of the program.
#include <libvirt/libvirt-qemu.h>
#include <libvirt/libvirt.h>
#include <libvirt/virterror.h>

#include <mutex>
#include <set>
#include <thread>

#include "base/blocking.hpp"
#include "base/runtime.hpp"
#include "host/adapter.hpp"
#include "host/guest_agent.hpp"
#include "host/libvirt_xml.hpp"
#include "wire/stream.hpp"

namespace kw::host {

namespace {

constexpr auto kConnectLimit = std::chrono::seconds(8);
constexpr int kKeepAliveEvery = 3, kKeepAlivesLost = 3;
constexpr int kAgentSeconds = 2;

/// libvirt's event loop is one a process; its thread lives as long as the program.
void ensureEventLoop() {
  static std::once_flag once;
  std::call_once(once, [] {
    virSetErrorFunc(nullptr, [](void*, virErrorPtr) {});  // else each error is printed too
    virEventRegisterDefaultImpl();
    std::thread([] {
      while (virEventRunDefaultImpl() >= 0) {
      }
    }).detach();
  });
}

ErrorKind kindOf(int code) {
  switch (code) {
    case VIR_ERR_AUTH_FAILED:
    case VIR_ERR_AUTH_CANCELLED:
    case VIR_ERR_AUTH_UNAVAILABLE: return ErrorKind::SignInFailed;
    case VIR_ERR_RPC: return ErrorKind::ClosedByPeer;
    case VIR_ERR_NO_CONNECT:
    case VIR_ERR_INVALID_CONN: return ErrorKind::Unreachable;
    case VIR_ERR_NO_SUPPORT:
    case VIR_ERR_CONFIG_UNSUPPORTED:
    case VIR_ERR_OPERATION_UNSUPPORTED:
    case VIR_ERR_ARGUMENT_UNSUPPORTED: return ErrorKind::Unsupported;
    case VIR_ERR_SYSTEM_ERROR:
    case VIR_ERR_INTERNAL_ERROR: return ErrorKind::Unreachable;
    default: return ErrorKind::Local;
  }
}

[[noreturn]] void raise(const std::string& doing) {
  const virErrorPtr last = virGetLastError();
  const std::string what = last != nullptr && last->message != nullptr ? last->message : "no reason given";
  const int code = last != nullptr ? last->code : 0;
  Error error(kindOf(code), doing + ": " + what);
  if (code == VIR_ERR_OPERATION_DENIED || code == VIR_ERR_ACCESS_DENIED || code == VIR_ERR_AUTH_FAILED ||
      what.find("Permission denied") != std::string::npos)
    throw Error(ErrorKind::SignInFailed, doing + ": " + what)
        .withCure(
            "This account lacks the right there. Ask the host's owner, or use another account in the "
            "address.");
  throw error;
}

struct DomainFree {
  void operator()(virDomainPtr d) const { virDomainFree(d); }
};
using DomainHandle = std::unique_ptr<virDomain, DomainFree>;

struct TextFree {
  void operator()(char* text) const { free(text); }
};
using TextHandle = std::unique_ptr<char, TextFree>;

Running runningFrom(int state) {
  switch (state) {
    case VIR_DOMAIN_RUNNING:
    case VIR_DOMAIN_BLOCKED: return Running::On;
    case VIR_DOMAIN_PAUSED:
    case VIR_DOMAIN_PMSUSPENDED: return Running::Paused;
    case VIR_DOMAIN_SHUTDOWN: return Running::Stopping;
    case VIR_DOMAIN_SHUTOFF: return Running::Off;
    case VIR_DOMAIN_CRASHED: return Running::Crashed;
    default: return Running::Unknown;
  }
}

const char* reasonFrom(int state, int reason) {
  if (state == VIR_DOMAIN_SHUTOFF) switch (reason) {
      case VIR_DOMAIN_SHUTOFF_SHUTDOWN: return "shut down by the guest";
      case VIR_DOMAIN_SHUTOFF_DESTROYED: return "forced off";
      case VIR_DOMAIN_SHUTOFF_CRASHED: return "crashed";
      case VIR_DOMAIN_SHUTOFF_MIGRATED: return "moved to another host";
      case VIR_DOMAIN_SHUTOFF_SAVED: return "saved";
      case VIR_DOMAIN_SHUTOFF_FAILED: return "could not be started";
      default: return "";
    }
  if (state == VIR_DOMAIN_PAUSED) switch (reason) {
      case VIR_DOMAIN_PAUSED_IOERROR: return "a disk error";
      case VIR_DOMAIN_PAUSED_CRASHED: return "crashed";
      case VIR_DOMAIN_PAUSED_MIGRATION: return "being moved";
      case VIR_DOMAIN_PAUSED_USER: return "paused by hand";
      default: return "";
    }
  return "";
}

/// Whoever hears libvirt's callbacks; outlives the connection, since callbacks may be under way.
struct Ear {
  Executor strand;
  std::shared_ptr<Signal> wake;
  std::mutex mutex;
  std::set<std::string> changed;
  bool lost = false;

  void note(const std::string& id) {
    {
      const std::lock_guard held(mutex);
      changed.insert(id);
    }
    call();
  }
  void noteLost() {
    {
      const std::lock_guard held(mutex);
      lost = true;
    }
    call();
  }
  void call() {
    post(strand, [wake = wake] { wake->notify(); });
  }
};

using EarHandle = std::shared_ptr<Ear>;

void freeEar(void* opaque) { delete static_cast<EarHandle*>(opaque); }

void noteDomain(virDomainPtr domain, void* opaque) {
  char id[VIR_UUID_STRING_BUFLEN] = {};
  virDomainGetUUIDString(domain, id);
  (*static_cast<EarHandle*>(opaque))->note(id);
}

int onLifecycle(virConnectPtr, virDomainPtr domain, int, int, void* opaque) {
  noteDomain(domain, opaque);
  return 0;
}
void onReboot(virConnectPtr, virDomainPtr domain, void* opaque) { noteDomain(domain, opaque); }
void onAgent(virConnectPtr, virDomainPtr domain, int, int, void* opaque) { noteDomain(domain, opaque); }
void onDevice(virConnectPtr, virDomainPtr domain, const char*, void* opaque) { noteDomain(domain, opaque); }
void onClose(virConnectPtr, int, void* opaque) { (*static_cast<EarHandle*>(opaque))->noteLost(); }

/// The connection, used on the blocking thread only.
class Link {
 public:
  explicit Link(EarHandle ear) : ear_(std::move(ear)) {}
  ~Link() { disconnect(); }

  void connect(const std::string& uri, const std::string& user, const Secret& password) {
    ensureEventLoop();
    struct Given {
      const std::string* user;
      const Secret* password;
    } given{&user, &password};
    int kinds[] = {VIR_CRED_AUTHNAME, VIR_CRED_PASSPHRASE, VIR_CRED_ECHOPROMPT, VIR_CRED_NOECHOPROMPT};
    virConnectAuth auth{
        kinds, 4,
        [](virConnectCredentialPtr wanted, unsigned count, void* opaque) {
          const auto* g = static_cast<Given*>(opaque);
          for (unsigned i = 0; i < count; ++i) {
            const bool name = wanted[i].type == VIR_CRED_AUTHNAME || wanted[i].type == VIR_CRED_ECHOPROMPT;
            const std::string_view text = name ? std::string_view(*g->user) : g->password->view();
            if (text.empty()) return -1;
            wanted[i].result = strndup(text.data(), text.size());
            wanted[i].resultlen = static_cast<unsigned>(text.size());
          }
          return 0;
        },
        &given};
    connection_ = virConnectOpenAuth(uri.c_str(), &auth, 0);
    if (connection_ == nullptr) raise("no connection to the host");
    virConnectSetKeepAlive(connection_, kKeepAliveEvery, kKeepAlivesLost);
    virConnectRegisterCloseCallback(connection_, onClose, new EarHandle(ear_), freeEar);
    listen(VIR_DOMAIN_EVENT_ID_LIFECYCLE, VIR_DOMAIN_EVENT_CALLBACK(onLifecycle));
    listen(VIR_DOMAIN_EVENT_ID_REBOOT, VIR_DOMAIN_EVENT_CALLBACK(onReboot));
    listen(VIR_DOMAIN_EVENT_ID_AGENT_LIFECYCLE, VIR_DOMAIN_EVENT_CALLBACK(onAgent));
    listen(VIR_DOMAIN_EVENT_ID_DEVICE_ADDED, VIR_DOMAIN_EVENT_CALLBACK(onDevice));
    listen(VIR_DOMAIN_EVENT_ID_DEVICE_REMOVED, VIR_DOMAIN_EVENT_CALLBACK(onDevice));
  }

  void disconnect() {
    if (connection_ == nullptr) return;
    for (int id : callbacks_) virConnectDomainEventDeregisterAny(connection_, id);
    callbacks_.clear();
    virConnectUnregisterCloseCallback(connection_, onClose);
    virConnectClose(connection_);
    connection_ = nullptr;
  }

  std::string description() {
    unsigned long version = 0;
    virConnectGetLibVersion(connection_, &version);
    const TextHandle name(virConnectGetHostname(connection_));
    std::string out = "libvirt " + std::to_string(version / 1000000) + "." +
                      std::to_string(version / 1000 % 1000) + "." + std::to_string(version % 1000);
    if (name) out += " on " + std::string(name.get());
    return out;
  }
  bool sealed() { return virConnectIsSecure(connection_) == 1; }

  std::vector<StockMachine> all() {
    virDomainPtr* found = nullptr;
    const int count = virConnectListAllDomains(connection_, &found, 0);
    if (count < 0) raise("the host does not list its machines");
    std::vector<DomainHandle> domains;
    for (int i = 0; i < count; ++i) domains.emplace_back(found[i]);
    free(found);
    std::vector<StockMachine> out;
    for (const DomainHandle& d : domains) {
      // One that goes away while the list is read is passed over.
      try {
        out.push_back(read(d.get()));
      } catch (const Error&) {
        if (virConnectIsAlive(connection_) != 1) throw;
      }
    }
    return out;
  }

  /// Nothing when the machine is not there any more.
  std::optional<StockMachine> one(const std::string& id) {
    const DomainHandle domain(virDomainLookupByUUIDString(connection_, id.c_str()));
    if (!domain) {
      if (virConnectIsAlive(connection_) != 1) raise("the host was lost");
      return std::nullopt;
    }
    return read(domain.get());
  }

  void power(const std::string& id, PowerAct act) {
    const DomainHandle domain = find(id);
    virDomainPtr d = domain.get();
    const auto check = [](int result, const char* doing) {
      if (result < 0) raise(doing);
    };
    switch (act) {
      case PowerAct::Start: return check(virDomainCreate(d), "it does not start");
      case PowerAct::ShutDown: return check(virDomainShutdown(d), "it cannot be asked to shut down");
      case PowerAct::Off: return check(virDomainDestroy(d), "it cannot be forced off");
      case PowerAct::Restart: return check(virDomainReboot(d, 0), "it cannot be asked to restart");
      case PowerAct::Reset: return check(virDomainReset(d, 0), "it cannot be reset");
      case PowerAct::Pause: return check(virDomainSuspend(d), "it cannot be paused");
      case PowerAct::Resume: return check(virDomainResume(d), "it does not go on");
    }
  }

  /// The agent's whole answer, as text.
  std::string askAgent(const std::string& id, const std::string& command) {
    const DomainHandle domain = find(id);
    const TextHandle answer(virDomainQemuAgentCommand(domain.get(), command.c_str(), kAgentSeconds, 0));
    if (!answer) raise("the guest's agent does not answer");
    return answer.get();
  }

  void change(const std::string& id, const ConsoleChange& c) {
    const DomainHandle domain = find(id);
    virDomainPtr d = domain.get();
    if (c.password) {
      if (virDomainIsActive(d) != 1)
        throw Error(ErrorKind::Local, "the machine is off, and its host forgets a console password then")
            .withCure("Start it; the password is set as soon as it runs.");
      const std::string now = xmlOf(d, VIR_DOMAIN_XML_SECURE);
      if (!hasPassword(now, c.scheme))
        throw Error(ErrorKind::Unsupported,
                    "its console was started without a password, and gets none while it runs")
            .withCure(
                "Give the console any password in the machine's definition once (a full stop and start); "
                "from then on it can be set here at once.");
      const std::string device = graphicsWithPassword(now, c.scheme, *c.password);
      if (virDomainUpdateDeviceFlags(d, device.c_str(), VIR_DOMAIN_AFFECT_LIVE) < 0)
        raise("the password cannot be set");
    }
    if (c.port || c.listen) {
      const std::string device = graphicsWithPlace(xmlOf(d, VIR_DOMAIN_XML_SECURE | VIR_DOMAIN_XML_INACTIVE),
                                                   c.scheme, c.port, c.listen);
      if (virDomainUpdateDeviceFlags(d, device.c_str(), VIR_DOMAIN_AFFECT_CONFIG) < 0)
        raise("the console cannot be changed");
    }
    if (c.addSerial &&
        virDomainAttachDeviceFlags(d, serialDeviceXml(*c.addSerial).c_str(), VIR_DOMAIN_AFFECT_CONFIG) < 0)
      raise("no serial port can be added");
  }

 private:
  void listen(int event, virConnectDomainEventGenericCallback callback) {
    const int id =
        virConnectDomainEventRegisterAny(connection_, nullptr, event, callback, new EarHandle(ear_), freeEar);
    if (id < 0) raise("the host tells no changes");
    callbacks_.push_back(id);
  }

  DomainHandle find(const std::string& id) {
    DomainHandle domain(virDomainLookupByUUIDString(connection_, id.c_str()));
    if (!domain)
      throw Error(ErrorKind::Local, "the host has no machine with this ID", id)
          .withCure("It was removed there, or made anew. Look at the stock.");
    return domain;
  }

  static bool hasPassword(const std::string& xml, const std::string& scheme) {
    StockMachine m;
    readDomainXml(xml, m);
    return std::any_of(m.consoles.begin(), m.consoles.end(),
                       [&](const ConsoleFacts& c) { return c.scheme == scheme && c.password; });
  }

  static std::string xmlOf(virDomainPtr d, unsigned flags) {
    const TextHandle xml(virDomainGetXMLDesc(d, flags));
    if (!xml) raise("the machine cannot be described");
    return xml.get();
  }

  StockMachine read(virDomainPtr d) {
    StockMachine m;
    int state = 0, reason = 0;
    if (virDomainGetState(d, &state, &reason, 0) < 0) raise("its state cannot be told");
    m.state = runningFrom(state);
    m.reason = reasonFrom(state, reason);
    // Whether a console has a password is told only to those who may see it.
    const TextHandle secure(virDomainGetXMLDesc(d, VIR_DOMAIN_XML_SECURE));
    readDomainXml(secure ? std::string(secure.get()) : xmlOf(d, 0), m);
    if (m.state == Running::Off)
      for (ConsoleFacts& c : m.consoles)
        if (c.automatic) c.port = 0;
    if (m.agent) readAddresses(d, m);
    return m;
  }

  static void readAddresses(virDomainPtr d, StockMachine& m) {
    virDomainAgentSetResponseTimeout(d, kAgentSeconds, 0);
    virDomainInterfacePtr* found = nullptr;
    const int count = virDomainInterfaceAddresses(d, &found, VIR_DOMAIN_INTERFACE_ADDRESSES_SRC_AGENT, 0);
    for (int i = 0; i < count; ++i) {
      for (unsigned a = 0; a < found[i]->naddrs; ++a) {
        const std::string address = found[i]->addrs[a].addr;
        if (reachesOut(address)) m.addresses.push_back(address);
      }
      virDomainInterfaceFree(found[i]);
    }
    if (count >= 0) {
      free(found);
      m.addressesFrom = "by its agent";
    }
  }

  EarHandle ear_;
  virConnectPtr connection_ = nullptr;
  std::vector<int> callbacks_;
};

/// The host and port of a URI that goes over a network; nothing for local ones.
struct Remote {
  std::string host;
  int port = 0;
};
std::optional<Remote> remoteOf(const std::string& uri) {
  const auto plus = uri.find('+'), colon = uri.find("://");
  if (colon == std::string::npos) throw Error(ErrorKind::Local, "this is no address of libvirt", uri);
  const auto authority = uri.substr(colon + 3, uri.find('/', colon + 3) - colon - 3);
  if (authority.empty()) return std::nullopt;
  const std::string transport = plus < colon ? uri.substr(plus + 1, colon - plus - 1) : "tls";
  Remote r;
  r.port = transport == "tcp"                                                      ? 16509
           : transport == "ssh" || transport == "libssh" || transport == "libssh2" ? 22
                                                                                   : 16514;
  std::string place =
      authority.substr(authority.find('@') == std::string::npos ? 0 : authority.find('@') + 1);
  std::string port;
  if (place.starts_with("[")) {
    const auto end = place.find(']');
    if (end == std::string::npos) throw Error(ErrorKind::Local, "this is no address of libvirt", uri);
    if (end + 1 < place.size() && place[end + 1] == ':') port = place.substr(end + 2);
    place = place.substr(1, end - 1);
  } else if (const auto at = place.rfind(':'); at != std::string::npos) {
    port = place.substr(at + 1);
    place = place.substr(0, at);
  }
  r.host = place;
  if (!port.empty()) {
    if (port.size() > 5 || port.find_first_not_of("0123456789") != std::string::npos ||
        std::stoi(port) > 65535)
      throw Error(ErrorKind::Local, "\"" + port + "\" is no port", uri);
    r.port = std::stoi(port);
  }
  return r;
}

class LibvirtAdapter : public HostAdapter {
 public:
  LibvirtAdapter(std::string uri, const AdapterTools& tools)
      : uri_(std::move(uri)), tools_(tools), remote_(remoteOf(uri_)), ear_(std::make_shared<Ear>()) {
    ear_->strand = tools.strand;
    ear_->wake = std::make_shared<Signal>(tools.strand);
    // ssh must never ask at whatever terminal this program was started from.
    if (uri_.find("+ssh") < uri_.find("://") && uri_.find("no_tty=") == std::string::npos)
      uri_ += (uri_.find('?') == std::string::npos ? "?" : "&") + std::string("no_tty=1");
  }

  Task<void> run(HostNews& news) override {
    closed_ = false;
    {
      const std::lock_guard held(ear_->mutex);
      ear_->changed.clear();
      ear_->lost = false;
    }
    // A host that does not answer is told of quickly and in our words; the library may take minutes.
    if (remote_) {
      ConnectFindings findings;
      StreamPtr probe = co_await connectTcp(remote_->host, static_cast<std::uint16_t>(remote_->port),
                                            kConnectLimit, &findings);
      probe->close();
    }
    auto link = std::make_shared<Link>(ear_);
    link_ = link;
    std::exception_ptr failure;
    try {
      // Each job has a name: GCC 12 destroys what a nameless one holds twice.
      const auto connect = [link, uri = uri_, user = tools_.user,
                            password = tools_.password.value_or(Secret())] {
        link->connect(uri, user, password);
      };
      co_await thread_.run(connect);
      const auto describe = [link] { return std::pair(link->description(), link->sealed()); };
      const auto [description, sealed] = co_await thread_.run(describe);
      news.described(description, sealed || !remote_);
      const auto list = [link] { return link->all(); };
      news.all(co_await thread_.run(list));
      co_await serve(link, news);
    } catch (...) {
      failure = std::current_exception();
    }
    link_.reset();
    const auto disconnect = [link] { link->disconnect(); };
    co_await thread_.run(disconnect);
    if (failure) std::rethrow_exception(failure);
  }

  void close() override {
    closed_ = true;
    ear_->wake->notify();
  }

  [[nodiscard]] HostAbilities abilities() const override {
    HostAbilities a;
    for (Ability* x : {&a.start, &a.power, &a.pause, &a.restart, &a.password, &a.port, &a.listen, &a.serial})
      x->can = true;
    return a;
  }

  Task<void> power(std::string id, PowerAct act) override {
    const auto job = [link = linked(), id, act] { link->power(id, act); };
    co_await thread_.run(job);
  }

  Task<void> change(std::string id, ConsoleChange change) override {
    const auto job = [link = linked(), id, change] { link->change(id, change); };
    co_await thread_.run(job);
    ear_->note(id);  // no event comes for a password
  }

  Task<std::string> readInGuest(std::string id, std::string path) override {
    const AgentCall call = [this, id](std::string command, nlohmann::json arguments) -> Task<nlohmann::json> {
      const std::string text = nlohmann::json{{"execute", command}, {"arguments", arguments}}.dump();
      const auto job = [link = linked(), id, text] { return link->askAgent(id, text); };
      const auto answer = nlohmann::json::parse(co_await thread_.run(job), nullptr, false);
      co_return answer.is_object() && answer.contains("return") ? answer["return"] : nlohmann::json();
    };
    co_return co_await readFileByAgent(call, path);
  }

  [[nodiscard]] std::string reachedAt() const override { return remote_ ? remote_->host : ""; }

 private:
  std::shared_ptr<Link> linked() {
    if (!link_) throw Error(ErrorKind::Unreachable, "the host is not reached now");
    return link_;
  }

  Task<void> serve(std::shared_ptr<Link> link, HostNews& news) {
    for (;;) {
      std::set<std::string> changed;
      bool lost = false;
      {
        const std::lock_guard held(ear_->mutex);
        changed.swap(ear_->changed);
        lost = ear_->lost;
      }
      if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
      if (lost) throw Error(ErrorKind::ClosedByPeer, "the host ended the connection");
      for (const std::string& id : changed) {
        const auto read = [link, id] { return link->one(id); };
        auto machine = co_await thread_.run(read);
        machine ? news.one(std::move(*machine)) : news.gone(id);
      }
      if (changed.empty()) co_await ear_->wake->wait();
    }
  }

  std::string uri_;
  AdapterTools tools_;
  std::optional<Remote> remote_;
  EarHandle ear_;
  std::shared_ptr<Link> link_;
  BlockingThread thread_;
  bool closed_ = false;
};

}  // namespace

std::unique_ptr<HostAdapter> makeLibvirtAdapter(const std::string& rest, const AdapterTools& tools) {
  return std::make_unique<LibvirtAdapter>(rest, tools);
}

}  // namespace kw::host
