// The gateway's audit: each entry's hash has the one before it in it.
#include "base/iso_time.hpp"
#include "gate/gate_store_state.hpp"

namespace kw::gate {

using Json = nlohmann::json;

namespace {
/// Of the entry's text and the hash before it.
Bytes chained(const Bytes& before, std::int64_t id, const std::string& entry) {
  std::string text(before.begin(), before.end());
  text += std::to_string(id) + '\n' + entry;
  return hashOf(text);
}
Bytes bytesOf(SQLite::Column column) {
  const auto* first = static_cast<const Byte*>(column.getBlob());
  return Bytes(first, first + column.getBytes());
}
}  // namespace

void GateStore::audit(const std::string& who, const std::string& from, const std::string& what, Json more) {
  Json entry{{"when", nowText()}, {"who", who}, {"from", from}, {"what", what}};
  if (more.is_object()) entry.update(more);
  const std::string text = entry.dump(-1, ' ', false, Json::error_handler_t::replace);
  state_->guarded([&] {
    SQLite::Transaction writing(state_->db, SQLite::TransactionBehavior::IMMEDIATE);
    SQLite::Statement last(state_->db, "SELECT id, hash FROM audit ORDER BY id DESC LIMIT 1");
    std::int64_t id = 1;
    Bytes before;
    if (last.executeStep()) {
      id = last.getColumn(0).getInt64() + 1;
      before = bytesOf(last.getColumn(1));
    }
    SQLite::Statement s(state_->db, "INSERT INTO audit(id, entry, hash) VALUES(?, ?, ?)");
    s.bind(1, id);
    s.bind(2, text);
    bindBytes(s, 3, chained(before, id, text));
    s.exec();
    writing.commit();
  });
}

GateStore::AuditCheck GateStore::verifyAudit() const {
  return state_->guarded([&] {
    AuditCheck out;
    Bytes before;
    SQLite::Statement s(state_->db, "SELECT id, entry, hash FROM audit ORDER BY id");
    while (s.executeStep()) {
      ++out.entries;
      const std::int64_t id = s.getColumn(0).getInt64();
      const Bytes hash = bytesOf(s.getColumn(2));
      if (id != out.entries || hash != chained(before, id, s.getColumn(1).getString())) {
        out.wrongAt = out.entries;
        return out;
      }
      before = hash;
    }
    return out;
  });
}

namespace {
/// The rows of (id, entry).
std::vector<Json> entriesOf(SQLite::Statement& s) {
  std::vector<Json> out;
  while (s.executeStep()) {
    Json entry = Json::parse(s.getColumn(1).getString(), nullptr, false);
    if (!entry.is_object()) entry = Json::object();
    entry["number"] = s.getColumn(0).getInt64();
    out.push_back(std::move(entry));
  }
  return out;
}
}  // namespace

std::vector<Json> GateStore::newestAudit(const std::string& narrow, int most) const {
  return state_->guarded([&] {
    SQLite::Statement s(state_->db,
                        "SELECT id, entry FROM audit WHERE ? = '' OR instr(lower(entry), lower(?)) > 0 "
                        "ORDER BY id DESC LIMIT ?");
    s.bind(1, narrow);
    s.bind(2, narrow);
    s.bind(3, most);
    return entriesOf(s);
  });
}

std::vector<Json> GateStore::auditEntries(std::int64_t after, int most) const {
  return state_->guarded([&] {
    SQLite::Statement s(state_->db, "SELECT id, entry FROM audit WHERE id > ? ORDER BY id LIMIT ?");
    s.bind(1, after);
    s.bind(2, most);
    return entriesOf(s);
  });
}

}  // namespace kw::gate
