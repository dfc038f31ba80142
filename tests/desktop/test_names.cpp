// What a machine calls itself, beside what its record does.
#include "desktop/model/reach.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A machine that names itself otherwise is told quietly; only a name that changes is asked about",
          "[window][names]") {
  WindowBench bench(1);
  Machine renamed = bench.tools.store->load().machines.at(bench.machineIds[0]);
  renamed.name = "seed-bank";
  bench.tools.store->commit("rename", [&](StoreWriter& w) { w.put(renamed); });
  MainWindow& window = bench.open();
  OpenSession* s = bench.openLive(0);
  const auto last = [&] { return bench.desk->route(*s).back(); };
  REQUIRE(shown([&] { return last().remark.contains("calls itself \"palm-house-01\""); }));
  CHECK(last().state == State::Answering);
  CHECK_FALSE(last().remark.contains("right machine"));
  // Another name than when it was opened first: that may be another machine.
  bench.desk->reach().noteName(bench.endpoints[0], "palm-house-09");
  CHECK(last().state == State::Trouble);
  CHECK(last().remark.contains("\"palm-house-09\" before: is this the right machine?"));
  emit window.findChild<Side*>()->cureClicked("sameMachine");
  CHECK(last().state == State::Answering);
  // It is known in the next run too.
  Runtime runtime{1};
  Reach later(runtime);
  later.restore(bench.desk->reach().remembered());
  CHECK(later.of(bench.endpoints[0]).calledItself == "palm-house-01");
}
