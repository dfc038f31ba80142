// kettle-lab: the simulated hosts fernery and orchard on loopback.
#include <CLI/CLI.hpp>
#include <csignal>
#include <iostream>
#include <optional>

#include "base/file.hpp"
#include "lab/console_port.hpp"
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
  int delay = 40;
  app.add_option("--service-delay", delay,
                 "Seconds from a machine's running until seed-bank's own service answers")
      ->capture_default_str();
  std::vector<std::string> request;
  auto* host =
      app.add_subcommand("host", "Asks the running lab as the host NAME: watch, power ID VERB, console ID");
  host->add_option("words", request, "NAME VERB …")->required();
  std::string hostSocket;
  host->add_option("--socket", hostSocket, "Where the lab listens");
  CLI11_PARSE(app, argc, argv);
  if (host->parsed())
    return lab::relayHostRequest(
        hostSocket.empty() ? lab::hostApiSocket() : std::filesystem::path(hostSocket), request);
  try {
    // Signals are waited for below; threads inherit the blocked set.
    sigset_t signals;
    sigemptyset(&signals);
    sigaddset(&signals, SIGINT);
    sigaddset(&signals, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &signals, nullptr);

    const auto state = folder.empty() ? stateFolder() / "lab" : std::filesystem::path(folder);
    const lab::LabSecrets secrets = lab::loadOrMakeSecrets(state);
    const lab::SshServerPlan jump = lab::gatehousePlan(state);
    std::unique_ptr<lab::SshServer> gatehouse;
    if (lab::SshServer::available())
      gatehouse = std::make_unique<lab::SshServer>(jump);
    else
      std::cerr << "kettle-lab: OpenSSH's server is not installed, so there is no gatehouse\n";
    if (fill) {
      auto store = openSqliteStore(usualStoreFile());
      auto vault = openVault(configFolder());
      std::optional<lab::Gatehouse> records;
      if (gatehouse) records = lab::gatehouseFor(*gatehouse, jump);
      lab::fillStore(*store, *vault, secrets, records ? &*records : nullptr,
                     std::filesystem::read_symlink("/proc/self/exe").string());
    }
    Runtime runtime(1);
    auto fonts = std::make_shared<lab::Fonts>();  // one thread, so one cache serves all
    std::vector<std::unique_ptr<lab::Console>> consoles;
    for (const lab::ConsolePlan& plan : lab::consolePlans(secrets, std::chrono::seconds(delay))) {
      consoles.push_back(std::make_unique<lab::Console>(runtime.strand(), systemClock(), fonts, plan));
      if (!lab::isOffAtFirst(plan)) consoles.back()->start(!fresh);
    }
    const lab::ConsolePortPlan byId = lab::consolePortPlan(secrets);
    std::vector<lab::Console*> all;
    for (const auto& c : consoles) all.push_back(c.get());
    lab::ConsolePort consolePort(runtime.strand(), byId.address, byId.port, byId.options, all);
    consolePort.start();
    std::filesystem::create_directories(lab::mistBenchSocket().parent_path());
    // Its own thread: switching a console off waits for the one that the consoles run on.
    Runtime hostRuntime(1);
    auto hosts = std::make_unique<lab::HostApi>(hostRuntime.strand(), lab::hostApiSocket(),
                                                lab::hostedMachines(consoles));
    std::vector<std::unique_ptr<lab::TextService>> lines;
    for (const lab::TextServicePlan& plan : lab::textPlans(secrets)) {
      lines.push_back(std::make_unique<lab::TextService>(runtime.strand(), systemClock(), plan));
      lines.back()->start();
    }
    std::cout << "kettle-lab serves " << consoles.size() << " consoles and " << lines.size()
              << " lines; passwords are in " << (state / "secrets.json").string() << std::endl;
    int received = 0;
    sigwait(&signals, &received);
    hosts.reset();
    hostRuntime.stop();
    lines.clear();
    consoles.clear();
    return 0;
  } catch (const std::exception& e) {
    std::cerr << "kettle-lab: " << e.what() << "\n";
    return 1;
  }
}
