// Machines of this desk that QEMU runs, by their monitors' sockets: one socket, or a folder that is watched.
#include <map>
#include <set>

#include "base/result_within.hpp"
#include "host/adapter.hpp"
#include "host/guest_agent.hpp"
#include "host/qmp.hpp"

namespace kw::host {

namespace {

constexpr auto kLookAgain = std::chrono::seconds(1);
constexpr auto kAnswerLimit = std::chrono::seconds(5);
constexpr auto kAgentLimit = std::chrono::seconds(3), kAskAgentAgain = std::chrono::seconds(5);

class QmpAdapter : public HostAdapter {
 public:
  QmpAdapter(std::filesystem::path path, const AdapterTools& tools)
      : path_(std::move(path)), tools_(tools), wake_(tools.strand) {}

  Task<void> run(HostNews& news) override {
    closed_ = leaving_ = false;
    news_ = &news;
    told_ = false;
    lastFailure_.reset();
    while (!closed_) {
      // A single machine's monitor that cannot be reached is the host's trouble; one of a folder only its
      // own.
      if (!isFolder() && lastFailure_ && machines_.empty()) break;
      const std::set<std::filesystem::path> now = sockets();
      for (const auto& socket : now)
        if (!machines_.contains(socket)) begin(socket);
      // All that are here at the beginning are told of together.
      if (!told_ && waitingFor() == 0) tellAll();
      for (const auto& [socket, m] : machines_) tendAgent(m);
      co_await firstOf(tools_.clock->sleep(kLookAgain), wake_.wait());
    }
    for (auto& [socket, m] : machines_) {
      if (m->monitor) m->monitor->close();
      m->call.notify();
    }
    leaving_ = true;
    while (!machines_.empty()) co_await wake_.wait();
    news_ = nullptr;
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    throw lastFailure_.value_or(Error(ErrorKind::ClosedByPeer, "QEMU ended", path_.string()));
  }

  void close() override {
    closed_ = true;
    wake_.notify();
  }

  [[nodiscard]] HostAbilities abilities() const override {
    HostAbilities a;
    a.start = {false, "QEMU's monitor is there only while the machine runs; start it where it is kept."};
    a.power.can = a.pause.can = a.password.can = true;
    a.restart = {false, "QEMU cannot ask a guest to restart; shut it down, or reset it."};
    a.port = {true, {}};
    a.listen = {true, {}};
    a.serial = {false, "QEMU adds no serial port to a running machine; it belongs on its command line."};
    a.portCounts = When::AtOnce;
    return a;
  }

  Task<void> power(std::string id, PowerAct act) override {
    const char* command = nullptr;
    switch (act) {
      case PowerAct::Start: throw Error(ErrorKind::Unsupported, abilities().start.why);
      case PowerAct::Restart: throw Error(ErrorKind::Unsupported, abilities().restart.why);
      case PowerAct::ShutDown: command = "system_powerdown"; break;
      case PowerAct::Off: command = "quit"; break;
      case PowerAct::Reset: command = "system_reset"; break;
      case PowerAct::Pause: command = "stop"; break;
      case PowerAct::Resume: command = "cont"; break;
    }
    const auto m = find(id);
    co_await m->monitor->call(command);
  }

  Task<void> change(std::string id, ConsoleChange c) override {
    if (c.addSerial) throw Error(ErrorKind::Unsupported, abilities().serial.why);
    const auto m = find(id);
    if (c.password) {
      for (const ConsoleFacts& known : m->known->consoles)
        if (known.scheme == c.scheme && !known.password)
          throw Error(ErrorKind::Unsupported,
                      "its console was started without a password, and gets none while it runs")
              .withCure("Start QEMU with a password for the console (password=on); then it can be set here.");
      // Named first: GCC 12 takes no braced list inside co_await.
      const nlohmann::json secret{{"protocol", c.scheme}, {"password", *c.password}};
      const nlohmann::json never{{"protocol", c.scheme}, {"time", "never"}};
      co_await m->monitor->call("set_password", secret);
      co_await m->monitor->call("expire_password", never);
    }
    if (c.port || c.listen) {
      if (c.scheme != "vnc")
        throw Error(ErrorKind::Unsupported, "QEMU moves no console but VNC's while the machine runs");
      const std::string listen = c.listen.value_or(listenOf(*m));
      const int port = c.port.value_or(0) != 0 ? *c.port : portOf(*m);
      const nlohmann::json address{{"type", "inet"}, {"host", listen}, {"port", std::to_string(port)}};
      const nlohmann::json update{{"type", "vnc"}, {"addresses", nlohmann::json::array({address})}};
      co_await m->monitor->call("display-update", update);
    }
    co_await refresh(m);
  }

  Task<std::string> readInGuest(std::string id, std::string path) override {
    const auto m = find(id);
    const std::function<Task<std::string>(AgentCall)> read = [path](AgentCall call) {
      return readFileByAgent(std::move(call), path);
    };
    co_return co_await resultWithin(kAgentLimit, "the guest's agent", withAgent(m->agent.socket, read));
  }

 private:
  struct OneMachine {
    std::filesystem::path socket;
    std::unique_ptr<QmpMonitor> monitor;
    std::optional<StockMachine> known;
    explicit OneMachine(const Executor& on) : call(on) {}
    Signal call;  ///< to attend(): reading is over, or everything ends
    bool failed = false;
    bool readAgain = false, reading = false;
    AgentPort agent;
    bool askingAgent = false;
    std::optional<TimePoint> agentAsked;
  };
  using MachineHandle = std::shared_ptr<OneMachine>;

  [[nodiscard]] bool isFolder() const {
    std::error_code ignored;
    return std::filesystem::is_directory(path_, ignored);
  }

  std::set<std::filesystem::path> sockets() const {
    if (!isFolder()) return {path_};
    std::set<std::filesystem::path> out;
    std::error_code code;
    for (std::filesystem::directory_iterator at(path_, code), end; !code && at != end; at.increment(code))
      if (at->is_socket(code)) out.insert(at->path());
    return out;
  }

  [[nodiscard]] std::size_t waitingFor() const {
    std::size_t count = 0;
    for (const auto& [socket, m] : machines_)
      if (!m->known && !m->failed) ++count;
    return count;
  }

  void tellAll() {
    std::vector<StockMachine> all;
    std::string version;
    for (const auto& [socket, m] : machines_)
      if (m->known) {
        all.push_back(*m->known);
        version = m->monitor->version();
      }
    told_ = true;
    news_->described(version.empty() ? "QEMU" : "QEMU " + version, true);
    news_->all(std::move(all));
  }

  MachineHandle find(const std::string& id) {
    for (const auto& [socket, m] : machines_)
      if (m->known && m->known->id == id && m->monitor) return m;
    throw Error(ErrorKind::Local, "no QEMU with this ID runs now", id);
  }
  static std::string listenOf(const OneMachine& m) {
    for (const ConsoleFacts& c : m.known->consoles)
      if (c.scheme == "vnc" && !c.listen.empty()) return c.listen;
    return "127.0.0.1";
  }
  static int portOf(const OneMachine& m) {
    for (const ConsoleFacts& c : m.known->consoles)
      if (c.scheme == "vnc") return c.port;
    return 0;
  }

  void begin(const std::filesystem::path& socket) {
    const auto m = machines_[socket] = std::make_shared<OneMachine>(tools_.strand);
    m->socket = socket;
    spawn(tools_.strand, [this, m] { return attend(m); });
  }

  /// One machine from its connection to its end.
  Task<void> attend(MachineHandle m) {
    try {
      m->monitor = std::make_unique<QmpMonitor>(tools_.strand, co_await connectUnix(m->socket.string()));
      if (closed_ || leaving_) m->monitor->close();
      const std::function<void()> ready = [this, m] { readSoon(m); };
      const std::function<void(const std::string&)> happened = [this, m](const std::string& event) {
        // Guests set their clocks all the time; that says nothing about power or ways in.
        if (event != "RTC_CHANGE") readSoon(m);
      };
      co_await m->monitor->run(ready, happened);
    } catch (const Error& e) {
      lastFailure_ = e;
    }
    m->failed = true;
    if (news_ != nullptr && told_ && m->known) news_->gone(m->known->id);
    // A socket that nobody listens at stays in the folder; it is tried again after a while.
    const bool trying = !closed_ && !leaving_ && isFolder();
    if (trying) co_await firstOf(tools_.clock->sleep(kLookAgain * 2), m->call.wait());
    while (m->reading || m->askingAgent) co_await m->call.wait();
    machines_.erase(m->socket);
    wake_.notify();
  }

  void readSoon(MachineHandle m) {
    m->readAgain = true;
    if (std::exchange(m->reading, true)) return;
    spawn(tools_.strand, [this, m]() -> Task<void> {
      try {
        while (std::exchange(m->readAgain, false))
          co_await within(kAnswerLimit, m->socket.string(), refresh(m));
      } catch (const Error& e) {
        lastFailure_ = e;
        m->monitor->close();
      }
      m->reading = false;
      m->call.notify();
    });
  }

  /// `ask` with the agent at that socket.
  template <typename T>
  static Task<T> withAgent(std::string socket, std::function<Task<T>(AgentCall)> ask) {
    if (socket.empty()) throw Error(ErrorKind::Unsupported, "the machine has no port for an agent");
    AgentSocket agent(co_await connectUnix(socket));
    co_await agent.begin();
    const AgentCall call = [&agent](std::string command, nlohmann::json arguments) {
      return agent.call(std::move(command), std::move(arguments));
    };
    co_return co_await ask(call);
  }

  /// An agent that comes up is told of only where its port has a name of QEMU's, so it is looked for; and a
  /// guest gets its address after its agent is up.
  void tendAgent(MachineHandle m) {
    if (!m->known || m->agent.socket.empty() || m->failed || m->askingAgent || closed_) return;
    if (m->agentAsked && tools_.clock->now() - *m->agentAsked < kAskAgentAgain) return;
    m->agentAsked = tools_.clock->now();
    if (!m->agent.answers) return readSoon(m);
    if (!m->known->addresses.empty()) return;
    m->askingAgent = true;
    spawn(tools_.strand, [this, m]() -> Task<void> {
      try {
        const std::function<Task<std::vector<std::string>>(AgentCall)> ask = addressesByAgent;
        const auto found =
            co_await resultWithin(kAgentLimit, "the guest's agent", withAgent(m->agent.socket, ask));
        if (!found.empty()) {
          m->known->addresses = found;
          m->known->addressesFrom = "by its agent";
          if (told_ && news_ != nullptr && !m->failed) news_->one(*m->known);
        }
      } catch (const std::exception&) {
        // Somebody else talks to it, it is stuck, or says nonsense: it is asked again.
      }
      m->agentAsked = tools_.clock->now();
      m->askingAgent = false;
      m->call.notify();
    });
  }

  Task<void> refresh(MachineHandle m) {
    StockMachine now = co_await readMachine(*m->monitor, m->socket.stem().string());
    m->agent = co_await agentPort(*m->monitor);
    now.agent = m->agent.answers;
    if (now.agent && m->known)
      now.addresses = m->known->addresses, now.addressesFrom = m->known->addressesFrom;
    m->known = std::move(now);
    if (m->known->agent) wake_.notify();
    if (told_ && news_ != nullptr) news_->one(*m->known);
  }

  std::filesystem::path path_;
  AdapterTools tools_;
  Signal wake_;
  std::map<std::filesystem::path, MachineHandle> machines_;
  HostNews* news_ = nullptr;
  std::optional<Error> lastFailure_;
  bool told_ = false, closed_ = false, leaving_ = false;
};

}  // namespace

std::unique_ptr<HostAdapter> makeQmpAdapter(const std::string& rest, const AdapterTools& tools) {
  if (!rest.starts_with("/"))
    throw Error(ErrorKind::Local, "give the whole path of a monitor's socket, or of a folder of them", rest);
  return std::make_unique<QmpAdapter>(rest, tools);
}

}  // namespace kw::host
