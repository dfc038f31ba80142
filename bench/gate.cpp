// The gateway as its own program: a thousand visitors at twenty machines where nothing happens, twenty at
// busy 720p pictures, and the page's size.
#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>

#include "base/file.hpp"
#include "bench/bench.hpp"
#include "gate/gate.hpp"
#include "record/store.hpp"
#include "rfb/client.hpp"
#include "rfb/constants.hpp"
#include "tests/busy_machine.hpp"
#include "tests/peers/browser.hpp"
#include "wire/tls.hpp"
#include "wire/websocket.hpp"

namespace kw::bench {

namespace {

using test::BusyMachine;

constexpr int kMachines = 20, kKeys = 200;

/// kettle-gate with an account and one machine.
class GateProgram {
 public:
  GateProgram(const std::filesystem::path& folder, const std::string& machineAddress) {
    const auto store = folder / "records.sqlite", state = folder / "gate";
    openSqliteStore(store)->commit("bench", [&](StoreWriter& w) {
      for (int i = 0; i < kMachines; ++i) {
        Machine m;
        m.name = "mist-bench " + std::to_string(i);
        w.put(m);
        Endpoint e;
        e.machine = m.id, e.label = "screen", e.address = machineAddress;
        w.put(e);
        ways.push_back(e.id);
      }
    });
    gate::GateStore(state).addAccount("duty", "duty-at-the-gate", gate::Role::Keeper);
    runToEnd([&]() -> Task<void> {
      port = listenTcp(co_await asio::this_coro::executor, "127.0.0.1", 0)->port();
    });
    const std::string place = "127.0.0.1:" + std::to_string(port);
    int said[2];
    if (pipe(said) != 0) throw Error(ErrorKind::Local, "no pipe");
    process = fork();
    if (process == 0) {
      dup2(said[1], STDOUT_FILENO);
      execl(KW_GATE, KW_GATE, "--state", state.c_str(), "--store", store.c_str(), "serve", "--listen",
            place.c_str(), nullptr);
      _exit(127);
    }
    close(said[1]);
    std::string line;
    for (char c = 0; read(said[0], &c, 1) == 1 && c != '\n';) line += c;
    close(said[0]);
    if (!line.starts_with("kettle-gate serves"))
      throw Error(ErrorKind::Local, "the gateway did not start", line);
  }
  ~GateProgram() {
    kill(process, SIGTERM);
    waitpid(process, nullptr, 0);
  }
  /// Mebibytes of memory that is its own.
  [[nodiscard]] double memory() const {
    std::ifstream in("/proc/" + std::to_string(process) + "/status");
    for (std::string line; std::getline(in, line);)
      if (line.starts_with("RssAnon:")) return std::atof(line.c_str() + 8) / 1024;
    return 0;
  }
  [[nodiscard]] double processorSeconds() const {
    std::ifstream in("/proc/" + std::to_string(process) + "/stat");
    std::string all;
    std::getline(in, all);
    std::istringstream rest(all.substr(all.rfind(')') + 2));
    std::string word;
    double ticks = 0;
    for (int i = 3; rest >> word && i <= 15; ++i)
      if (i >= 14) ticks += std::atof(word.c_str());
    return ticks / static_cast<double>(sysconf(_SC_CLK_TCK));
  }
  pid_t process = -1;
  std::uint16_t port = 0;
  std::vector<Id> ways;
};

Task<StreamPtr> sealed(std::uint16_t port) {
  TlsClientOptions tls;
  tls.hostName = "127.0.0.1";
  tls.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
  StreamPtr plain = co_await connectTcp("127.0.0.1", port, std::chrono::seconds(10));
  co_return co_await startTls(std::move(plain), tls);
}

std::string cookieFor(std::uint16_t port) {
  std::string cookie;
  runToEnd([&]() -> Task<void> {
    const StreamPtr stream = co_await sealed(port);
    const std::string host = "127.0.0.1:" + std::to_string(port),
                      body = R"({"name":"duty","password":"duty-at-the-gate"})";
    const std::string request = "POST /sign-in HTTP/1.1\r\nHost: " + host + "\r\nOrigin: https://" + host +
                                "\r\nConnection: close\r\nContent-Length: " + std::to_string(body.size()) +
                                "\r\n\r\n" + body;
    co_await stream->write(viewOf(request));
    std::string answer;
    try {
      Byte part[2048];
      for (;;) {
        const std::size_t n = co_await stream->readSome(part);
        answer.append(reinterpret_cast<const char*>(part), n);
      }
    } catch (const Error&) {
      // The end of it.
    }
    const auto at = answer.find("kettle-gate=");
    if (at != std::string::npos) cookie = answer.substr(at, answer.find(';', at) - at);
  });
  return cookie;
}

/// One browser: its visit, and the picture by our own decoder.
struct Viewer : rfb::ClientEvents {
  Task<rfb::SignIn> signIn(rfb::SignInRequest) override { co_return rfb::SignIn{}; }
  Task<bool> trust(PeerCertificate) override { co_return true; }
  void opened(const std::string&, const std::string&, bool) override {}
  void pictureResized(Size, const std::vector<Screen>&) override {}
  void damaged(const Region&) override { ++updates; }

  Task<void> run(std::uint16_t port, std::string cookie, Id way) {
    const Executor here = co_await asio::this_coro::executor;
    const std::string host = "127.0.0.1:" + std::to_string(port) +
                             "\r\nOrigin: https://127.0.0.1:" + std::to_string(port) +
                             "\r\nCookie: " + cookie;
    const std::string visitPath = "/visit?way=" + std::to_string(way);
    StreamPtr below = co_await sealed(port);
    visit = co_await openWebSocket(std::move(below), host, visitPath);
    Id number = 0;
    bool live = false;
    while (number == 0 || !live) {
      const WebSocketMessage m = co_await visit->receive();
      const std::string text = textOf(m.bytes);
      const auto json = nlohmann::json::parse(text, nullptr, false);
      if (json.contains("visit") && json["visit"].is_number_integer()) number = json["visit"].get<Id>();
      live = live || json.contains("size");
    }
    spawn(here, [this]() -> Task<void> {
      for (;;) {
        const WebSocketMessage m = co_await visit->receive();
        const auto json = nlohmann::json::parse(textOf(m.bytes), nullptr, false);
        // As the page does while the gateway says that it is busy.
        if (json.contains("busy") && client != nullptr) client->setQuality(json["busy"] == true ? 7 : -1, 5);
      }
    });
    spawn(here, [this]() -> Task<void> {
      for (;;) {
        co_await systemClock()->sleep(std::chrono::seconds(15));
        co_await visit->sendText("{\"ping\":0}");
      }
    });
    const std::string picturePath =
        "/picture?way=" + std::to_string(way) + "&visit=" + std::to_string(number);
    below = co_await sealed(port);
    const auto socket = co_await openWebSocket(std::move(below), host, picturePath);
    rfb::ClientOptions asPage;  // what web/picture.js asks for
    asPage.encodings = {rfb::encoding::kTight, rfb::encoding::kCopyRect, rfb::encoding::kRaw};
    if (lossless) asPage.quality = -1;
    asPage.continuousUpdates = false;
    rfb::Client decoder(here, systemClock(), picture, asPage, *this);
    client = &decoder;
    co_await decoder.run(streamOver(socket));
  }
  rfb::Client* client = nullptr;
  std::shared_ptr<WebSocket> visit;
  /// All viewers of the bench draw into one; what it shows is nobody's.
  std::shared_ptr<Framebuffer> picture;
  std::atomic<int> updates = 0;
  bool lossless = true;
};

struct Crowd {
  Crowd(const GateProgram& gate, int count, int machines, bool lossless) {
    const std::string cookie = cookieFor(gate.port);
    const auto picture = std::make_shared<Framebuffer>();
    for (int i = 0; i < count; ++i) {
      viewers.push_back(std::make_unique<Viewer>());
      Viewer& v = *viewers.back();
      v.picture = picture;
      v.lossless = lossless;
      const std::uint16_t port = gate.port;
      const Id way = gate.ways[static_cast<std::size_t>(i % machines)];
      spawn(runtime.strand(), [&v, port, cookie, way] { return v.run(port, cookie, way); });
      const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(20);
      while (v.updates == 0 && std::chrono::steady_clock::now() < until)
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
      if (v.updates == 0) break;
      ++seeing;
    }
  }
  ~Crowd() { runtime.stop(); }
  int seeing = 0;
  Runtime runtime{1};
  std::vector<std::unique_ptr<Viewer>> viewers;
};

/// In a real browser: from the page's key event, through gateway and machine, to the pixels on its canvas.
void benchKeys(Table& table, const std::filesystem::path& folder) {
  if (!std::filesystem::exists("/usr/bin/chromedriver"))
    return table.figure("gateway: key to canvas (no browser here)", 0, "ms");
  BusyMachine machine;
  GateProgram gate(folder, machine.address());
  test::Browser browser;
  browser.go("https://127.0.0.1:" + std::to_string(gate.port) + "/");
  browser.until("!document.getElementById('signin').hidden");
  browser.until("performance.getEntriesByName('first-contentful-paint').length > 0");
  table.figure("gateway: page, from asking to its first paint",
               browser.run("return performance.getEntriesByName('first-contentful-paint')[0].startTime"),
               "ms");
  browser.type("#name", "duty");
  browser.type("#password", "duty-at-the-gate");
  browser.click("#signin button");
  browser.until("document.querySelectorAll('.machine').length > 0");
  browser.run("document.querySelector('.machine button').click()");
  browser.until("document.querySelector('.foot')?.textContent.includes('fps')");
  browser.run("document.querySelector('.face').focus()");
  std::vector<double> took;
  const std::string figure = "document.querySelector('.foot span[data-key-ms]')";
  for (int i = 0; i < kKeys; ++i) {
    browser.run("delete " + figure + "?.dataset.keyMs");
    browser.keys(std::string(1, static_cast<char>('a' + i % 26)));
    if (!browser.until(figure, std::chrono::seconds(5))) break;
    took.push_back(std::stod(browser.run("return " + figure + ".dataset.keyMs").get<std::string>()));
  }
  if (took.empty()) throw Error(ErrorKind::Local, "no key changed the page's picture");
  std::sort(took.begin(), took.end());
  table.figure("gateway: keys that were followed", static_cast<double>(took.size()), "");
  table.figure("gateway: key to canvas, median", took[took.size() / 2], "ms", 30);
  table.figure("gateway: key to canvas, one in twenty takes longer", took[took.size() * 19 / 20], "ms");
}

}  // namespace

void benchGate(Table& table) {
  table.figure("gateway: its page, all files", static_cast<double>(gate::pageBytes()) / 1000, "kB", 150);
  std::string name = (std::filesystem::temp_directory_path() / "kettle-bench-XXXXXX").string();
  if (mkdtemp(name.data()) == nullptr) return;
  const std::filesystem::path folder = name;
  for (const char* part : {"keys", "idle", "crowd", "busy"}) std::filesystem::create_directory(folder / part);
  benchKeys(table, folder / "keys");
  {
    BusyMachine machine;
    GateProgram gate(folder / "idle", machine.address());
    Crowd first(gate, kMachines, kMachines, true);  // the machines' own sessions are not what viewers cost
    const double before = gate.memory();
    Crowd idle(gate, 1000, kMachines, true);
    table.figure("gateway: viewers that see a still picture", idle.seeing, "");
    table.figure("gateway: memory for these at first", gate.memory() - before, "MiB");
    std::this_thread::sleep_for(std::chrono::seconds(12));  // what is measured is what stays
    table.figure("gateway: memory for these", gate.memory() - before, "MiB", 150);
  }
  {
    BusyMachine machine;
    GateProgram gate(folder / "crowd", machine.address());
    const auto begun = std::chrono::steady_clock::now();
    Crowd one(gate, 1000, 1, true);
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
    table.figure("gateway: viewers of one machine", one.seeing, "");
    table.figure("gateway: until the last of these sees it", took.count(), "s");
  }
  {
    BusyMachine machine;
    GateProgram gate(folder / "busy", machine.address());
    Crowd busy(gate, 20, 1, true);
    machine.busy = true;
    std::this_thread::sleep_for(std::chrono::seconds(2));
    const double before = gate.processorSeconds();
    int updates = 0;
    for (const auto& v : busy.viewers) updates -= v->updates;
    std::this_thread::sleep_for(std::chrono::seconds(10));  // what is measured is time itself
    for (const auto& v : busy.viewers) updates += v->updates;
    table.figure("gateway: 20 at a busy 720p as the page asks, pictures each", updates / 20.0 / 10,
                 "a second");
    table.figure("gateway: processor for these", (gate.processorSeconds() - before) * 10, "% of one");
  }
  std::filesystem::remove_all(folder);
}

}  // namespace kw::bench
