// What every store must do, whatever it is made of. Each store's tests call all of it with an empty store.
#pragma once
#include <atomic>
#include <functional>
#include <memory>
#include <thread>

#include "record/store.hpp"

namespace kw::test {

/// Two desks on the same, empty store; the second may be another person.
struct StorePair {
  std::unique_ptr<Store> one, two;
};

/// Place, group, one machine with one way in.
struct FilledStore {
  Id place = 0, group = 0, machine = 0, way = 0;
};
FilledStore fillStore(Store& store);

/// "" when nothing is thrown; "stale: …", else the sentence.
std::string failureOf(const std::function<void()>& what);
/// Same rows and settings, whatever their versions.
bool sameRecords(const Snapshot& a, const Snapshot& b);

/// A commit reads and changes what it made itself.
void checkOneCommit(StorePair stores);
void checkStaleWrites(StorePair stores);
void checkChangesSince(StorePair stores);
void checkHistory(StorePair stores);
void checkCredentials(StorePair stores);
void checkWatch(StorePair stores);
/// Starts a process that opens the store and commits one machine after another, and kills it at a random
/// moment; `times` times over. Every machine whose commit() came back is there afterwards.
void checkKilledWriters(const std::function<std::unique_ptr<Store>()>& open, int times);

}  // namespace kw::test
