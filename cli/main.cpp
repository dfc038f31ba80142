// kettle: Kettle Window's core from a shell.
#include <iostream>

#include "base/error.hpp"
#include "base/secrecy.hpp"
#include "cli/live.hpp"
#include "cli/verbs.hpp"

int main(int argc, char** argv) {
  using namespace kw;
  kw::keepOutOfCoreDumps();
  CLI::App app{"kettle: machines' screens and lines of text from a shell", "kettle"};
  app.require_subcommand(1);
  app.set_version_flag("--version", "kettle 0.1.0");
  app.footer(
      "Exit codes: 0 done, 2 usage, 3 unreachable, 4 sign-in failed, 5 protocol error,\n"
      "6 certificate or key not trusted, 7 timed out.");
  app.add_option_function<std::string>(
      "--store", [](const std::string& place) { setenv("KETTLE_STORE", place.c_str(), 1); },
      "The records: a file, or postgresql://user@host/database; else $KETTLE_STORE, or the user's own file");
  cli::Chosen chosen;
  cli::addSessionVerbs(app, chosen);
  cli::addTextVerbs(app, chosen);
  cli::addFileVerbs(app, chosen);
  cli::addMachineVerbs(app, chosen);
  cli::addTrustVerbs(app, chosen);
  cli::addHostVerbs(app, chosen);
  cli::addHostWorkVerbs(app, chosen);
  cli::addExchangeVerbs(app, chosen);
  cli::addCredentialVerbs(app, chosen);
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    const int code = app.exit(e);
    return code == 0 ? 0 : cli::kUsage;
  }
  try {
    return chosen();
  } catch (const Error& e) {
    std::cerr << "kettle: " << e.what() << "\n";
    if (const std::string cure = e.cure(); !cure.empty()) std::cerr << "        " << cure << "\n";
    return cli::exitCodeFor(e.kind());
  } catch (const std::exception& e) {
    std::cerr << "kettle: " << e.what() << "\n";
    return cli::kUsage;
  }
}
