// kettle-lab: the simulated hosts fernery and orchard on loopback.
#include <CLI/CLI.hpp>
#include <csignal>
#include <iostream>

#include "base/file.hpp"
#include "lab/scenario.hpp"

int main(int argc, char** argv) {
  using namespace kw;
  CLI::App app{"kettle-lab: simulated hosts and machines on this computer's loopback addresses",
               "kettle-lab"};
  std::string folder;
  bool fill = false, fresh = false;
  app.add_option("--state", folder, "Folder for the lab's passwords and certificate");
  app.add_flag("--fill-store", fill, "Put the garden's machines into the user's records first");
  app.add_flag("--from-power-on", fresh, "Machines begin with their firmware instead of running for days");
  CLI11_PARSE(app, argc, argv);
  try {
    // Signals are waited for below; threads inherit the blocked set.
    sigset_t signals;
    sigemptyset(&signals);
    sigaddset(&signals, SIGINT);
    sigaddset(&signals, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &signals, nullptr);

    const auto state = folder.empty() ? stateFolder() / "lab" : std::filesystem::path(folder);
    const lab::LabSecrets secrets = lab::loadOrMakeSecrets(state);
    if (fill) {
      auto store = openSqliteStore(usualStoreFile());
      auto vault = openVault(configFolder());
      lab::fillStore(*store, *vault, secrets);
    }
    Runtime runtime(1);
    auto fonts = std::make_shared<lab::Fonts>();  // one thread, so one cache serves all
    std::vector<std::unique_ptr<lab::Console>> consoles;
    for (const lab::ConsolePlan& plan : lab::consolePlans(secrets)) {
      consoles.push_back(std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan));
      consoles.back()->start(!fresh);
    }
    std::cout << "kettle-lab serves " << consoles.size() << " consoles; passwords are in "
              << (state / "secrets.json").string() << std::endl;
    int received = 0;
    sigwait(&signals, &received);
    consoles.clear();
    return 0;
  } catch (const std::exception& e) {
    std::cerr << "kettle-lab: " << e.what() << "\n";
    return 1;
  }
}
