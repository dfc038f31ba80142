#include "route/known_people.hpp"

#include <sodium.h>

#include <nlohmann/json.hpp>

#include "base/file.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;
constexpr std::size_t kMarkBytes = 10;

/// {place: {account: [key in hexadecimal, …]}}; empty when nobody is known or the file cannot be read.
Json peopleKnown(const std::filesystem::path& file) {
  std::error_code ignored;
  if (!std::filesystem::exists(file, ignored)) return Json::object();
  Json known = Json::parse(textOf(readFile(file)), nullptr, false);
  return known.is_object() ? known : Json::object();
}

}  // namespace

std::string markOfKey(const Bytes& key) {
  Bytes digest(crypto_generichash_BYTES);
  crypto_generichash(digest.data(), digest.size(), key.data(), key.size(), nullptr, 0);
  std::string out;
  for (std::size_t at = 0; at < kMarkBytes; at += 2)
    out += (out.empty() ? "" : " ") + hex(ByteView(digest).subspan(at, 2));
  return out;
}

KnownPeople::KnownPeople(const std::filesystem::path& folder, std::string place)
    : file_(folder / "people.json"), place_(std::move(place)) {}

std::set<std::string> KnownPeople::keysOf(const std::string& account) const {
  std::set<std::string> out;
  const Json known = peopleKnown(file_);
  const auto team = known.find(place_);
  if (team == known.end() || !team->is_object()) return out;
  const auto person = team->find(account);
  if (person == team->end() || !person->is_array()) return out;
  for (const Json& key : *person)
    if (key.is_string()) out.insert(key.get<std::string>());
  return out;
}

bool KnownPeople::knows(const std::string& account) const { return !keysOf(account).empty(); }
bool KnownPeople::believes(const std::string& account, const Bytes& key) const {
  return keysOf(account).contains(hex(key));
}

void KnownPeople::believe(const std::string& account, const Bytes& key) {
  std::set<std::string> keys = keysOf(account);
  if (!keys.insert(hex(key)).second) return;
  Json known = peopleKnown(file_);
  if (!known[place_].is_object()) known[place_] = Json::object();
  known[place_][account] = keys;
  const std::string text = known.dump(1);
  writeFileSafely(file_, viewOf(text), 0600);
}

}  // namespace kw
