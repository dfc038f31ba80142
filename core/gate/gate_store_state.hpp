// What the parts of the gateway's store share: the database and how it is written to.
#pragma once
#include <SQLiteCpp/SQLiteCpp.h>
#include <sodium.h>

#include <mutex>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "gate/gate_store.hpp"

namespace kw::gate {

inline Bytes hashOf(const std::string& text) {
  Bytes out(crypto_generichash_BYTES);
  crypto_generichash(out.data(), out.size(), reinterpret_cast<const Byte*>(text.data()), text.size(), nullptr,
                     0);
  return out;
}

inline void bindBytes(SQLite::Statement& s, int at, const Bytes& bytes) {
  s.bind(at, bytes.data(), static_cast<int>(bytes.size()));
}

struct GateStore::State {
  explicit State(const std::filesystem::path& file)
      : db(file.string(), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_FULLMUTEX, 5000) {}

  template <typename F>
  auto guarded(F work) -> decltype(work()) {
    const std::lock_guard held(mutex);
    try {
      return work();
    } catch (const SQLite::Exception& e) {
      throw Error(ErrorKind::Local, std::string("the gateway's store says: ") + e.what());
    }
  }

  SQLite::Database db;
  std::mutex mutex;
  std::string nobody;  ///< a hash of nothing anybody knows, so that unknown names take as long
};

}  // namespace kw::gate
