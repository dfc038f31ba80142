// What a group's policy makes of visits: asking whoever is there first, who may end, recordings.
#include <fstream>

#include "gate/recording.hpp"
#include "gate/rules.hpp"
#include "tests/core/gate_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

Id machineOf(GateBench& b, Id way) { return b.tools.store->load().endpoints.at(way).machine; }

void setPolicy(GateBench& b, const std::map<std::string, std::string>& values) {
  const Id machine = machineOf(b, b.way);
  b.tools.store->commit("policy", [&](StoreWriter& w) {
    for (const auto& [key, value] : values) w.set({OwnerKind::Machine, machine}, key, value);
  });
}

std::string numberIn(const std::string& text) {
  const auto at = text.find("\"visit\":") + 8;
  return text.substr(at, text.find_first_of(",}", at) - at);
}

/// Whether a message with the words comes before the answer to a ping.
Task<bool> comes(std::shared_ptr<WebSocket> socket, std::string words) {
  co_await socket->sendText("{\"ping\":4711}");
  bool found = false;
  const auto read = [&]() -> Task<void> {
    for (;;) {
      const WebSocketMessage m = co_await socket->receive();
      const std::string text = kw::textOf(m.bytes);
      found = found || text.find(words) != std::string::npos;
      if (text.find("4711") != std::string::npos) co_return;
    }
  };
  co_await within(std::chrono::seconds(10), "pong", read());
  co_return found;
}

Task<std::string> endOf(std::shared_ptr<WebSocket> socket) {
  std::string why;
  try {
    co_await GateBench::until(socket, "never said");
  } catch (const Error& e) {
    why = e.what();
  }
  co_return why;
}

std::vector<std::string> auditWords(GateBench& b) {
  std::vector<std::string> out;
  for (const nlohmann::json& told : b.gate->store().auditEntries(0, 200))
    out.push_back(told.value("what", ""));
  return out;
}

}  // namespace

TEST_CASE("Where it is asked first, a newcomer sees nothing until whoever has the hand lets him in",
          "[gate]") {
  GateBench b("", {}, {}, {{"gate.door", "ask"}});
  b.gate->store().addAccount("night volunteer", "volunteers-drive", Role::Drive);
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    night = b.signIn("night volunteer", "volunteers-drive"),
                    seeds = b.signIn("seed desk", "seed-desk-looks");
  runToEnd([&]() -> Task<void> {
    const std::string path = "/visit?way=" + std::to_string(b.way);
    const auto first = co_await b.page(path, duty);
    co_await GateBench::until(first, "\"stage\":\"live\"");
    // One's own second browser is no stranger.
    const auto again = co_await b.page(path, duty);
    co_await GateBench::until(again, "\"people\"");
    const auto second = co_await b.page(path, night);
    const std::string door = co_await GateBench::until(second, "\"door\"");
    CHECK(door.find("\"there\":\"duty\"") != std::string::npos);
    const std::string knock = co_await GateBench::until(first, "\"knocks\":[{");
    CHECK(knock.find("night volunteer") != std::string::npos);
    // Nothing is shown, and nothing can be asked of the room, meanwhile.
    const bool seen = co_await comes(second, "\"people\"");
    CHECK_FALSE(seen);
    co_await second->sendText("{\"askHand\":true,\"end\":true,\"letIn\":" + numberIn(knock) + "}");
    const bool in = co_await comes(second, "\"people\"");
    CHECK_FALSE(in);
    // Only the hand opens: the other browser, which looks, does not.
    co_await again->sendText("{\"letIn\":" + numberIn(knock) + "}");
    const bool opened = co_await comes(again, "\"all\":3");
    CHECK_FALSE(opened);
    const auto soFar = auditWords(b);
    CHECK(std::find(soFar.begin(), soFar.end(), "lets in") == soFar.end());
    co_await first->sendText("{\"letIn\":" + numberIn(knock) + "}");
    co_await GateBench::until(second, "\"people\"");
    co_await GateBench::until(first, "\"all\":3");
    // Turned away.
    const auto third = co_await b.page(path, seeds);
    const std::string other = co_await GateBench::until(first, "\"knocks\":[{");
    co_await first->sendText("{\"turnAway\":" + numberIn(other) + "}");
    const std::string why = co_await endOf(third);
    CHECK(why.find("duty is there and let nobody in") != std::string::npos);
    // Whoever waits when everybody has left is in.
    const auto patient = co_await b.page(path, seeds);
    co_await GateBench::until(patient, "\"door\"");
    again->close();
    second->close();
    first->close();
    co_await GateBench::until(patient, "\"people\"");
    // Once nobody has to ask, nobody waits.
    const auto late = co_await b.page(path, night);
    co_await GateBench::until(late, "\"door\"");
    setPolicy(b, {{"gate.door", "open"}});
    co_await GateBench::until(late, "\"people\"");
  });
  const auto words = auditWords(b);
  for (const char* word : {"asks to be let in", "lets in", "turns away"})
    CHECK(std::find(words.begin(), words.end(), word) != words.end());
}

TEST_CASE("Where keepers only end it for all, whoever drives leaves alone", "[gate]") {
  GateBench b("", {}, {}, {{"gate.end", "keeper"}});
  b.gate->store().addAccount("night volunteer", "volunteers-drive", Role::Drive);
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    night = b.signIn("night volunteer", "volunteers-drive");
  runToEnd([&]() -> Task<void> {
    const std::string path = "/visit?way=" + std::to_string(b.way);
    const auto drives = co_await b.page(path, night);
    const std::string told = co_await GateBench::until(drives, "\"may\"");
    CHECK(told.find("\"endAll\":false") != std::string::npos);
    const auto keeper = co_await b.page(path, duty);
    const std::string keepers = co_await GateBench::until(keeper, "\"may\"");
    CHECK(keepers.find("\"endAll\":true") != std::string::npos);
    co_await GateBench::until(keeper, "\"people\"");
    co_await drives->sendText("{\"end\":true}");
    const std::string why = co_await endOf(drives);
    CHECK(why.find("you left") != std::string::npos);
    co_await GateBench::until(keeper, "\"all\":1");
    co_await keeper->sendText("{\"end\":true}");
    const std::string over = co_await endOf(keeper);
    CHECK(over.find("ended by duty") != std::string::npos);
  });
}

TEST_CASE("What policy says of passes: how long, how often, and where it is set", "[gate]") {
  GateBench b("", {}, {}, {{"gate.passuses", "3"}, {"gate.passhours", "8"}});
  const Snapshot s = b.tools.store->load();
  const Rules rules = rulesOf(s, b.way);
  CHECK(problemWithPass(rules, 2, 3).empty());
  CHECK(problemWithPass(rules, 2, 0).find("at most 3 times (from the machine;") != std::string::npos);
  CHECK_FALSE(problemWithPass(rules, 2, 4).empty());
  CHECK(problemWithPass(rules, 9, 1).find("at most 8 h") != std::string::npos);
  CHECK_FALSE(problemWithPass(rules, 0, 1).empty());
  CHECK(problemWithPass(rulesOf(s, b.otherWay), 2, 0).empty());
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", duty);
    const std::string way = "{\"makePass\":{\"way\":" + std::to_string(b.way) + ",\"hours\":2";
    co_await live->sendText(way + "}}");
    co_await GateBench::until(live, "at most 3 times");
    co_await live->sendText(way + ",\"uses\":2}}");
    co_await GateBench::until(live, "passMade");
  });
}

TEST_CASE("A recorded picture: visitors are told, keepers alone get it, and it decodes to what was shown",
          "[gate]") {
  GateBench b("", {}, {}, {{"gate.record", "on"}});
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    seeds = b.signIn("seed desk", "seed-desk-looks");
  const auto folder = b.folder.path / "gate" / "recordings";
  const std::string path = "/visit?way=" + std::to_string(b.way);
  runToEnd([&]() -> Task<void> {
    const auto visitor = co_await b.page(path, seeds);
    co_await GateBench::until(visitor, "\"recorded\":true");
    co_await GateBench::until(visitor, "\"size\"");
    // Until the picture is in the file.
    const auto grown = [&] {
      const auto all = recordingsIn(folder);
      return !all.empty() && all.front().bytes > 4000;
    };
    for (int i = 0; i < 500 && !grown(); ++i) co_await systemClock()->sleep(std::chrono::milliseconds(20));
    const auto running = recordingsIn(folder);
    REQUIRE(running.size() == 1);
    CHECK(running.front().lasted == -1);
    visitor->close();
    for (int i = 0; i < 500 && recordingsIn(folder).front().lasted < 0; ++i)
      co_await systemClock()->sleep(std::chrono::milliseconds(20));
  });
  const auto kept = recordingsIn(folder);
  REQUIRE(kept.size() == 1);
  CHECK(kept.front().machine == "mist-bench");
  CHECK(kept.front().people == "seed desk");
  CHECK(kept.front().picture);
  CHECK(kept.front().lasted >= 0);
  const auto mode = std::filesystem::status(folder / kept.front().file).permissions();
  CHECK((mode & std::filesystem::perms::others_all) == std::filesystem::perms::none);
  CHECK((mode & std::filesystem::perms::group_all) == std::filesystem::perms::none);
  // For keepers, in parts; nothing else of the folder.
  const std::string at = "/recording?file=" + kept.front().file + "&from=";
  CHECK(b.get(at + "0").starts_with("HTTP/1.1 401"));
  CHECK(b.get(at + "0", seeds).starts_with("HTTP/1.1 403"));
  const std::string whole = b.get(at + "0", duty);
  CHECK(whole.starts_with("HTTP/1.1 200"));
  CHECK(whole.find("{\"began\"") != std::string::npos);
  CHECK(b.get(at + "999999999", duty).find("Content-Length: 0") != std::string::npos);
  for (const char* bad : {"../gate.sqlite", "..%2fgate.sqlite", "x.kwr", "/etc/passwd", ""})
    CHECK(b.get(std::string("/recording?file=") + bad + "&from=0", duty).starts_with("HTTP/1.1 404"));
  CHECK(b.get("/recording?file=" + kept.front().file + "&from=-1", duty).starts_with("HTTP/1.1 400"));
  // What a decoder of the picture's stream makes of it.
  std::string bytes = recordingPart(folder, kept.front().file, 0, 1 << 24);
  bytes.erase(0, bytes.find('\n') + 1);
  Bytes stream;
  for (std::size_t i = 0; i + 9 <= bytes.size();) {
    std::uint32_t size = 0;
    for (int k = 3; k >= 0; --k)
      size = size << 8 | static_cast<unsigned char>(bytes[i + 5 + static_cast<std::size_t>(k)]);
    if (static_cast<RecordedKind>(bytes[i]) == RecordedKind::Picture)
      stream.insert(stream.end(), bytes.begin() + static_cast<std::ptrdiff_t>(i + 9),
                    bytes.begin() + static_cast<std::ptrdiff_t>(i + 9 + size));
    i += 9 + size;
  }
  REQUIRE(stream.size() > 100);
  CHECK(std::string(stream.begin(), stream.begin() + 12) == "RFB 003.008\n");
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", seeds);
    co_await live->sendText("{\"recordings\":true,\"removeRecording\":\"" + kept.front().file + "\"}");
    co_await GateBench::until(live, "only a keeper");
    CHECK(recordingsIn(folder).size() == 1);
    const auto keeper = co_await b.page("/live", duty);
    co_await keeper->sendText("{\"recordings\":true}");
    co_await GateBench::until(keeper, "seed desk");
    co_await keeper->sendText("{\"removeRecording\":\"" + kept.front().file + "\"}");
    co_await GateBench::until(keeper, "\"recordings\":[]");
  });
  CHECK(recordingsIn(folder).empty());
  const auto words = auditWords(b);
  for (const char* word : {"recording begins", "recording ends", "plays a recording", "removes a recording"})
    CHECK(std::find(words.begin(), words.end(), word) != words.end());
}

TEST_CASE("A recording that cannot be written ends the visit, since it must be recorded", "[gate]") {
  GateBench b("", {}, {}, {{"gate.record", "on"}});
  std::ofstream(b.folder.path / "gate" / "recordings") << "a file where the folder should be";
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  runToEnd([&]() -> Task<void> {
    const auto visitor = co_await b.page("/visit?way=" + std::to_string(b.way), duty);
    const std::string why = co_await endOf(visitor);
    CHECK(why.find("visits here are recorded, and that failed") != std::string::npos);
  });
}

TEST_CASE("A recording that is as long as one may be goes on in another file; the visit goes on", "[gate]") {
  GateOptions options;
  options.recordingBytes = 2000;
  GateBench b("", {}, options, {{"gate.record", "on"}});
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  const auto folder = b.folder.path / "gate" / "recordings";
  runToEnd([&]() -> Task<void> {
    const auto visitor = co_await b.page("/visit?way=" + std::to_string(b.way), duty);
    co_await GateBench::until(visitor, "\"size\"");
    for (int i = 0; i < 500 && recordingsIn(folder).size() < 3; ++i)
      co_await systemClock()->sleep(std::chrono::milliseconds(20));
    CHECK(recordingsIn(folder).size() >= 3);
    const bool alive = co_await comes(visitor, "pong");
    CHECK(alive);
  });
  int whole = 0;
  for (const RecordingFacts& f : recordingsIn(folder)) whole += f.lasted >= 0 && f.people == "duty" ? 1 : 0;
  CHECK(whole >= 2);
}

TEST_CASE("Recordings: cut off, foreign and damaged files", "[gate]") {
  TemporaryFolder folder;
  std::string name;
  {
    RecordingWriter writer(folder.path, "mist-bench", "screen", true);
    name = writer.file();
    writer.note("duty");
    writer.note("duty");
    writer.add(RecordedKind::Message, 10, viewOf("{\"people\":[]}"));
    writer.add(RecordedKind::Picture, 5, viewOf("abc"));  // never earlier than before
    CHECK(recordingsIn(folder.path).front().lasted == -1);
  }
  const auto whole = recordingsIn(folder.path);
  REQUIRE(whole.size() == 1);
  CHECK(whole.front().lasted == 10);
  CHECK(whole.front().people == "duty");
  const std::string all = recordingPart(folder.path, name, 0, 1 << 20);
  CHECK(recordingPart(folder.path, name, 4, 6) == all.substr(4, 6));
  for (std::size_t cut = 0; cut < all.size(); ++cut) {
    std::ofstream(folder.path / "cut.kwr", std::ios::binary) << all.substr(0, cut);
    for (const RecordingFacts& f : recordingsIn(folder.path))
      if (f.file == "cut.kwr") CHECK(f.lasted == -1);
  }
  std::ofstream(folder.path / "other.kwr") << "something else\n";
  std::ofstream(folder.path / "list.kwr") << "[1,2,3]\n";
  std::ofstream(folder.path / "kinds.kwr")
      << R"({"recording":1,"machine":7,"label":"x","began":1,"picture":true})"
      << "\n";
  std::filesystem::remove(folder.path / "cut.kwr");
  CHECK(recordingsIn(folder.path).size() == 1);
  CHECK_THROWS_AS(recordingPart(folder.path, "none.kwr", 0, 10), Error);
  CHECK_THROWS_AS(removeRecording(folder.path, "../" + name), Error);
  removeRecording(folder.path, name);
  CHECK(recordingsIn(folder.path).empty());
}

TEST_CASE("Frames of other sites: none, but those that are named; the certificate is read anew", "[gate]") {
  CHECK(contentPolicyOf(GateBench().get("/")).ends_with("frame-ancestors 'none'"));
  GateOptions options;
  options.embedders = {"https://wiki.example"};
  GateBench b("", {}, options);
  CHECK(contentPolicyOf(b.get("/")).ends_with("frame-ancestors https://wiki.example"));
  const std::string answer = b.post("/sign-in", R"({"name":"duty","password":"duty-at-the-gate"})");
  CHECK(answer.find("SameSite=None; Partitioned") != std::string::npos);
  CHECK(b.post("/sign-in", "{}", "https://wiki.example").starts_with("HTTP/1.1 403"));

  const std::string before = b.gate->fingerprint();
  const MadeCertificate made = makeSelfSigned("127.0.0.1", 30);
  const auto file = b.folder.path / "gate" / "certificate.pem", key = b.folder.path / "gate" / "key.pem";
  std::ofstream(file) << "no certificate";
  CHECK_THROWS_AS(b.gate->reload(), Error);
  CHECK(b.gate->fingerprint() == before);
  CHECK(b.get("/").starts_with("HTTP/1.1 200"));
  std::ofstream(file) << made.certificatePem;
  std::ofstream(key) << made.keyPem;
  const std::string cookie = b.signIn("duty", "duty-at-the-gate");
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", cookie);
    co_await GateBench::until(live, "mist-bench");
    b.gate->reload();
    co_await live->sendText("{\"ping\":8}");
    co_await GateBench::until(live, "\"pong\":8");
  });
  CHECK(b.gate->fingerprint() != before);
  CHECK(b.gate->fingerprint() == sha256OfPem(made.certificatePem));
  CHECK(b.get("/").starts_with("HTTP/1.1 200"));
}
