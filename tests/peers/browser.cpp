#include "tests/peers/browser.hpp"

#include <fcntl.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>

#include <fstream>

#include "base/error.hpp"
#include "tests/peers/peer.hpp"

namespace kw::test {

using Json = nlohmann::json;

bool Browser::available() { return have("/usr/bin/chromium") && have("/usr/bin/chromedriver"); }

Browser::Browser(int width, int height) : port_(freeTcpPort()) {
  driver_ = fork();
  if (driver_ == 0) {
    prctl(PR_SET_PDEATHSIG, SIGTERM);
    setpgid(0, 0);
    const int nowhere = open("/dev/null", O_RDWR);
    for (int fd : {0, 1, 2}) dup2(nowhere, fd);
    closefrom(3);
    const std::string port = "--port=" + std::to_string(port_);
    execl("/usr/bin/chromedriver", "chromedriver", port.c_str(), nullptr);
    _exit(127);
  }
  const bool up = eventually([&] {
    try {
      return call("GET", "/status", nullptr)["ready"] == true;
    } catch (const std::exception&) {
      return false;
    }
  });
  if (!up) throw std::runtime_error("chromedriver does not come up");
  // Nothing but the page itself is asked for: no updates, no names looked up.
  const Json arguments{"--headless=new",
                       "--no-sandbox",
                       "--disable-gpu",
                       "--disable-quic",
                       "--no-first-run",
                       "--disable-background-networking",
                       "--disable-component-update",
                       "--disable-sync",
                       "--hide-scrollbars",
                       "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.*",
                       "--user-data-dir=" + profile_.path.string(),
                       "--window-size=" + std::to_string(width) + "," + std::to_string(height)};
  const Json options{{"args", arguments}, {"binary", "/usr/bin/chromium"}};
  const Json always{
      {"browserName", "chrome"}, {"acceptInsecureCerts", true}, {"goog:chromeOptions", options}};
  session_ = call("POST", "/session", {{"capabilities", {{"alwaysMatch", always}}}})["sessionId"];
  // The window's size is the page's, whatever frame a window would have.
  run("return 0");
}

Browser::~Browser() {
  try {
    if (!session_.empty()) call("DELETE", "/session/" + session_, nullptr);
  } catch (const std::exception&) {
    // It is ended below anyway.
  }
  kill(-driver_, SIGKILL);
  waitpid(driver_, nullptr, 0);
}

Json Browser::call(const std::string& method, const std::string& path, const Json& body) {
  std::string answer;
  runToEnd([&]() -> Task<void> {
    const StreamPtr stream =
        co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(port_), std::chrono::seconds(5));
    const std::string text = body.is_null() ? "" : body.dump();
    const std::string request = method + " " + path +
                                " HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\nContent-Type: "
                                "application/json\r\nContent-Length: " +
                                std::to_string(text.size()) + "\r\n\r\n" + text;
    co_await stream->write(viewOf(request));
    std::size_t wanted = std::string::npos;
    Byte part[65536];
    while (answer.size() < wanted) {
      const std::size_t n = co_await stream->readSome(part);
      answer.append(reinterpret_cast<const char*>(part), n);
      const auto end = answer.find("\r\n\r\n");
      if (wanted == std::string::npos && end != std::string::npos) {
        const std::string head = lowered(answer.substr(0, end));
        wanted = end + 4 + std::stoul(head.substr(head.find("content-length:") + 15));
      }
    }
  });
  const Json value = Json::parse(answer.substr(answer.find("\r\n\r\n") + 4))["value"];
  if (value.is_object() && value.contains("error"))
    throw std::runtime_error(value["message"].get<std::string>().substr(0, 400));
  return value;
}

void Browser::colours(const std::string& scheme) {
  const Json feature{{"name", "prefers-color-scheme"}, {"value", scheme}};
  const Json params{{"features", Json::array({feature})}};
  call("POST", "/session/" + session_ + "/goog/cdp/execute",
       {{"cmd", "Emulation.setEmulatedMedia"}, {"params", params}});
}

void Browser::size(int width, int height) {
  const Json params{{"width", width}, {"height", height}, {"deviceScaleFactor", 1}, {"mobile", true}};
  call("POST", "/session/" + session_ + "/goog/cdp/execute",
       {{"cmd", "Emulation.setDeviceMetricsOverride"}, {"params", params}});
}

void Browser::go(const std::string& url) { call("POST", "/session/" + session_ + "/url", {{"url", url}}); }

Json Browser::run(const std::string& code, Json arguments) {
  return call("POST", "/session/" + session_ + "/execute/sync",
              {{"script", code}, {"args", std::move(arguments)}});
}

Json Browser::await(const std::string& expression) {
  return call("POST", "/session/" + session_ + "/execute/async",
              {{"script", "const done = arguments[0]; (async () => done(await (" + expression +
                              ")))().catch(e => done('failed: ' + e));"},
               {"args", Json::array()}});
}

bool Browser::until(const std::string& condition, std::chrono::seconds limit) {
  return eventually([&] { return run("return !!(" + condition + ")") == true; }, limit);
}

std::string Browser::element(const std::string& css) {
  const Json found =
      call("POST", "/session/" + session_ + "/element", {{"using", "css selector"}, {"value", css}});
  return found.begin().value();
}

void Browser::click(const std::string& css) {
  call("POST", "/session/" + session_ + "/element/" + element(css) + "/click", Json::object());
}

void Browser::type(const std::string& css, const std::string& text) {
  call("POST", "/session/" + session_ + "/element/" + element(css) + "/value", {{"text", text}});
}

void Browser::compose(const std::string& unfinished, const std::string& text) {
  const std::string path = "/session/" + session_ + "/goog/cdp/execute";
  const int end = static_cast<int>(utf8ToUtf32(unfinished).size());
  call("POST", path,
       {{"cmd", "Input.imeSetComposition"},
        {"params", {{"text", unfinished}, {"selectionStart", end}, {"selectionEnd", end}}}});
  call("POST", path, {{"cmd", "Input.insertText"}, {"params", {{"text", text}}}});
}

void Browser::keys(const std::string& text) {
  Json actions = Json::array(), held = Json::array();
  for (const char32_t point : utf8ToUtf32(text)) {
    std::string key;
    appendUtf8(key, point);
    actions.push_back({{"type", "keyDown"}, {"value", key}});
    // Shift, Control and Alt (WebDriver 17.4.2) stay down until the end.
    const bool holds = point >= 0xe008 && point <= 0xe00a;
    (holds ? held : actions).push_back({{"type", "keyUp"}, {"value", key}});
  }
  for (const Json& up : held) actions.push_back(up);
  call("POST", "/session/" + session_ + "/actions",
       {{"actions", {{{"type", "key"}, {"id", "keyboard"}, {"actions", actions}}}}});
}

std::string Browser::text(const std::string& css) {
  return run("return [...document.querySelectorAll(arguments[0])].map(e => e.textContent).join('\\n')",
             {css});
}

void Browser::window(std::size_t number) {
  Json handles;
  if (!eventually([&] {
        handles = call("GET", "/session/" + session_ + "/window/handles", nullptr);
        return handles.size() > number;
      }))
    throw std::runtime_error("the browser has no such window");
  call("POST", "/session/" + session_ + "/window", {{"handle", handles.at(number)}});
}

void Browser::save(const std::filesystem::path& png) {
  const std::string base64 = call("GET", "/session/" + session_ + "/screenshot", nullptr);
  std::string out;
  std::uint32_t held = 0;
  int bits = 0;
  static const std::string letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  for (const char c : base64) {
    const auto at = letters.find(c);
    if (at == std::string::npos) continue;
    held = held << 6 | static_cast<std::uint32_t>(at);
    if ((bits += 6) >= 8) out += static_cast<char>(held >> (bits -= 8) & 0xff);
  }
  std::ofstream(png, std::ios::binary) << out;
}

}  // namespace kw::test
