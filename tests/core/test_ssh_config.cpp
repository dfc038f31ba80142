// The SSH client's configuration file (ssh_config(5)), as far as we read it.
#include <fstream>

#include "ssh/config.hpp"
#include "tests/support.hpp"

using namespace kw;
using test::TemporaryFolder;

namespace {

/// The home folder that ~ stands for, while this lives.
class HomeAt {
 public:
  explicit HomeAt(const std::filesystem::path& folder)
      : before_(std::getenv("HOME") != nullptr ? std::getenv("HOME") : "") {
    setenv("HOME", folder.c_str(), 1);
  }
  ~HomeAt() { setenv("HOME", before_.c_str(), 1); }
  HomeAt(const HomeAt&) = delete;
  HomeAt& operator=(const HomeAt&) = delete;

 private:
  std::string before_;
};

}  // namespace

TEST_CASE("SSH configuration: the first value counts, patterns and tokens are put in", "[ssh-config]") {
  const SshConfig c = SshConfig::parse(
      "# a comment\n"
      "Port 2200\n"
      "Host fernery orchard !orchard\n"
      "  HostName %h.alder-vale.example\n"
      "  Port=22\n"
      "  User duty\n"
      "Host palm-??\n"
      "\tProxyJump gatehouse\n"
      "\tIdentityFile \"/keys/palm house\"\n"
      "\tIdentityFile /keys/%r-at-%h-%p\n"
      "Host *\n"
      "  User everybody\n"
      "  IdentityFile /keys/common\n",
      "/nowhere");
  const SshHostConfig fernery = c.lookup("fernery");
  CHECK(fernery.hostName == "fernery.alder-vale.example");
  CHECK(fernery.port == 2200);  // stands before any Host block, so it was first
  CHECK(fernery.user == "duty");
  CHECK(c.lookup("orchard").user == "everybody");  // excluded by !
  const SshHostConfig palm = c.lookup("palm-07");
  CHECK(palm.proxyJump == "gatehouse");
  REQUIRE(palm.identityFiles.size() == 3);
  CHECK(palm.identityFiles[0] == "/keys/palm house");
  CHECK(palm.identityFiles[1] == "/keys/everybody-at-palm-07-2200");
  CHECK(c.lookup("palm-7").proxyJump.empty());
  CHECK(c.hosts() == std::vector<std::string>{"fernery", "orchard"});
}

TEST_CASE("SSH configuration: patterns", "[ssh-config]") {
  CHECK(matchesPatterns("fernery", {"*"}));
  CHECK(matchesPatterns("fernery", {"fern*"}));
  CHECK(matchesPatterns("fernery", {"?ernery"}));
  CHECK_FALSE(matchesPatterns("fernery", {"?fernery"}));
  CHECK_FALSE(matchesPatterns("fernery", {}));
  CHECK_FALSE(matchesPatterns("fernery", {"!fernery"}));
  CHECK_FALSE(matchesPatterns("fernery", {"*", "!fern*"}));
  CHECK(matchesPatterns("fernery", {"!orchard", "f*y"}));
  CHECK(matchesPatterns("aaaaaaaaaaaaaaaaaaaaaaaab", {"*a*a*a*a*a*a*a*b"}));
  CHECK_FALSE(
      matchesPatterns("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaac", {"*a*a*a*a*a*a*a*a*a*a*b"}));  // and at once
}

TEST_CASE("SSH configuration: included files, and one that includes itself", "[ssh-config]") {
  TemporaryFolder folder;
  const auto write = [&](const std::string& name, const std::string& text) {
    std::ofstream(folder.path / name) << text;
  };
  write("config", "Include one.conf missing.conf\nHost last\n  Port 3\n");
  write("one.conf", "Host first\n  Port 1\n");
  const SshConfig c = SshConfig::load(folder.path / "config");
  CHECK(c.hosts() == std::vector<std::string>{"first", "last"});
  CHECK(c.lookup("first").port == 1);
  CHECK(c.lookup("last").port == 3);
  write("loop", "Include loop\n");
  CHECK_THROWS_WITH(SshConfig::load(folder.path / "loop"), Catch::Contains("without end"));
  CHECK(SshConfig::load(folder.path / "nothing").hosts().empty());
}

TEST_CASE("SSH configuration: a whole file as people write it, with ~ and a line that is wrong",
          "[ssh-config]") {
  TemporaryFolder folder;
  std::ofstream(folder.path / "more") << "Host fernery\n  User seed-desk\n";
  const HomeAt home(folder.path);
  const SshConfig config = SshConfig::parse(
      "# the garden\nHost gatehouse\n  HostName 192.0.2.1\n  Port 2213\n  IdentityFile ~/.ssh/%h-%r\nInclude "
      "more\n"
      "Host fernery orchard !kiosk\n  ProxyJump gatehouse\n  User=duty\nHost *\n  User nobody\n  "
      "IdentityFile \"~/with space\"\nMatch user x\n Port 9\n",
      folder.path);
  CHECK(config.hosts() == std::vector<std::string>{"gatehouse", "fernery", "orchard"});
  const SshHostConfig gate = config.lookup("gatehouse");
  CHECK(gate.hostName == "192.0.2.1");
  CHECK(gate.port == 2213);
  CHECK(gate.user == "nobody");
  REQUIRE(gate.identityFiles.size() == 2);
  CHECK(gate.identityFiles[0] == folder.path.string() + "/.ssh/192.0.2.1-nobody");
  CHECK(gate.identityFiles[1] == folder.path.string() + "/with space");
  CHECK(config.lookup("fernery").user == "seed-desk");
  CHECK(config.lookup("orchard").user == "duty");
  CHECK(config.lookup("orchard").proxyJump == "gatehouse");
  CHECK(config.lookup("elsewhere").hostName == "elsewhere");
  CHECK_THROWS_WITH(SshConfig::parse("Host a\nPort many\n", folder.path), Catch::Contains("line 2"));
}
