#include "tests/peers/qemu.hpp"

#include <set>

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <sys/wait.h>

#include <fstream>
#include <iostream>

#include "picture/png.hpp"
#include "session/keys.hpp"

extern char** environ;

namespace kw::test {

void stopWhenPainted(Qemu& qemu) {
  REQUIRE(eventually(
      [&] {
        const Framebuffer f = qemu.screendump();
        std::set<Pixel> colours;
        for (int y = 0; y < f.height(); y += 3)
          for (int x = 0; x < f.width(); x += 3) colours.insert(f.pixel(x, y));
        return colours.size() >= 3;
      },
      std::chrono::seconds(60)));
  qemu.stop();
}

Qemu::Qemu(std::vector<std::string> arguments, std::string vncOptions, bool tcp) {
  const std::string qmpPath = (folder_.path / "qmp").string();
  std::string vnc = "unix:" + (folder_.path / "vnc").string();
  if (tcp) {
    port_ = freeTcpPort();
    vnc = "127.0.0.1:" + std::to_string(port_ - 5900);
  }
  std::vector<std::string> all{"qemu-system-x86_64",
                               "-accel",
                               "tcg",
                               "-display",
                               "none",
                               "-nodefaults",
                               "-vga",
                               "std",
                               "-vnc",
                               vnc + (vncOptions.empty() ? "" : "," + vncOptions),
                               "-qmp",
                               "unix:" + qmpPath + ",server=on,wait=off",
                               "-monitor",
                               "none",
                               "-no-user-config"};
  for (std::string& a : arguments) {
    // What a test writes as FOLDER is this machine's own folder.
    if (const auto at = a.find("FOLDER"); at != std::string::npos) a.replace(at, 6, folder_.path.string());
    all.push_back(a);
  }
  std::vector<char*> argv;
  for (std::string& a : all) argv.push_back(a.data());
  argv.push_back(nullptr);
  const std::string log = (folder_.path / "log").string();
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 1, log.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
  posix_spawn_file_actions_adddup2(&actions, 1, 2);
  REQUIRE(posix_spawnp(&process_, argv[0], &actions, nullptr, argv.data(), environ) == 0);
  posix_spawn_file_actions_destroy(&actions);
  connectQmp();
}

Qemu::~Qemu() {
  if (qmp_ >= 0) ::close(qmp_);
  if (process_ > 0) {
    kill(process_, SIGKILL);
    waitpid(process_, nullptr, 0);
  }
}

void Qemu::connectQmp() {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  std::strncpy(address.sun_path, (folder_.path / "qmp").c_str(), sizeof address.sun_path - 1);
  const bool connected = eventually([&] {
    if (waitpid(process_, nullptr, WNOHANG) != 0) return true;
    qmp_ = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (connect(qmp_, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0) return true;
    ::close(qmp_);
    qmp_ = -1;
    return false;
  });
  if (!connected || qmp_ < 0) {
    std::ifstream log(folder_.path / "log");
    FAIL("QEMU did not start: " << std::string(std::istreambuf_iterator<char>(log), {}));
  }
  readLine();
  qmp("qmp_capabilities");
}

std::string Qemu::readLine() {
  for (;;) {
    if (const auto end = pending_.find('\n'); end != std::string::npos) {
      std::string line = pending_.substr(0, end);
      pending_.erase(0, end + 1);
      return line;
    }
    pollfd wait{qmp_, POLLIN, 0};
    if (poll(&wait, 1, 20000) != 1) throw std::runtime_error("QMP says nothing");
    char chunk[4096];
    const ssize_t n = read(qmp_, chunk, sizeof chunk);
    if (n <= 0) throw std::runtime_error("QMP has ended");
    pending_.append(chunk, static_cast<std::size_t>(n));
  }
}

nlohmann::json Qemu::qmp(const std::string& command, nlohmann::json arguments) {
  const std::string line =
      nlohmann::json{{"execute", command}, {"arguments", std::move(arguments)}}.dump() + "\n";
  if (write(qmp_, line.data(), line.size()) != static_cast<ssize_t>(line.size()))
    throw std::runtime_error("QMP does not listen");
  for (;;) {
    const auto answer = nlohmann::json::parse(readLine());
    if (answer.contains("return")) return answer["return"];
    if (answer.contains("error"))
      throw std::runtime_error(command + ": " + answer["error"]["desc"].get<std::string>());
  }
}

Framebuffer Qemu::screendump() {
  const auto file = folder_.path / "screen.png";
  qmp("screendump", {{"filename", file.string()}, {"format", "png"}});
  return loadPng(file);
}

VncConfig Qemu::config() const {
  VncConfig config;
  config.label = "the guest";
  if (port_ > 0) {
    config.host = "127.0.0.1";
    config.port = port_;
  } else {
    config.unixPath = (folder_.path / "vnc").string();
  }
  config.options.quality = -1;
  return config;
}

std::string Qemu::address() const {
  return port_ > 0 ? "vnc://127.0.0.1:" + std::to_string(port_)
                   : "vnc+unix:" + (folder_.path / "vnc").string();
}

struct Viewer::State {
  mutable std::mutex mutex;
  SessionStatus status;
  std::string forms;  ///< in which pictures came, all seconds together
  Capabilities capabilities;
  RouteFacts route;
  std::vector<Question> questions;
  std::vector<std::string> remarks;
  Size size;
  Region seen = Region::exact();
  int damages = 0;
  std::size_t sound = 0;
  bool relative = false;
};

class Viewer::Observer : public SessionObserver {
 public:
  Observer(std::shared_ptr<State> state, Viewer& viewer) : state_(std::move(state)), viewer_(viewer) {}
  void statusChanged(const SessionStatus& s) override {
    std::lock_guard lock(state_->mutex);
    state_->status = s;
  }
  void figuresChanged(const Figures& f) override {
    std::lock_guard lock(state_->mutex);
    state_->forms += f.encodings + ' ';
  }
  void capabilitiesChanged(const Capabilities& c) override {
    std::lock_guard lock(state_->mutex);
    state_->capabilities = c;
  }
  void routeChanged(const RouteFacts& r) override {
    std::lock_guard lock(state_->mutex);
    state_->route = r;
  }
  void pictureResized(Size size, const std::vector<Screen>&) override {
    std::lock_guard lock(state_->mutex);
    if (size != state_->size) state_->seen.clear();
    state_->size = size;
  }
  void damaged(const Region& region) override {
    std::lock_guard lock(state_->mutex);
    state_->seen.add(region);
    ++state_->damages;
  }
  void sound(ByteView data) override {
    std::lock_guard lock(state_->mutex);
    state_->sound += data.size();
  }
  void pointerRelative(bool on) override {
    std::lock_guard lock(state_->mutex);
    state_->relative = on;
  }
  void remark(const std::string& text) override {
    std::lock_guard lock(state_->mutex);
    state_->remarks.push_back(text);
  }
  void asked(const Question& q, std::function<void(Answer)> reply) override {
    {
      std::lock_guard lock(state_->mutex);
      state_->questions.push_back(q);
    }
    reply(viewer_.answer);
  }

 private:
  std::shared_ptr<State> state_;
  Viewer& viewer_;
};

Viewer::Viewer(VncConfig config) : state_(std::make_shared<State>()) {
  answer.accepted = true;
  session_ = makeVncSession(runtime_.strand(), systemClock(), std::move(config));
  session_->observe(std::make_shared<Observer>(state_, *this));
  session_->start();
}

Viewer::Viewer(const std::function<std::shared_ptr<Session>(const Executor&)>& make)
    : state_(std::make_shared<State>()) {
  answer.accepted = true;
  session_ = make(runtime_.strand());
  session_->observe(std::make_shared<Observer>(state_, *this));
  session_->start();
}

Viewer::~Viewer() {
  session_->end();
  until([&] { return status().stage == SessionStage::Ended; }, std::chrono::seconds(3));
  runtime_.stop();
}

bool Viewer::until(const std::function<bool()>& condition, std::chrono::milliseconds limit) {
  return eventually(condition, limit);
}

bool Viewer::live(std::chrono::milliseconds limit) {
  return until(
      [&] {
        std::lock_guard lock(state_->mutex);
        return state_->status.stage == SessionStage::Live && !state_->size.empty() &&
               state_->seen.covers({0, 0, state_->size.width, state_->size.height});
      },
      limit);
}

Framebuffer Viewer::picture() const {
  const auto picture = session_->picture();
  auto lock = picture->lock();
  return picture->cropped(picture->rect());
}

bool Viewer::shows(const Framebuffer& truth, int allowed, std::chrono::milliseconds limit) {
  return until(
      [&] {
        const auto mine = session_->picture();
        auto lock = mine->lock();
        return mine->size() == truth.size() &&
               (allowed == 0 ? samePixels(*mine, truth) : largestDifference(*mine, truth) <= allowed);
      },
      limit);
}

void Viewer::press(const std::string& chord) {
  const Chord keys = chordFromText(chord);
  for (const KeyStroke& k : keys) session_->key(k.keysym, k.scanCode, true);
  for (auto k = keys.rbegin(); k != keys.rend(); ++k) session_->key(k->keysym, k->scanCode, false);
}

void Viewer::type(const std::string& text) {
  // A PC's keyboard buffer holds sixteen bytes: each key waits until the one before shows.
  for (const Chord& chord : chordsForText(text)) {
    const int before = damageCount();
    for (const KeyStroke& k : chord) session_->key(k.keysym, k.scanCode, true);
    for (auto k = chord.rbegin(); k != chord.rend(); ++k) session_->key(k->keysym, k->scanCode, false);
    until([&] { return damageCount() > before; }, std::chrono::milliseconds(300));
  }
}

void Viewer::click(Point at) {
  session_->pointer(at, 0);
  session_->pointer(at, 1);
  session_->pointer(at, 0);
}

bool Viewer::saw(const std::string& form, std::chrono::milliseconds limit) {
  return until(
      [&] {
        std::lock_guard lock(state_->mutex);
        return state_->forms.find(form) != std::string::npos;
      },
      limit);
}
SessionStatus Viewer::status() const {
  std::lock_guard lock(state_->mutex);
  return state_->status;
}
int Viewer::damageCount() const {
  std::lock_guard lock(state_->mutex);
  return state_->damages;
}
Capabilities Viewer::capabilities() const {
  std::lock_guard lock(state_->mutex);
  return state_->capabilities;
}
RouteFacts Viewer::route() const {
  std::lock_guard lock(state_->mutex);
  return state_->route;
}
std::vector<Question> Viewer::questions() const {
  std::lock_guard lock(state_->mutex);
  return state_->questions;
}
std::vector<std::string> Viewer::remarks() const {
  std::lock_guard lock(state_->mutex);
  return state_->remarks;
}
bool Viewer::relative() const {
  std::lock_guard lock(state_->mutex);
  return state_->relative;
}
std::size_t Viewer::soundBytes() const {
  std::lock_guard lock(state_->mutex);
  return state_->sound;
}

}  // namespace kw::test
