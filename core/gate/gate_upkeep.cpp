// What the gateway looks after by itself: people whom the team's database locked, recordings that are too
// old.
#include "gate/gate_state.hpp"
#include "gate/recording.hpp"

namespace kw::gate {

Task<void> Gate::State::keepHouse() {
  const auto self = shared_from_this();
  co_await signOutRefused();
  co_await removeOld();
}

Task<void> Gate::State::signOutRefused() {
  if (!options.storeRefuses) co_return;
  auto people = store.signedInByStore(nowSeconds());
  if (people.empty()) co_return;
  const auto ask = [refuses = options.storeRefuses, people] { return refuses(people); };
  const auto refused = co_await slow.run(ask);
  for (const std::string& name : refused) {
    store.signOutAll(name);
    store.audit(name, "", "signed out: the team's database lets it in no more");
  }
  if (!refused.empty()) wake();
}

Task<void> Gate::State::removeOld() {
  if (options.keepRecordings.count() == 0) co_return;
  const auto remove = [folder = recordings(), age = options.keepRecordings] {
    return removeOldRecordings(folder, age);
  };
  const auto removed = co_await slow.run(remove);
  for (const std::string& file : removed) store.audit("", "", "removes an old recording", {{"file", file}});
}

}  // namespace kw::gate
