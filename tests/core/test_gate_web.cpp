// The gateway's HTTP and WebSockets: nothing opens without a sign-in, whatever comes over the line.
#include "gate/http.hpp"
#include "gate/outbox.hpp"
#include "gate/text_rows.hpp"
#include "tests/core/gate_bench.hpp"

using namespace kw;
using namespace kw::test;

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
  for (const char* path : {"/", "/app.js", "/style.css", "/picture.js", "/keys.js", "/visit.js", "/screen.js",
                           "/icon.svg", "/health"})
    CHECK(b.get(path).starts_with("HTTP/1.1 200"));
  CHECK(b.get("/me").starts_with("HTTP/1.1 401"));
  for (const char* path : {"/recordings/x.kwr", "/../gate.sqlite", "/%2e%2e/gate.sqlite", "/certificate.pem",
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
