#include "tests/peers/own_network.hpp"

#include <unistd.h>

#include <catch2/catch.hpp>
#include <cstdio>
#include <fstream>

namespace kw::test {

namespace {

/// What a script prints whose last line asks why; `shell` runs it.
nlohmann::json whyBy(const std::string& shell, const std::filesystem::path& home, const std::string& before,
                     const std::string& words) {
  std::ofstream(home / "script") << "export HOME=" << home.string() << " XDG_DATA_HOME=" << home.string()
                                 << " XDG_CONFIG_HOME=" << home.string() << "\nset -e\n"
                                 << before << "\nset +e\n"
                                 << KW_KETTLE << " why --json " << words << "\n";
  std::FILE* pipe = popen((shell + " " + (home / "script").string() + " < /dev/null").c_str(), "r");
  REQUIRE(pipe != nullptr);
  std::string out;
  for (int c = std::fgetc(pipe); c != EOF; c = std::fgetc(pipe)) out += static_cast<char>(c);
  pclose(pipe);
  INFO(out);
  return nlohmann::json::parse(out);
}

}  // namespace

nlohmann::json whyInOwnNetwork(const std::filesystem::path& home, const std::string& before,
                               const std::string& target) {
  // Who is not root is root in a user namespace, too.
  return whyBy(std::string(geteuid() == 0 ? "unshare -mn" : "unshare -rmn") + " --propagation private sh",
               home, before, target);
}

nlohmann::json whyHere(const std::filesystem::path& home, const std::string& words) {
  return whyBy("sh", home, ":", words);
}

}  // namespace kw::test
