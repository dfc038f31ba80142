// kettle-bench: speed against floors, in one run, as ratios.
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include "bench/bench.hpp"

namespace kw::bench {

namespace {
double timed(const std::function<void()>& work, int repeats) {
  const auto start = std::chrono::steady_clock::now();
  for (int i = 0; i < repeats; ++i) work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count() / repeats;
}
int repeatsFor(const std::function<void()>& work) {
  const double once = timed(work, 1);
  return std::clamp(static_cast<int>(0.05 / std::max(once, 1e-7)), 1, 2000);
}
}  // namespace

double bestOf(const std::function<void()>& work, int runs) {
  const int repeats = repeatsFor(work);
  double best = 1e9;
  for (int i = 0; i < runs; ++i) best = std::min(best, timed(work, repeats));
  return best;
}

std::pair<double, double> bestOfBoth(const std::function<void()>& ours, const std::function<void()>& floor,
                                     int runs) {
  const int repeatsOurs = repeatsFor(ours), repeatsFloor = repeatsFor(floor);
  double a = 1e9, b = 1e9;
  for (int i = 0; i < runs; ++i) {
    a = std::min(a, timed(ours, repeatsOurs));
    b = std::min(b, timed(floor, repeatsFloor));
  }
  return {a, b};
}

void Table::row(const std::string& what, double ours, double floor, const std::string& note, double goal,
                double bytes) {
  const double ratio = ours / floor;
  const bool miss = goal > 0 && ratio > goal;
  missed_ += miss ? 1 : 0;
  char speed[32] = "";
  if (bytes > 0) std::snprintf(speed, sizeof speed, "%6.2f GB/s", bytes / ours / 1e9);
  char aim[32] = "";
  if (goal > 0) std::snprintf(aim, sizeof aim, "%s (goal %.2f)", miss ? "MISSED" : "met", goal);
  std::printf("%-46s %10.3f ms %10.3f ms  %6.2fx  %-20s %-12s %s\n", what.c_str(), ours * 1e3, floor * 1e3,
              ratio, aim, speed, note.c_str());
  std::fflush(stdout);
}

void Table::figure(const std::string& what, double value, const std::string& unit, double most) {
  const bool miss = most > 0 && value > most;
  missed_ += miss ? 1 : 0;
  char aim[48] = "";
  if (most > 0) std::snprintf(aim, sizeof aim, "%s (at most %g)", miss ? "MISSED" : "met", most);
  std::printf("%-46s %10.2f %-8s %21s %s\n", what.c_str(), value, unit.c_str(), "", aim);
  std::fflush(stdout);
}

}  // namespace kw::bench

int main(int argc, char** argv) {
  kw::bench::Table table;
  if (argc > 1 && std::strcmp(argv[1], "--bare-window") == 0) kw::bench::benchWindow(table, argc, argv);
  std::printf("%-46s %13s %13s  %7s\n", "what", "ours", "floor", "ratio");
  const bool window = argc < 2 || std::strcmp(argv[1], "core") != 0;
  using Part = std::function<void()>;
  const std::vector<std::pair<std::string, Part>> parts{
      {"rdp",
       [&] {
         kw::bench::benchRdp(table);
         kw::bench::benchRdpScrolling(table);
       }},
      {"spice", [&] { kw::bench::benchSpice(table); }},
      {"records", [&] { kw::bench::benchRecords(table); }},
      {"hosts", [&] { kw::bench::benchHosts(table); }},
      {"gate", [&] { kw::bench::benchGate(table); }},
      {"ssh", [&] { kw::bench::benchSsh(table); }},
      {"text", [&] { kw::bench::benchText(table, argc, argv); }},
      {"window", [&] { kw::bench::benchWindow(table, argc, argv); }},
  };
  // "bench text" and so on measure only that part; "bench core" all that needs no window.
  for (const auto& [name, part] : parts) {
    if (argc < 2 || name != argv[1]) continue;
    part();
    std::printf("%d goals missed\n", table.missed());
    return 0;
  }
  if (std::getenv("KW_BENCH_ONLY") == nullptr) kw::bench::benchPictures(table);
  kw::bench::benchEncodings(table);
  for (const auto& [name, part] : parts)
    if (window || (name != "text" && name != "window")) part();
  std::printf("%d goals missed\n", table.missed());
  return 0;
}
