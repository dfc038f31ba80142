#include "tests/peers/own_network.hpp"

#include <unistd.h>

#include <catch2/catch.hpp>
#include <cstdio>
#include <fstream>

namespace kw::test {

nlohmann::json whyInOwnNetwork(const std::filesystem::path& home, const std::string& before,
                               const std::string& target) {
  const std::string script = "export HOME=" + home.string() + " XDG_DATA_HOME=" + home.string() +
                             " XDG_CONFIG_HOME=" + home.string() + "\nset -e\n" + before + "\nset +e\n" +
                             KW_KETTLE + " why --json " + target + "\n";
  std::ofstream(home / "script") << script;
  // Who is not root is root in a user namespace, too.
  const std::string command = std::string(geteuid() == 0 ? "unshare -mn" : "unshare -rmn") +
                              " --propagation private sh " + (home / "script").string();
  std::FILE* pipe = popen(command.c_str(), "r");
  REQUIRE(pipe != nullptr);
  std::string out;
  for (int c = std::fgetc(pipe); c != EOF; c = std::fgetc(pipe)) out += static_cast<char>(c);
  pclose(pipe);
  INFO(out);
  return nlohmann::json::parse(out);
}

}  // namespace kw::test
