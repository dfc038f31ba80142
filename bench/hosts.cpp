// Hosts: a thousand machines that are waited for, two hosts of 500 and 50,000 machines of stock.
#include <sys/resource.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

#include "bench/bench.hpp"
#include "desktop/hosts/stock_model.hpp"
#include "host/starting.hpp"

namespace kw::bench {

namespace {

using namespace host;

nlohmann::json machinesAsJson(int count) {
  nlohmann::json all = nlohmann::json::array();
  for (int i = 0; i < count; ++i)
    all.push_back({{"id", "m" + std::to_string(i)},
                   {"name", "palm-house-" + std::to_string(i)},
                   {"state", "running"},
                   {"consoles", {{{"kind", "vnc"}, {"listen", "127.0.0.12"}, {"port", 5900 + i}}}}});
  return {{"machines", all}};
}

/// A host whose own command tells so many machines, once.
struct ToldHost {
  ToldHost(const std::filesystem::path& folder, const std::string& name, int machines) {
    const auto file = folder / (name + ".json");
    std::ofstream(file) << machinesAsJson(machines).dump() << "\n";
    HostRecord record;
    record.name = name;
    record.address = "command:/bin/sh -c \"cat " + file.string() + "; exec sleep 600\"";
    host = std::make_shared<Host>(record, AdapterTools{runtime.strand(), systemClock(), {}, {}});
  }
  ~ToldHost() { host->end(); }
  void untilLive() {
    host->start();
    while (host->view().stage != HostStage::Live) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  Runtime runtime{1};
  std::shared_ptr<Host> host;
};

double processorSeconds() {
  rusage used{};
  getrusage(RUSAGE_SELF, &used);
  const auto seconds = [](const timeval& t) {
    return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec);
  };
  return seconds(used.ru_utime) + seconds(used.ru_stime);
}

/// Machines that run while nothing listens: every look is refused, at growing intervals.
void benchWaiting(Table& table, const std::filesystem::path& folder) {
  constexpr int kWaiting = 1000;
  ToldHost told(folder, "orchard", kWaiting);
  told.untilLive();
  Runtime runtime(1);
  std::vector<std::shared_ptr<StartErrand>> errands;
  for (int i = 0; i < kWaiting; ++i) {
    StartPlan plan;
    plan.host = told.host;
    plan.id = "m" + std::to_string(i);
    plan.addressNow = [](const StockMachine&) { return parseAddress("vnc://127.0.0.12:1"); };
    errands.push_back(std::make_shared<StartErrand>(runtime.strand(), systemClock(), std::move(plan)));
    errands.back()->start([](const StartView&) {});
  }
  const auto share = [](std::chrono::seconds during) {
    const double before = processorSeconds();
    std::this_thread::sleep_for(during);  // what is measured is time itself
    return 100 * (processorSeconds() - before) / static_cast<double>(during.count());
  };
  table.figure("hosts: 1,000 waited for, their first 10 s", share(std::chrono::seconds(10)),
               "% of one processor");
  table.figure("hosts: 1,000 waited for, 20 s after that", share(std::chrono::seconds(20)),
               "% of one processor", 10);
  for (const auto& e : errands) e->stop();
  runtime.stop();
}

void benchListing(Table& table, const std::filesystem::path& folder) {
  const auto start = std::chrono::steady_clock::now();
  ToldHost first(folder, "fernery", 500), second(folder, "orchard", 500);
  first.untilLive();
  second.untilLive();
  table.figure("hosts: two of 500 machines listed",
               std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count(), "s", 1);
}

void benchStock(Table& table) {
  constexpr int kMachines = 50'000;
  auto stock = std::make_shared<Stock>();
  for (int i = 0; i < kMachines; ++i) {
    StockMachine m;
    m.name = "palm-house-" + std::to_string(i);
    m.id = "m" + std::to_string(i);
    (*stock)[m.id] = m;
  }
  std::map<Id, desktop::Hosts::Watched> hosts;
  hosts[1].record.id = 1, hosts[1].record.name = "orchard";
  hosts[1].view.stage = HostStage::Live;
  hosts[1].view.stock = stock;
  desktop::StockModel model;
  const Snapshot records;
  table.figure("hosts: 50,000 machines of stock shown",
               1000 * bestOf([&] { model.setStock(hosts, records); }, 3), "ms");
  double slowest = 0;
  for (const char* typed : {"p", "palm", "palm-house-4", "palm-house-4999", "9", "nothing"}) {
    slowest = std::max(slowest, bestOf([&] { model.setNarrow(""), model.setNarrow(typed); }, 3));
  }
  table.figure("hosts: 50,000 narrowed and widened again", 1000 * slowest, "ms", 2 * 16);
}

}  // namespace

void benchHosts(Table& table) {
  std::string name = (std::filesystem::temp_directory_path() / "kettle-bench-XXXXXX").string();
  if (mkdtemp(name.data()) == nullptr) return;
  const std::filesystem::path folder = name;
  benchListing(table, folder);
  benchStock(table);
  benchWaiting(table, folder);
  std::filesystem::remove_all(folder);
}

}  // namespace kw::bench
