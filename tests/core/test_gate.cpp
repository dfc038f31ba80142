// Visits through the gateway, without a browser: who may what, passes, policy, power.
#include <SQLiteCpp/SQLiteCpp.h>

#include "codec/jpeg.hpp"
#include "tests/core/gate_bench.hpp"

using namespace kw;
using namespace kw::test;

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
    // Who comes later is told how things stand, the screens too.
    co_await GateBench::until(second, "\"screens\":[[0,0,");
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
    co_await GateBench::until(live, "gateway is off (from the machine");
    const auto visit = co_await b.page("/visit?way=" + std::to_string(b.way), cookie);
    std::string why;
    try {
      co_await GateBench::until(visit, "\"visit\"");
    } catch (const Error& e) {
      why = e.what();
    }
    CHECK(why.find("whoever edits its sheet can change it") != std::string::npos);
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

namespace {

std::string placeOf(Id way, Id visit, const std::string& more = "") {
  return "{\"lookIn\":{\"way\":" + std::to_string(way) + ",\"visit\":" + std::to_string(visit) + more + "}}";
}
nlohmann::json seenIn(const std::string& text) { return nlohmann::json::parse(text).at("seen"); }

}  // namespace

TEST_CASE("A keeper looks in: the picture as it is, nothing while nothing is new, and visitors are told",
          "[gate]") {
  GateBench b;
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    seeds = b.signIn("seed desk", "seed-desk-looks");
  runToEnd([&]() -> Task<void> {
    const std::string path = "/visit?way=" + std::to_string(b.way);
    const auto visitor = co_await b.page(path, seeds);
    co_await GateBench::until(visitor, "\"size\"");
    const auto live = co_await b.page("/live", duty);
    co_await live->sendText(placeOf(b.way, 1));
    nlohmann::json seen;
    while (!seen.contains("jpeg")) {  // the picture's first pixels may still be on their way
      seen = seenIn(co_await GateBench::until(live, "\"seen\""));
      if (!seen.contains("jpeg")) co_await live->sendText(placeOf(b.way, 1));
    }
    CHECK(seen.at("drives") == false);
    const std::string remark = co_await GateBench::until(visitor, "looks in");
    CHECK(remark.find("duty") != std::string::npos);
    CHECK(seen.at("jpeg").get<std::string>().starts_with("/9j/"));  // FF D8 FF
    // Until something is shown, only that nothing was.
    const Id have = seen.at("serial").get<Id>();
    nlohmann::json same;
    for (Id last = have;; last = same.at("serial").get<Id>()) {
      co_await live->sendText(placeOf(b.way, 1, ",\"have\":" + std::to_string(last)));
      same = seenIn(co_await GateBench::until(live, "\"seen\""));
      if (same.at("serial").get<Id>() == last) break;
    }
    CHECK_FALSE(same.contains("jpeg"));
    // Nobody else looks in, and a visit that is over says so.
    const auto other = co_await b.page("/live", seeds);
    co_await other->sendText(placeOf(b.way, 1));
    co_await other->sendText("{\"ping\":5}");
    bool leaked = false;
    const auto answers = [&]() -> Task<void> {
      for (;;) {
        const WebSocketMessage m = co_await other->receive();
        const std::string text = kw::textOf(m.bytes);
        leaked = leaked || text.find("\"seen\"") != std::string::npos;
        if (text.find("\"pong\":5") != std::string::npos) co_return;
      }
    };
    co_await within(std::chrono::seconds(10), "pong", answers());
    CHECK_FALSE(leaked);
    co_await live->sendText(placeOf(b.way, 7));
    const std::string over = co_await GateBench::until(live, "\"over\"");
    CHECK(seenIn(over).at("visit") == 7);
  });
  int audited = 0;
  for (const nlohmann::json& told : b.gate->store().auditEntries(0, 100))
    if (told.value("what", "") == "looks in") {
      ++audited;
      CHECK(told.value("of", "") == "seed desk");
    }
  CHECK(audited == 1);
}

TEST_CASE("A keeper looks in on a line of text: its rows with their colours, and where the cursor is",
          "[gate]") {
  GateBench b;
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  const Id owner = b.tools.store->load().endpoints.at(b.way).machine;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    const auto listener = listenTcp(here, "127.0.0.1", 0);
    StreamPtr machine;
    spawn(here, [&]() -> Task<void> {
      machine = co_await listener->accept();
      const std::string hello = "\x1b[31mfrost\x1b[0m at 04:10\r\nlogin: ";
      co_await machine->write(viewOf(hello));
    });
    Id way = 0;
    b.tools.store->commit("line", [&](StoreWriter& w) {
      Endpoint e;
      e.machine = owner, e.label = "console",
      e.address = "tcp://127.0.0.1:" + std::to_string(listener->port());
      w.put(e);
      way = e.id;
    });
    const auto live = co_await b.page("/live", duty);
    co_await GateBench::until(live, "\"form\":\"text\"");
    const auto visitor = co_await b.page("/visit?way=" + std::to_string(way), duty);
    co_await GateBench::until(visitor, "login");
    co_await live->sendText(placeOf(way, 1));
    const nlohmann::json seen = seenIn(co_await GateBench::until(live, "\"seen\""));
    const nlohmann::json& text = seen.at("text");
    const auto first = text.at("rows").at(0).get<std::string>();
    CHECK(first.starts_with("\x1b["));
    CHECK(first.find("mfrost") != std::string::npos);
    CHECK(text.at("rows").at(1).get<std::string>().find("login:") != std::string::npos);
    CHECK(text.at("cursor") == nlohmann::json::array({1, 7}));
    CHECK(seen.at("drives") == true);
    listener->close();
    if (machine) machine->close();
  });
}

TEST_CASE("Of a crowd at one machine fifty are named, and all are counted", "[gate]") {
  GateBench b;
  const std::string duty = b.signIn("duty", "duty-at-the-gate");
  runToEnd([&]() -> Task<void> {
    const std::string path = "/visit?way=" + std::to_string(b.way);
    std::vector<std::shared_ptr<WebSocket>> crowd;
    for (int i = 0; i < 60; ++i) crowd.push_back(co_await b.page(path, duty));
    const std::string text = co_await GateBench::until(crowd.front(), "\"all\":60");
    const nlohmann::json told = nlohmann::json::parse(text);
    CHECK(told.at("people").size() == 50);
    CHECK(told.at("people").at(0).at("drives") == true);
    crowd.front()->close();
    const std::string later = co_await GateBench::until(crowd.back(), "\"all\":59");
    CHECK(nlohmann::json::parse(later).at("people").at(0).at("drives") == true);
  });
}
