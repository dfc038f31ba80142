// kettle text, expect and import-ssh as a shell sees them.
#include <catch2/catch.hpp>

#include <array>
#include <fstream>

#include "lab/text_service.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

struct Ran {
  int code;
  std::string out;
};

/// Runs kettle with folders of its own; error output is part of `out`.
Ran kettle(const TemporaryFolder& folder, const std::string& arguments) {
  const std::string base = folder.path.string();
  const std::string command = "XDG_DATA_HOME=" + base + " XDG_CONFIG_HOME=" + base +
                              " XDG_STATE_HOME=" + base + " " KW_KETTLE " " + arguments + " 2>&1 </dev/null";
  FILE* pipe = popen(command.c_str(), "r");
  REQUIRE(pipe != nullptr);
  Ran ran{0, {}};
  std::array<char, 4096> part{};
  while (const std::size_t n = fread(part.data(), 1, part.size(), pipe)) ran.out.append(part.data(), n);
  ran.code = WEXITSTATUS(pclose(pipe));
  return ran;
}

struct Lab {
  explicit Lab(lab::TextServicePlan::Kind kind, std::function<std::unique_ptr<lab::Appliance>()> make) {
    lab::TextServicePlan plan;
    plan.kind = kind;
    plan.make = std::move(make);
    service = std::make_unique<lab::TextService>(runtime.strand(), systemClock(), plan);
    service->start();
  }
  [[nodiscard]] std::string at(const std::string& scheme) const {
    return scheme + "://127.0.0.1:" + std::to_string(service->port());
  }
  Runtime runtime{1};
  std::unique_ptr<lab::TextService> service;
};

using Kind = lab::TextServicePlan::Kind;

}  // namespace

TEST_CASE("kettle text sends and expects in order, and keeps a log", "[cli-text]") {
  TemporaryFolder folder;
  Lab lab(Kind::Telnet, [] { return lab::mistBenchLine("duty", "moss-7"); });
  const std::string log = folder.path / "line.log";
  const Ran ran =
      kettle(folder, "text " + lab.at("telnet") +
                         " --expect login: --send 'duty\\r' --expect Password: --send 'moss-7\\r' --expect "
                         "'\\$ ' --send 'valve 2\\r' --expect 'valve 2 open' --timeout 15 --log " +
                         log);
  CHECK(ran.code == 0);
  CHECK(ran.out.find("valve 2 open") != std::string::npos);
  std::ifstream in(log);
  const std::string kept((std::istreambuf_iterator<char>(in)), {});
  CHECK(kept.find("valve 2 open") != std::string::npos);
  CHECK(kept.find("moss-7") == std::string::npos);  // what was typed blind is in no log
}

TEST_CASE("kettle expect answers watch words until its pattern comes", "[cli-text]") {
  TemporaryFolder folder;
  Lab lab(Kind::Telnet, [] { return lab::mistBenchLine("duty", "moss-7"); });
  const Ran ran = kettle(
      folder, "expect " + lab.at("telnet") +
                  " --word 'login: => duty\\r' --word 'Password: => moss-7\\r' --until 'knows' --timeout 15");
  INFO(ran.out);
  CHECK(ran.code == 0);
}

TEST_CASE("kettle text: network serial with the right and the wrong speed", "[cli-text]") {
  TemporaryFolder folder;
  Lab lab(Kind::TerminalServer, [] { return lab::weatherMast(2); });
  CHECK(kettle(folder, "text '" + lab.at("telnet+serial") +
                           "?speed=9600' --expect 'WIND +[0-9.]+ FROM' --timeout 10 --quiet")
            .code == 0);
  CHECK(
      kettle(folder, "text '" + lab.at("telnet+serial") + "?speed=4800' --expect 'WIND' --timeout 2 --quiet")
          .code == 7);
}

TEST_CASE("kettle text: exit codes say what went wrong", "[cli-text]") {
  TemporaryFolder folder;
  CHECK(kettle(folder, "text unix:" + (folder.path / "nothing").string() + " --expect x").code == 3);
  CHECK(kettle(folder, "text serial:/dev/null --expect x").code == 2);
  CHECK(kettle(folder, "text telnet://127.0.0.1:1 --expect x").code == 3);
  CHECK(kettle(folder, "text vnc://127.0.0.1 --expect x").code == 2);
  const Ran broken = kettle(folder, "text unix:/x --expect '(broken'");
  CHECK(broken.code != 0);
  CHECK(kettle(folder, "text").code == 2);
  Lab lab(Kind::Telnet, [] { return lab::irrigationMenu(); });
  const Ran pattern = kettle(folder, "text " + lab.at("telnet") + " --expect '(broken' --timeout 5");
  CHECK(pattern.code == 2);
  CHECK(pattern.out.find("not a pattern") != std::string::npos);
}

TEST_CASE("kettle machines import-ssh makes records with keys and jumps, once", "[cli-text]") {
  TemporaryFolder folder;
  const std::string config = folder.path / "config";
  std::ofstream(config) << "Host gatehouse\n  HostName 192.0.2.1\n  User duty\n  IdentityFile "
                           "/keys/duty\nHost fernery\n  Port 2222\n  ProxyJump gatehouse\n  User duty\n";
  Ran ran = kettle(folder, "machines import-ssh " + config + " --group 'Alder Vale/Hosts'");
  INFO(ran.out);
  CHECK(ran.code == 0);
  CHECK(ran.out.find("2 added") != std::string::npos);
  ran = kettle(folder, "machines show fernery");
  CHECK(ran.out.find("ssh://duty@fernery:2222") != std::string::npos);
  CHECK(ran.out.find("gatehouse (from the machine)") != std::string::npos);
  CHECK(kettle(folder, "machines show gatehouse").out.find("/keys/duty") != std::string::npos);
  CHECK(kettle(folder, "machines import-ssh " + config).out.find("0 added, 2 were there") !=
        std::string::npos);
}
