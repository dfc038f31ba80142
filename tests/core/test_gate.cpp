// The gateway without a browser: what it keeps, sign-ins, requests and frames, and that nothing opens without
// one.
#include <openssl/evp.h>

#include <SQLiteCpp/SQLiteCpp.h>

#include "base/file.hpp"
#include "gate/gate.hpp"
#include "gate/http.hpp"
#include "gate/limiter.hpp"
#include "gate/outbox.hpp"
#include "gate/text_rows.hpp"
#include "lab/host.hpp"
#include "tests/hosted.hpp"
#include "tests/support.hpp"
#include "wire/tls.hpp"
#include "wire/websocket.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::gate;

namespace {

Pass passFor(Id way, Seconds lasts, int most = 0, bool look = true) {
  Pass p;
  p.wayIn = way, p.machine = "mist-bench", p.label = "screen", p.look = look, p.most = most,
  p.note = "night volunteer", p.madeBy = "duty";
  p.from = nowSeconds();
  p.until = p.from + lasts;
  return p;
}

/// A gateway with one machine, and whatever a browser can do to it over its own socket.
struct GateBench {
  explicit GateBench(const std::string& password = "", GateLimits limits = {}) {
    lab::ConsolePlan plan;
    plan.options.password = password;
    plan.guest.name = "mist-bench";
    plan.options.name = "mist-bench";
    console =
        std::make_unique<lab::Console>(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), plan);
    console->start(true);
    tools.store = openSqliteStore(folder.path / "records.sqlite");
    tools.vault = openVault(folder.path / "vault");
    tools.store->commit("fill", [&](StoreWriter& w) {
      for (const char* name : {"mist-bench", "seed-bank"}) {
        Machine m;
        m.name = name;
        w.put(m);
        Endpoint e;
        e.machine = m.id, e.label = "screen",
        e.address = "vnc://127.0.0.1:" + std::to_string(console->port());
        w.put(e);
        (std::string(name) == "mist-bench" ? way : otherWay) = e.id;
      }
    });
    GateOptions options;
    options.port = 0;
    options.state = folder.path / "gate";
    options.limits = limits;
    gate = std::make_unique<Gate>(runtime, options, tools);
    gate->store().addAccount("duty", "duty-at-the-gate", Role::Keeper);
    gate->store().addAccount("seed desk", "seed-desk-looks", Role::Look);
    gate->start();
  }
  ~GateBench() {
    gate.reset();
    console->stop();
    runtime.stop();
  }

  [[nodiscard]] std::string host() const { return "127.0.0.1:" + std::to_string(gate->port()); }

  Task<StreamPtr> connect() {
    TlsClientOptions tls;
    tls.hostName = "127.0.0.1";
    tls.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
    StreamPtr plain = co_await connectTcp("127.0.0.1", gate->port(), std::chrono::seconds(5));
    co_return co_await startTls(std::move(plain), tls);
  }

  /// The whole answer to one request, its connection closed.
  std::string raw(const std::string& text) {
    std::string out;
    runToEnd([&]() -> Task<void> {
      const StreamPtr stream = co_await connect();
      co_await stream->write(viewOf(text));
      Byte part[4096];
      try {
        for (;;) {
          const std::size_t n = co_await stream->readSome(part);
          out.append(reinterpret_cast<const char*>(part), n);
        }
      } catch (const Error&) {
        // The end.
      }
    });
    return out;
  }
  std::string get(const std::string& path, const std::string& cookie = "", const std::string& more = "") {
    return raw("GET " + path + " HTTP/1.1\r\nHost: " + host() + "\r\nConnection: close\r\n" +
               (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + more + "\r\n");
  }
  std::string post(const std::string& path, const std::string& body, const std::string& origin = "same",
                   const std::string& cookie = "") {
    return raw(
        "POST " + path + " HTTP/1.1\r\nHost: " + host() +
        "\r\nConnection: close\r\nContent-Length: " + std::to_string(body.size()) + "\r\n" +
        (origin.empty() ? "" : "Origin: " + (origin == "same" ? "https://" + host() : origin) + "\r\n") +
        (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + "\r\n" + body);
  }
  static std::string cookieOf(const std::string& answer) {
    const auto at = answer.find("kettle-gate=");
    return at == std::string::npos ? "" : answer.substr(at + 12, answer.find(';', at) - at - 12);
  }
  std::string signIn(const std::string& name, const std::string& password) {
    return cookieOf(post("/sign-in", "{\"name\":\"" + name + "\",\"password\":\"" + password + "\"}"));
  }
  /// The status of opening a WebSocket.
  int upgrade(const std::string& path, const std::string& cookie, const std::string& origin = "same") {
    const std::string answer = raw(upgradeText(path, cookie, origin) + std::string("\x88\x80\0\0\0\0", 6));
    return answer.size() > 12 ? std::stoi(answer.substr(9, 3)) : 0;
  }
  std::string upgradeText(const std::string& path, const std::string& cookie, const std::string& origin) {
    return "GET " + path + " HTTP/1.1\r\nHost: " + host() +
           "\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: "
           "dGhlIHNhbXBsZSBub25jZQ==\r\n" +
           (origin.empty() ? "" : "Origin: " + (origin == "same" ? "https://" + host() : origin) + "\r\n") +
           (cookie.empty() ? "" : "Cookie: kettle-gate=" + cookie + "\r\n") + "\r\n";
  }

  /// A page's socket in a coroutine of the test.
  Task<std::shared_ptr<WebSocket>> page(std::string path, std::string cookie) {
    StreamPtr stream = co_await connect();
    const std::string text = upgradeText(path, cookie, "same");
    co_await stream->write(viewOf(text));
    std::string head;
    while (!head.ends_with("\r\n\r\n")) {
      Byte one[1];
      co_await stream->readSome(one);
      head += static_cast<char>(one[0]);
    }
    if (!head.starts_with("HTTP/1.1 101")) throw Error(ErrorKind::ProtocolBroken, head);
    const Executor here = co_await asio::this_coro::executor;
    co_return std::make_shared<WebSocket>(here, std::move(stream), WebSocket::Side::Client,
                                          std::size_t{1} << 22);
  }
  /// Reads until a message has the words; its text.
  static Task<std::string> until(std::shared_ptr<WebSocket> socket, std::string words) {
    std::string text;
    const auto read = [&]() -> Task<void> {
      while (text.find(words) == std::string::npos) {
        const WebSocketMessage m = co_await socket->receive();
        text = kw::textOf(m.bytes);
      }
    };
    co_await within(std::chrono::seconds(10), words, read());
    co_return text;
  }

  TemporaryFolder folder;
  Runtime runtime{2};
  std::unique_ptr<lab::Console> console;
  OpeningTools tools;
  Id way = 0, otherWay = 0;
  std::unique_ptr<Gate> gate;
};

}  // namespace

TEST_CASE("Accounts: right and wrong passwords, roles, one-time codes that count once", "[gate]") {
  TemporaryFolder folder;
  GateStore store(folder.path);
  store.addAccount("duty", "duty-at-the-gate", Role::Drive);
  const Seconds now = nowSeconds();
  CHECK(store.mayIn("duty", "duty-at-the-gate", "", now));
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gat", "", now));
  CHECK_FALSE(store.mayIn("nobody", "duty-at-the-gate", "", now));
  CHECK_THROWS_AS(store.addAccount("duty", "another-password", Role::Look), Error);
  CHECK_THROWS_AS(store.addAccount("short", "seven77", Role::Look), Error);
  store.startCodes("duty");
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", "", now));
  const std::string token = store.signIn("duty", now + 60);
  CHECK(store.person(token, now)->role == Role::Drive);
  store.setRole("duty", Role::Look);
  CHECK(store.person(token, now)->role == Role::Look);  // at once
  CHECK_FALSE(store.person(token, now + 61).has_value());
  store.setOff("duty", true);
  CHECK_FALSE(store.person(token, now).has_value());
  store.setOff("duty", false);
  store.setPassword("duty", "a-new-password");
  CHECK_FALSE(store.person(token, now).has_value());  // signed in with the old one
}

TEST_CASE("One-time codes are RFC 6238's, and none counts twice", "[gate]") {
  // RFC 6238 appendix B, SHA-1, the last six of eight digits.
  const std::string secret = "12345678901234567890";
  CHECK(timeCode(secret, 59) == "287082");
  CHECK(timeCode(secret, 1111111109) == "081804");
  CHECK(timeCode(secret, 20000000000) == "353130");
  CHECK(base32("Hello!") == "JBSWY3DPEE");
  TemporaryFolder folder;
  GateStore store(folder.path);
  store.addAccount("duty", "duty-at-the-gate", Role::Drive);
  const std::string shown = store.startCodes("duty");
  CHECK(shown.size() == 32);
  std::string raw;
  std::uint32_t held = 0;
  int bits = 0;
  for (const char c : shown) {
    held = held << 5 | static_cast<std::uint32_t>(c >= 'A' ? c - 'A' : c - '2' + 26);
    if ((bits += 5) >= 8) raw += static_cast<char>(held >> (bits -= 8) & 0xff);
  }
  const Seconds now = nowSeconds();
  const std::string code = timeCode(raw, now);
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", code == "000000" ? "000001" : "000000", now));
  CHECK(store.mayIn("duty", "duty-at-the-gate", code, now));
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", code, now));
  CHECK(store.mayIn("duty", "duty-at-the-gate", timeCode(raw, now + 30), now + 30));
}

TEST_CASE("Passes: until, uses, ended; only the hash is kept", "[gate]") {
  TemporaryFolder folder;
  GateStore store(folder.path);
  Pass p = passFor(7, 3600, 2);
  const std::string token = store.makePass(p);
  CHECK(token.size() == 43);
  const Seconds now = nowSeconds();
  REQUIRE(store.passOf(token).has_value());
  CHECK_FALSE(store.passOf(token.substr(0, 42) + (token.back() == 'A' ? 'B' : 'A')).has_value());
  CHECK(store.usePass(p.id, now));
  CHECK(store.usePass(p.id, now));
  CHECK_FALSE(store.usePass(p.id, now));
  CHECK(problemWith(*store.pass(p.id), now + 3600) == "expired");
  CHECK(problemWith(*store.pass(p.id), p.from - 1) == "not yet");
  const std::string cookie = store.signInByPass(p.id, p.until);
  CHECK(store.person(cookie, now)->onlyWay == 7);
  CHECK(store.person(cookie, now)->role == Role::Look);
  store.endPass(p.id);
  CHECK_FALSE(store.person(cookie, now).has_value());
  const std::string kept =
      textOf(readFile(folder.path / "gate.sqlite")) + textOf(readFile(folder.path / "gate.sqlite-wal"));
  CHECK(kept.find(token) == std::string::npos);
  CHECK(kept.find(cookie) == std::string::npos);
}

TEST_CASE("The audit's chain shows a changed and a removed line", "[gate]") {
  TemporaryFolder folder;
  {
    GateStore store(folder.path);
    for (int i = 0; i < 5; ++i) store.audit("duty", "127.0.0.1", "does " + std::to_string(i));
    CHECK(store.verifyAudit().entries == 5);
    CHECK(store.verifyAudit().wrongAt == 0);
    CHECK(store.auditEntries(3, 10).size() == 2);
  }
  const auto damage = [&](const std::string& sql) {
    SQLite::Database((folder.path / "gate.sqlite").string(), SQLite::OPEN_READWRITE).exec(sql);
    return GateStore(folder.path).verifyAudit().wrongAt;
  };
  SECTION("changed") { CHECK(damage("UPDATE audit SET entry = replace(entry, 'does 2', 'does 9')") == 3); }
  SECTION("removed") { CHECK(damage("DELETE FROM audit WHERE id = 2") == 2); }
}

TEST_CASE("Wrong sign-ins wait longer and longer; right ones clear it", "[gate]") {
  Limiter limiter;
  for (int i = 0; i < 3; ++i) limiter.wrong("n duty", 100);
  CHECK(limiter.waits("n duty", 100) == 0);
  limiter.wrong("n duty", 100);
  const Seconds first = limiter.waits("n duty", 100);
  CHECK(first >= 1);
  limiter.wrong("n duty", 100 + first);
  CHECK(limiter.waits("n duty", 100 + first) > first);
  for (int i = 0; i < 30; ++i) limiter.wrong("n duty", 200);
  CHECK(limiter.waits("n duty", 200) <= Limiter::kLongest);
  CHECK(limiter.waits("n seed desk", 200) == 0);
  limiter.right("n duty");
  CHECK(limiter.waits("n duty", 200) == 0);
}

TEST_CASE("WebSocket: RFC 6455's own example, messages of every length, pieces, pings, and nonsense",
          "[gate][wire]") {
  CHECK(webSocketAccept("dGhlIHNhbXBsZSBub25jZQ==") == "s3pPLMBiTxaQ9kYGzzhZRbK+xOo=");
  const auto received = [](const Bytes& bytes, std::size_t atOnce) {
    std::string out;
    runToEnd([&]() -> Task<void> {
      WebSocket socket(co_await asio::this_coro::executor, replayStream(bytes, atOnce),
                       WebSocket::Side::Server, 100000);
      try {
        for (;;) {
          const WebSocketMessage m = co_await socket.receive();
          out += (m.text ? "t:" : "b:") + kw::textOf(m.bytes) + ";";
        }
      } catch (const Error& e) {
        out += e.kind() == ErrorKind::ProtocolBroken ? "broken" : "end";
      }
    });
    return out;
  };
  const auto hexBytes = [](const std::string& text) {
    Bytes out;
    for (std::size_t i = 0; i + 1 < text.size(); i += 2)
      out.push_back(static_cast<Byte>(std::stoi(text.substr(i, 2), nullptr, 16)));
    return out;
  };
  for (const std::size_t atOnce : {std::size_t{1}, std::size_t{1000}}) {
    CHECK(received(hexBytes("818537fa213d7f9f4d5158"), atOnce) == "t:Hello;end");  // section 5.7, masked
    // "Hel" + ping + "lo"
    CHECK(received(hexBytes("018300000000"
                            "48656c"
                            "898000000000"
                            "808200000000"
                            "6c6f"),
                   atOnce) == "t:Hello;end");
    CHECK(received(hexBytes("810548656c6c6f"), atOnce) == "broken");  // a client must mask
    CHECK(received(hexBytes("c18500000000"
                            "48656c6c6f"),
                   atOnce) == "broken");                                            // a reserved bit
    CHECK(received(hexBytes("808000000000"), atOnce) == "broken");                  // goes on with nothing
    CHECK(received(hexBytes("89fe007e00000000"), atOnce) == "broken");              // a long ping
    CHECK(received(hexBytes("82ffffffffffffffffff00000000"), atOnce) == "broken");  // too long
    CHECK(received(hexBytes("888000000000"), atOnce) == "end");
  }
  runToEnd([]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto ends = memoryPair(here);
    WebSocket client(here, std::move(ends.first), WebSocket::Side::Client, 1 << 20),
        server(here, std::move(ends.second), WebSocket::Side::Server, 1 << 20);
    for (const std::size_t size : {std::size_t{0}, std::size_t{125}, std::size_t{126}, std::size_t{65535},
                                   std::size_t{65536}, std::size_t{300000}}) {
      const Bytes sent(size, Byte{0x5a});
      co_await client.sendBinary(sent);
      const WebSocketMessage there = co_await server.receive();
      co_await server.sendBinary(there.bytes);
      const WebSocketMessage back = co_await client.receive();
      CHECK(back.bytes == sent);
    }
  });
}

TEST_CASE("Requests are read whole or byte by byte; what is no HTTP, or too large, is refused", "[gate]") {
  const auto read = [](const std::string& text, std::size_t atOnce) {
    std::string out;
    runToEnd([&]() -> Task<void> {
      const StreamPtr stream = replayStream(Bytes(text.begin(), text.end()), atOnce);
      RequestReader reader(*stream);
      try {
        for (;;) {
          const Request r = co_await reader.next();
          out += r.method + " " + r.path + " " + r.body + " " + r.cookie("a") + ";";
        }
      } catch (const Error& e) {
        out += e.kind() == ErrorKind::ProtocolBroken ? "broken" : "end";
      }
    });
    return out;
  };
  for (const std::size_t atOnce : {std::size_t{1}, std::size_t{7}, std::size_t{100000}}) {
    CHECK(read("GET /x%20y?a=1 HTTP/1.1\r\nHost: g\r\nCookie: b=2; a=3\r\n\r\nPOST /p HTTP/1.1\r\nHost: "
               "g\r\nContent-Length: 5\r\n\r\nhello",
               atOnce) == "GET /x y  3;POST /p hello ;end");
    CHECK(read("hello there\r\n\r\n", atOnce) == "broken");
    CHECK(read("GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n", atOnce) == "broken");
    CHECK(read("POST / HTTP/1.1\r\nHost: g\r\nContent-Length: 70000\r\n\r\n", atOnce) == "broken");
    CHECK(read("GET / HTTP/1.1\r\nHost: " + std::string(20000, 'h') + "\r\n\r\n", atOnce) == "broken");
  }
}

TEST_CASE("Nothing opens without a sign-in: every path and socket", "[gate]") {
  GateBench b;
  for (const char* path : {"/", "/app.js", "/style.css", "/picture.js", "/keys.js", "/icon.svg", "/health"})
    CHECK(b.get(path).starts_with("HTTP/1.1 200"));
  CHECK(b.get("/me").starts_with("HTTP/1.1 401"));
  for (const char* path : {"/records", "/../gate.sqlite", "/%2e%2e/gate.sqlite", "/certificate.pem",
                           "/index.html%00", "/live", "/visit"}) {
    INFO(path);
    CHECK(b.get(path).starts_with("HTTP/1.1 404"));
  }
  CHECK(b.raw("PUT / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").starts_with("HTTP/1.1 405"));
  const std::string w = std::to_string(b.way);
  for (const std::string& path :
       {std::string("/live"), "/visit?way=" + w, "/picture?way=" + w + "&visit=1"}) {
    INFO(path);
    CHECK(b.upgrade(path, "") == 401);
    CHECK(b.upgrade(path, std::string(43, 'A')) == 401);  // forged
  }
  const std::string page = b.get("/");
  CHECK(page.find("Content-Security-Policy: default-src 'none'") != std::string::npos);
  CHECK(page.find("frame-ancestors 'none'") != std::string::npos);
  CHECK(pageBytes() < 150'000);
}

TEST_CASE("Signing in: the cookie is safe, other sites cannot ask, brute force is slowed, signed out is out",
          "[gate]") {
  GateBench b;
  const std::string right = R"({"name":"duty","password":"duty-at-the-gate"})";
  CHECK(b.post("/sign-in", right, "").starts_with("HTTP/1.1 403"));
  CHECK(b.post("/sign-in", right, "https://elsewhere.example").starts_with("HTTP/1.1 403"));
  const std::string answer = b.post("/sign-in", right);
  REQUIRE(answer.starts_with("HTTP/1.1 200"));
  for (const char* word : {"HttpOnly", "Secure", "SameSite=Strict"})
    CHECK(answer.find(word) != std::string::npos);
  const std::string cookie = GateBench::cookieOf(answer);
  CHECK(b.get("/me", cookie).find("\"keeper\"") != std::string::npos);
  CHECK(b.upgrade("/live", cookie, "https://elsewhere.example") == 403);
  CHECK(b.upgrade("/live", cookie, "") == 403);
  CHECK(b.upgrade("/live", cookie) == 101);
  CHECK(b.upgrade("/nothing", cookie) == 404);
  CHECK(b.post("/sign-out", "{}", "same", cookie).starts_with("HTTP/1.1 200"));
  CHECK(b.get("/me", cookie).starts_with("HTTP/1.1 401"));  // replayed
  CHECK(b.post("/sign-in", "[1]").starts_with("HTTP/1.1 400"));
  for (int i = 0; i < 4; ++i)
    CHECK(b.post("/sign-in", R"({"name":"seed desk","password":"guess"})").starts_with("HTTP/1.1 401"));
  CHECK(
      b.post("/sign-in", R"({"name":"seed desk","password":"seed-desk-looks"})").starts_with("HTTP/1.1 429"));
}

TEST_CASE(
    "Two visitors of one machine: one drives, asks and gives; a keeper ends; a role taken away counts at "
    "once",
    "[gate]") {
  GateBench b;
  b.gate->store().addAccount("night volunteer", "volunteers-drive", Role::Drive);
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    night = b.signIn("night volunteer", "volunteers-drive");
  runToEnd([&]() -> Task<void> {
    const std::string path = "/visit?way=" + std::to_string(b.way);
    const auto first = co_await b.page(path, duty);
    co_await GateBench::until(first, "\"stage\":\"live\"");
    const auto second = co_await b.page(path, night);
    std::string people = co_await GateBench::until(second, "\"people\"");
    CHECK(people.find("\"drives\":true") < people.find("night volunteer"));
    co_await second->sendText("{\"askHand\":true}");
    const std::string asked = co_await GateBench::until(first, "handAsked");
    CHECK(asked.find("night volunteer") != std::string::npos);
    const std::string number =
        asked.substr(asked.find("\"visit\":") + 8,
                     asked.find_first_of(",}", asked.find("\"visit\":")) - asked.find("\"visit\":") - 8);
    co_await first->sendText("{\"giveHand\":" + number + "}");
    people = co_await GateBench::until(second, "\"drives\":true");
    // Taken away while connected: the hand goes back.
    b.gate->store().setRole("night volunteer", Role::Look);
    co_await GateBench::until(second, "this account only looks");
    const auto live = co_await b.page("/live", duty);
    co_await GateBench::until(live, "mist-bench");
    // A keeper writes to a visitor; who is none does not.
    const std::string to = "\"way\":" + std::to_string(b.way) + ",\"visit\":" + number;
    const auto others = co_await b.page("/live", night);
    co_await GateBench::until(others, "mist-bench");
    co_await others->sendText("{\"write\":{" + to + ",\"text\":\"not from a keeper\"}}");
    co_await others->sendText("{\"ping\":77}");
    co_await GateBench::until(others, "\"pong\":77");
    co_await live->sendText("{\"write\":{" + to + ",\"text\":\"the valve is being turned\"}}");
    const std::string written = co_await GateBench::until(second, "\"written\"");
    CHECK(written.find("the valve is being turned") != std::string::npos);
    CHECK(written.find("duty") != std::string::npos);
    co_await live->sendText("{\"endVisit\":{\"way\":" + std::to_string(b.way) + ",\"visit\":" + number +
                            "}}");
    co_await GateBench::until(second, "ended by duty");
    // Somebody else's machine, other numbers, and a way that is not there.
    const auto none = co_await b.page("/visit?way=999", duty);
    std::string why;
    try {
      co_await GateBench::until(none, "\"visit\"");
    } catch (const Error& e) {
      why = e.what();
    }
    CHECK(why.find("not yours") != std::string::npos);
  });
  bool counted = false, wrote = false;
  for (const nlohmann::json& told : b.gate->store().auditEntries(0, 100)) {
    if (told.value("what", "") == "visit ends" && told.value("who", "") == "night volunteer")
      counted = told.value("sent", 0) > 100 && told.contains("taken");
    if (told.value("what", "") == "writes to a visitor") {
      CHECK_FALSE(wrote);
      wrote = told.value("text", "") == "the valve is being turned";
    }
  }
  CHECK(counted);
  CHECK(wrote);
  CHECK(b.gate->store().verifyAudit().wrongAt == 0);
}

TEST_CASE("A pass opens its machine only, cannot type, and stops at once when ended", "[gate]") {
  GateBench b;
  Pass p = passFor(b.way, 3600, 1);
  const std::string token = b.gate->store().makePass(p);
  CHECK(b.post("/pass", "{\"pass\":\"" + std::string(43, 'x') + "\"}").starts_with("HTTP/1.1 401"));
  const std::string answer = b.post("/pass", "{\"pass\":\"" + token + "\"}");
  REQUIRE(answer.starts_with("HTTP/1.1 200"));
  const std::string cookie = GateBench::cookieOf(answer);
  CHECK(b.post("/pass", "{\"pass\":\"" + token + "\"}").find("used up") != std::string::npos);
  CHECK(b.post("/pass", "{\"pass\":\"" + token + "\"}", "same", cookie)
            .starts_with("HTTP/1.1 200"));  // the same browser again
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", cookie);
    const std::string machines = co_await GateBench::until(live, "\"machines\"");
    CHECK(machines.find("mist-bench") != std::string::npos);
    CHECK(machines.find("seed-bank") == std::string::npos);
    const auto other = co_await b.page("/visit?way=" + std::to_string(b.otherWay), cookie);
    std::string why;
    try {
      co_await GateBench::until(other, "\"visit\"");
    } catch (const Error& e) {
      why = e.what();
    }
    CHECK(why.find("not yours") != std::string::npos);
    const auto visit = co_await b.page("/visit?way=" + std::to_string(b.way), cookie);
    const std::string state = co_await GateBench::until(visit, "\"may\"");
    CHECK(state.find("this pass only looks") != std::string::npos);
    co_await GateBench::until(visit, "\"stage\":\"live\"");
    co_await visit->sendText("{\"chord\":\"x\"}");
    co_await visit->sendText("{\"askHand\":true}");
    co_await live->sendText("{\"makePass\":{\"way\":" + std::to_string(b.way) + ",\"hours\":1}}");
    co_await GateBench::until(live, "makes no passes");
    b.gate->store().endPass(p.id);
    co_await GateBench::until(visit, "does not open any more");
  });
}

TEST_CASE("A pass that only looks stands before the machine's own password, unless it carries it", "[gate]") {
  GateBench b("plum42");
  keepSignIn(b.tools, {OwnerKind::WayIn, b.way}, {"", "plum42"});
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  const std::string path = "/visit?way=" + std::to_string(b.way);
  Pass behind = passFor(b.way, 3600);
  const std::string link = b.gate->store().makePass(behind);
  const std::string plain = GateBench::cookieOf(b.post("/pass", "{\"pass\":\"" + link + "\"}"));
  runToEnd([&]() -> Task<void> {
    {
      // duty comes in by the kept password, and leaves; the session waits for duty.
      const auto account = co_await b.page(path, duty);
      co_await GateBench::until(account, "\"stage\":\"live\"");
      const std::string bye = "";
      co_await account->goodbye(1000, bye);
    }
    const auto live = co_await b.page("/live", duty);
    co_await GateBench::until(live, "\"visits\":[]");
    const auto visit = co_await b.page(path, plain);
    co_await GateBench::until(visit, "\"kind\":\"password\"");
    co_await visit->sendText("{\"answer\":{\"accepted\":true,\"password\":\"plum42\"}}");
    co_await GateBench::until(visit, "\"stage\":\"live\"");
    co_await visit->sendText("{\"end\":true}");
  });
  GateBench fresh("plum42");
  keepSignIn(fresh.tools, {OwnerKind::WayIn, fresh.way}, {"", "plum42"});
  Pass p = passFor(fresh.way, 3600);
  p.carriesPassword = true;
  const std::string token = fresh.gate->store().makePass(p);
  const std::string cookie = GateBench::cookieOf(fresh.post("/pass", "{\"pass\":\"" + token + "\"}"));
  runToEnd([&]() -> Task<void> {
    const auto visit = co_await fresh.page("/visit?way=" + std::to_string(fresh.way), cookie);
    co_await GateBench::until(visit, "\"stage\":\"live\"");
  });
}

TEST_CASE("A machine that policy keeps from browsers says so, and does not open", "[gate]") {
  GateBench b;
  Id machine = 0;
  for (const auto& [id, m] : b.tools.store->load().machines)
    if (m.name == "mist-bench") machine = id;
  b.tools.store->commit("policy", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, machine}, "gate.access", "off");
  });
  const std::string cookie = b.signIn("duty", "duty-at-the-gate");
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", cookie);
    co_await GateBench::until(live, "off: set by its group's policy");
    const auto visit = co_await b.page("/visit?way=" + std::to_string(b.way), cookie);
    std::string why;
    try {
      co_await GateBench::until(visit, "\"visit\"");
    } catch (const Error& e) {
      why = e.what();
    }
    CHECK(why.find("policy") != std::string::npos);
  });
}

TEST_CASE("A page that says too much, or nonsense, is sent away; the others go on", "[gate]") {
  GateBench b;
  const std::string cookie = b.signIn("duty", "duty-at-the-gate");
  const std::string path = "/visit?way=" + std::to_string(b.way);
  runToEnd([&]() -> Task<void> {
    const auto good = co_await b.page(path, cookie);
    co_await GateBench::until(good, "\"stage\":\"live\"");
    for (const std::string& said :
         {std::string(3 << 20, 'x'), std::string("no JSON"), std::string("[1,2]")}) {
      const auto bad = co_await b.page(path, cookie);
      co_await GateBench::until(bad, "\"visit\"");
      bool ended = false;
      try {
        co_await bad->sendText(said);
        co_await GateBench::until(bad, "never said");
      } catch (const Error& e) {
        ended = e.kind() == ErrorKind::ClosedByPeer || e.kind() == ErrorKind::Cancelled;
      }
      CHECK(ended);
    }
    // Unknown words and wrong kinds of them are passed over.
    co_await good->sendText(
        R"({"chord":7,"resize":["a",-1],"giveHand":"x","above":[1],"answer":{},"type":{}})");
    co_await good->sendText("{\"ping\":42}");
    co_await GateBench::until(good, "\"pong\":42");
  });
}

TEST_CASE("Machines are switched from a browser where policy allows it, by who may drive", "[gate][lab]") {
  GateBench b;
  Hosted hosted(*b.tools.store, b.folder.path, "mist-bench", *b.console);
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    looks = b.signIn("seed desk", "seed-desk-looks");
  const auto wish = [&](const std::string& act) {
    return "{\"power\":{\"machine\":" + std::to_string(hosted.machine) + ",\"act\":\"" + act + "\"}}";
  };
  runToEnd([&]() -> Task<void> {
    const auto page = co_await b.page("/live", duty);
    co_await page->sendText(wish("shutdown"));
    co_await GateBench::until(page, "not allowed here");
    hosted.allow(true);
    // A command that nobody agreed to at the gateway is not run for somebody's record.
    std::string refused;
    while (refused.find("no host is known") == std::string::npos) {  // until the policy counts
      co_await page->sendText(wish("shutdown"));
      refused = co_await GateBench::until(page, "\"error\"");
    }
    agreeTo(hosted.command);
    co_await GateBench::until(page, "\"power\":{\"acts\":[\"shutdown\"");
    const auto other = co_await b.page("/live", looks);
    const std::string list = co_await GateBench::until(other, "\"machines\"");
    CHECK(list.find("\"power\"") == std::string::npos);
    co_await other->sendText(wish("off"));
    co_await GateBench::until(other, "not allowed here");
    co_await page->sendText(wish("start"));
    co_await GateBench::until(page, "cannot be done while it is running");
    co_await page->sendText(wish("shutdown"));
    co_await GateBench::until(page, "\"acts\":[\"start\"]");
    co_await page->sendText(wish("start"));
    co_await GateBench::until(page, "\"acts\":[\"shutdown\"");
    hosted.allow(false);
    const std::string after = co_await GateBench::until(page, "\"machines\"");
    CHECK(after.find("\"power\"") == std::string::npos);
  });
  const auto said = b.gate->store().newestAudit("asks to", 10);
  REQUIRE(said.size() == 4);  // refused ones of those who may not are not orders
  CHECK(said[0].at("what") == "asks to start");
  CHECK(said[1].at("what") == "asks to shutdown");
  CHECK(said[1].at("machine") == "mist-bench");
  b.gate->stop();
}

TEST_CASE("Clients that are slow, or never finish, are hung up on; others are served meanwhile", "[gate]") {
  GateLimits limits;
  limits.handshake = std::chrono::milliseconds(300), limits.request = std::chrono::milliseconds(400);
  limits.silence = std::chrono::milliseconds(500);
  GateBench b("", limits);
  const std::string cookie = b.signIn("duty", "duty-at-the-gate");
  /// True when the gateway closes the stream while it is read.
  const auto isClosed = [](ByteStream& stream) -> Task<bool> {
    bool closed = false;
    const auto read = [&]() -> Task<void> {
      Byte part[256];
      try {
        for (;;) co_await stream.readSome(part);
      } catch (const Error&) {
        closed = true;
      }
    };
    co_await within(std::chrono::seconds(10), "to be hung up on", read());
    co_return closed;
  };
  runToEnd([&]() -> Task<void> {
    // One that connects and says nothing at all.
    const StreamPtr silent = co_await connectTcp("127.0.0.1", b.gate->port(), std::chrono::seconds(5));
    const bool first = co_await isClosed(*silent);
    CHECK(first);
    // One that says half a request, a byte at a time, for as long as it is let.
    const StreamPtr slow = co_await b.connect();
    const auto start = std::chrono::steady_clock::now();
    bool ended = false;
    try {
      for (int i = 0; i < 500; ++i) {
        co_await slow->write(viewOf(i == 0 ? "GET / HTTP/1.1\r\nX: " : "x"));
        co_await systemClock()->sleep(std::chrono::milliseconds(20));
      }
    } catch (const Error&) {
      ended = true;
    }
    CHECK(ended);
    CHECK(std::chrono::steady_clock::now() - start < std::chrono::seconds(5));
    // A page that opened and fell silent; one that goes on saying that it is there stays.
    const auto quiet = co_await b.page("/live", cookie);
    const auto lively = co_await b.page("/live", cookie);
    bool gone = false;
    for (int i = 0; i < 200 && !gone; ++i) {
      co_await lively->sendText("{\"ping\":1}");
      co_await GateBench::until(lively, "\"pong\"");
      try {
        const auto some = [&]() -> Task<void> { co_await quiet->receive(); };
        co_await within(std::chrono::milliseconds(50), "more", some());
      } catch (const Error& e) {
        gone = e.kind() != ErrorKind::TimedOut;
      }
    }
    CHECK(gone);
    co_await lively->sendText("{\"ping\":42}");
    co_await GateBench::until(lively, "\"pong\":42");
  });
  CHECK(b.get("/").starts_with("HTTP/1.1 200"));
}

TEST_CASE("A page that does not read what it is told is given up, instead of piling it up", "[gate]") {
  runToEnd([]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto [ours, theirs] = memoryPair(here, 1024);
    const auto socket =
        std::make_shared<WebSocket>(here, std::move(ours), WebSocket::Side::Server, std::size_t{1} << 20);
    const auto out = std::make_shared<Outbox>(here, socket);
    bool over = false;
    spawn(
        here, [out] { return out->run(); }, [&](std::exception_ptr) { over = true; });
    const std::string text(std::size_t{1} << 20, 'x');
    for (int i = 0; i < 20; ++i) out->put(text);
    for (int i = 0; i < 500 && !over; ++i) co_await systemClock()->sleep(std::chrono::milliseconds(10));
    CHECK(over);
  });
}

TEST_CASE("Rows of a terminal for a browser: only what changed, with its looks", "[gate]") {
  text::Terminal terminal(3, 20);
  RowsShown shown;
  const std::string words = "plain \x1b[31mred\x1b[0m\r\nnext";
  terminal.feed(viewOf(words));
  const nlohmann::json first = changedRows(terminal, shown);
  CHECK(first["lines"]["0"][0][0] == "plain ");
  CHECK(first["lines"]["0"][1] == nlohmann::json::array({"red", 1, nullptr, 0}));
  CHECK(first["cursor"] == nlohmann::json::array({1, 4}));
  CHECK(changedRows(terminal, shown).is_null());
  terminal.feed(viewOf("!"));
  const nlohmann::json second = changedRows(terminal, shown);
  CHECK(second["lines"].size() == 1);
  CHECK(second["lines"].contains("1"));
  CHECK(textKeyNamed("F12") == static_cast<text::TextKey>(static_cast<int>(text::TextKey::F1) + 11));
  CHECK_FALSE(textKeyNamed("F13").has_value());
  CHECK_FALSE(textKeyNamed("a").has_value());
}
