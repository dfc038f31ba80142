// What listens inside a machine: its tables, what they mean for a way in, and an agent that says what it must
// not.
#include "base/run_on.hpp"
#include "host/guest_agent.hpp"
#include "host/line_reader.hpp"
#include "host/why_inside.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::host;

namespace {

constexpr const char* kTables =
    "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
    "   0: 0100007F:0D3D 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 1 1 0 100 0 "
    "0 10 0\n"
    "   1: 00000000:0016 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 2 1 0 100 0 "
    "0 10 0\n"
    "   2: 0F02000A:0016 0202000A:C350 01 00000000:00000000 00:00000000 00000000     0        0 3 1 0 100 0 "
    "0 10 0\n"
    "  sl  local_address                         remote_address                        st\n"
    "   0: 00000000000000000000000001000000:170D 00000000000000000000000000000000:0000 0A 0\n"
    "   1: 0000000000000000FFFF00000100007F:170E 00000000000000000000000000000000:0000 0A 0\n"
    "   2: 00000000000000000000000000000000:0050 00000000000000000000000000000000:0000 0A 0\n"
    "nonsense: :: 0A\n   7: 123:99 0:0 0A\n   8: 0100007Z:0D3D 0:0 0A\n";

std::vector<Finding> judged(const std::string& address, const std::string& tunnel = "") {
  std::vector<Finding> out;
  judgeListeners(listenersFrom(kTables), parseAddress(address), "inside", tunnel, out);
  return out;
}

/// What the agent's side makes of it when `said` is answered; {} where it is asked no more.
Error failureOf(const std::string& said) {
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  std::optional<Error> failure;
  runToEnd([&]() -> Task<void> {
    try {
      AgentSocket agent(replayStream(Bytes(said.begin(), said.end())));
      co_await agent.begin();
      const AgentCall call = [&agent](std::string command, nlohmann::json arguments) {
        return agent.call(std::move(command), std::move(arguments));
      };
      co_await readFileByAgent(call, "/proc/net/tcp");
    } catch (const Error& e) {
      failure = e;
    }
  });
  return failure.value_or(Error(ErrorKind::Cancelled, "no failure"));
}

/// An agent that is there, and says this to the first thing it is asked.
Error refusalOf(const std::string& said) {
  std::optional<Error> failure;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(here);
    const auto far = std::make_shared<StreamPtr>(std::move(b));
    spawn(here, [far, said]() -> Task<void> {
      LineReader lines(**far);
      std::string ask = co_await lines.next();
      ask.erase(0, 1);  // the sentinel
      const auto mark = nlohmann::json::parse(ask).at("arguments").at("id");
      const std::string synced = "\xff" + nlohmann::json{{"return", mark}}.dump() + "\n";
      co_await (*far)->write(viewOf(synced));
      co_await lines.next();
      const std::string answer = said + "\n";
      co_await (*far)->write(viewOf(answer));
    });
    AgentSocket agent(std::move(a));
    co_await agent.begin();
    const nlohmann::json none = nlohmann::json::object();
    try {
      co_await agent.call("guest-file-open", none);
    } catch (const Error& e) {
      failure = e;
    }
  });
  return failure.value_or(Error(ErrorKind::Cancelled, "no failure"));
}

}  // namespace

TEST_CASE("Tables of what listens: both kinds of address, only what listens, nonsense passed over",
          "[host][why]") {
  const auto all = listenersFrom(kTables);
  CHECK(all ==
        std::vector<OpenPort>{
            {"127.0.0.1", 3389}, {"0.0.0.0", 22}, {"::1", 5901}, {"::ffff:127.0.0.1", 5902}, {"::", 80}});
  CHECK(all[0].onlyInside());
  CHECK_FALSE(all[1].onlyInside());
  CHECK(all[2].onlyInside());
  CHECK(all[3].onlyInside());
  CHECK_FALSE(all[4].onlyInside());
  CHECK(listenersFrom("").empty());
}

TEST_CASE("What listens inside, judged: loopback only, nothing, the usual port, ready", "[host][why]") {
  const auto loopback = judged("rdp://10.0.2.15", "mist-bench");
  REQUIRE(loopback.size() == 1);
  CHECK(loopback[0].code == "inside-loopback");
  CHECK(loopback[0].weight == Weight::Trouble);
  CHECK(loopback[0].change == tunnelChange("127.0.0.1", "mist-bench"));
  CHECK(loopback[0].cure.find("tunnel") != std::string::npos);
  CHECK(judged("rdp://10.0.2.15").at(0).cure.find("tunnel") == std::string::npos);
  CHECK(judged("rdp://10.0.2.15").at(0).change.empty());
  CHECK(judged("vnc://10.0.2.15:5901", "mist-bench").at(0).change == tunnelChange("::1", "mist-bench"));
  CHECK(judged("vnc://10.0.2.15:5902", "mist-bench").at(0).change == tunnelChange("127.0.0.1", "mist-bench"));
  CHECK(judged("vnc://10.0.2.15:5910").at(0).code == "inside-nothing");
  const auto other = judged("rdp://10.0.2.15:3390");
  CHECK(other.at(0).code == "inside-other-port");
  CHECK(other.at(0).change == "port:3389");
  CHECK(judged("ssh://duty@10.0.2.15").at(0).code == "inside-listens");
}

TEST_CASE("A tunnel into the machine: the address becomes where it listens, in one undo", "[host][why]") {
  TemporaryFolder folder;
  const auto store = openSqliteStore(folder.path / "records.sqlite");
  Endpoint e;
  store->commit("records", [&](StoreWriter& w) {
    Machine m;
    m.name = "mist-bench";
    w.put(m);
    e.machine = m.id, e.label = "desktop", e.address = "rdp://duty@10.0.2.15:3390";
    w.put(e);
  });
  store->commit("tunnel",
                [&](StoreWriter& w) { goThroughTunnel(w, e, tunnelChange("127.0.0.5", "mist-bench")); });
  Snapshot now = store->load();
  CHECK(now.endpoints.at(e.id).address == "rdp://duty@127.0.0.5:3390");
  CHECK(settingsOf(now, {OwnerKind::WayIn, e.id})("route.via") == "mist-bench");
  store->undo();
  now = store->load();
  CHECK(now.endpoints.at(e.id).address == e.address);
  CHECK(settingsOf(now, {OwnerKind::WayIn, e.id})("route.via").empty());
}

TEST_CASE("An agent that refuses, lies, stops or floods ends in a clear error", "[host][hostile]") {
  CHECK(failureOf("").kind() == ErrorKind::ClosedByPeer);
  CHECK(failureOf("{\"return\": 1}\n{\"return\": 2}\n").kind() == ErrorKind::ClosedByPeer);  // other marks
  CHECK(failureOf("not json\n\xff\xff\n").kind() == ErrorKind::ClosedByPeer);
  CHECK(failureOf(std::string(5 << 20, 'x')).kind() == ErrorKind::ProtocolBroken);
  const auto read = [](const nlohmann::json& piece) {
    int asked = 0;
    std::optional<Error> failure;
    std::string text;
    runToEnd([&]() -> Task<void> {
      const AgentCall call = [&](std::string command, nlohmann::json) -> Task<nlohmann::json> {
        ++asked;
        co_return command == "guest-file-read" ? piece : nlohmann::json(7);
      };
      try {
        text = co_await readFileByAgent(call, "/proc/net/tcp");
      } catch (const Error& e) {
        failure = e;
      }
    });
    return std::tuple(text, failure, asked);
  };
  CHECK(std::get<0>(read({{"buf-b64", "YWJj"}, {"eof", true}})) == "abc");
  // Guests say what they like, of whatever type.
  CHECK(std::get<0>(read({{"buf-b64", ""}, {"eof", "yes"}})).empty());
  for (const char* refusal : {R"({"error":{"desc":7}})", R"({"error":3})", R"({"error":{}})"})
    CHECK(std::string(refusalOf(refusal).detail()).find("refused") != std::string::npos);
  CHECK(std::string(refusalOf(R"({"error":{"desc":"not allowed"}})").detail()).find("not allowed") !=
        std::string::npos);
  CHECK(std::get<1>(read({{"count", 3}}))->kind() == ErrorKind::ProtocolBroken);
  CHECK(std::get<1>(read({{"buf-b64", "***"}}))->kind() == ErrorKind::ProtocolBroken);
  const std::string whole(64 << 10, 'A');  // 48 KiB of zeros, without end
  const auto [text, failure, asked] = read({{"buf-b64", whole}, {"eof", false}});
  CHECK_FALSE(failure.has_value());
  CHECK(text.size() < (2U << 20));
  CHECK(asked < 40);
  const AgentCall addresses = [](std::string, nlohmann::json) -> Task<nlohmann::json> {
    co_return nlohmann::json::parse(
        R"([{"name":"lo","ip-addresses":[{"ip-address":"127.0.0.1"},{"ip-address":7}]},
      5, {"name":"eth0","ip-addresses":[{"ip-address":"192.0.2.15"},{"ip-address":"fe80::1"}]}, {"ip-addresses":3}])");
  };
  std::vector<std::string> found;
  runToEnd([&]() -> Task<void> { found = co_await addressesByAgent(addresses); });
  CHECK(found == std::vector<std::string>{"192.0.2.15"});
}
