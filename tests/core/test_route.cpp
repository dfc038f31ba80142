// Looking whether something answers, and taking quality from a line's speed.
#include "lab/host.hpp"
#include "route/checker.hpp"
#include "route/engine_vnc.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

CheckResult check(const std::string& address, std::chrono::milliseconds limit = std::chrono::seconds(3)) {
  CheckResult result;
  const Address parsed = parseAddress(address);
  runToEnd([&]() -> Task<void> { result = co_await checkAddress(parsed, limit); });
  return result;
}

/// Accepts, says `greeting`, and keeps the line open.
struct Talker {
  explicit Talker(const std::string& greeting) : strand(runtime.strand()) {
    listener = listenTcp(strand, "127.0.0.1", 0);
    spawn(strand, [listening = listener, greeting]() -> Task<void> {
      std::vector<StreamPtr> kept;
      for (;;) {
        kept.push_back(co_await listening->accept());
        co_await kept.back()->write(viewOf(greeting));
      }
    });
  }
  ~Talker() { runtime.stop(); }
  [[nodiscard]] std::string address() const { return "vnc://127.0.0.1:" + std::to_string(listener->port()); }
  Runtime runtime{1};
  Executor strand;
  std::shared_ptr<Listener> listener;
};

}  // namespace

TEST_CASE("A check tells an answer from silence, refusal, a wrong service and an unknown name", "[route]") {
  const CheckResult answers = check(Talker("RFB 003.008\n").address());
  CHECK(answers.answers);
  CHECK(answers.sentence.starts_with("answers in "));
  CHECK(answers.took.count() > 0);
  const CheckResult silent = check(Talker("").address(), std::chrono::milliseconds(100));
  CHECK_FALSE(silent.answers);
  CHECK(silent.listens);
  CHECK(silent.sentence == "listens, but says nothing");
  const CheckResult web = check(Talker("HTTP/1.1 400 Bad Request\r\n").address());
  CHECK(web.problem == ErrorKind::ProtocolBroken);
  CHECK(web.sentence.find("no VNC console") != std::string::npos);
  const CheckResult refused = check("vnc://127.0.0.1:1");
  CHECK(refused.problem == ErrorKind::Refused);
  CHECK_FALSE(refused.listens);
  CHECK(check("vnc://no-such-host.invalid").problem == ErrorKind::NameUnknown);
  CHECK(check("vnc+unix:/nowhere/at/all").problem == ErrorKind::Unreachable);
}

TEST_CASE("The words for quality stand for levels", "[route]") {
  CHECK(qualityLevels("lossless").quality == -1);
  CHECK(qualityLevels("high").quality > qualityLevels("medium").quality);
  CHECK(qualityLevels("medium").quality > qualityLevels("low").quality);
  CHECK(qualityLevels("low").compression > qualityLevels("high").compression);
}

TEST_CASE("Settings become the options of a session", "[route]") {
  std::map<std::string, std::string> values{{"screen.encoding", "hextile"}, {"clipboard.way", "off"},
                                            {"screen.shared", "off"},       {"security.anonymous", "off"},
                                            {"connect.limit", "3"},         {"screen.viewonly", "on"},
                                            {"screen.quality", "high"},     {"sound.play", "on"}};
  const SettingReader builtIn = builtInSettings();
  const SettingReader reader = [&](const std::string& key) {
    return values.contains(key) ? values[key] : builtIn(key);
  };
  const VncConfig config = vncConfig(parseAddress("vnc://[2001:db8::4]:5901"), "seed-bank", reader);
  CHECK(config.host == "2001:db8::4");
  CHECK(config.port == 5901);
  CHECK(config.connectLimit == std::chrono::seconds(3));
  CHECK(config.viewOnly);
  CHECK_FALSE(config.chooseQuality);
  CHECK_FALSE(config.options.shared);
  CHECK_FALSE(config.options.clipboard);
  CHECK_FALSE(config.options.security.allowAnonymousTls);
  CHECK(config.options.audio);
  REQUIRE_FALSE(config.options.encodings.empty());
  CHECK(config.options.encodings.front() == 5);
  CHECK(vncConfig(parseAddress("/run/vm/screen"), "seed-bank", builtIn).unixPath == "/run/vm/screen");
}
