// The table that bench prints: what, ours, the floor, their ratio, and the goal where an aim was set.
#pragma once
#include <chrono>
#include <functional>
#include <string>
#include <vector>

namespace kw::bench {

class Table {
 public:
  /// Times in seconds for the same work; `note` says what the floor is. Goal 0: none set.
  void row(const std::string& what, double ours, double floor, const std::string& note, double goal = 0,
           double bytes = 0);
  /// A figure without a floor, with its own limit.
  void figure(const std::string& what, double value, const std::string& unit, double most = 0);
  /// Goals that were missed.
  [[nodiscard]] int missed() const { return missed_; }

 private:
  int missed_ = 0;
};

/// The best of several runs, in seconds. Each run repeats the work until it is long enough to be measured.
double bestOf(const std::function<void()>& work, int runs = 7);
/// Both in turns, so that a busy moment of the machine hits both alike.
std::pair<double, double> bestOfBoth(const std::function<void()>& ours, const std::function<void()>& floor,
                                     int runs = 9);

void benchPictures(Table& table);
void benchEncodings(Table& table);
void benchRdp(Table& table);
void benchRdpScrolling(Table& table);
void benchSpice(Table& table);
void benchRecords(Table& table);
void benchHosts(Table& table);
void benchGate(Table& table);
void benchWindow(Table& table, int argc, char** argv);
void benchText(Table& table, int argc, char** argv);
void benchSsh(Table& table);

}  // namespace kw::bench
