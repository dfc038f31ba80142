#include "host/stock.hpp"

#include "base/iso_time.hpp"

#include <ctime>
#include <nlohmann/json.hpp>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw::host {

namespace {

using Json = nlohmann::json;

constexpr std::pair<Running, const char*> kNames[] = {
    {Running::Unknown, "unknown"}, {Running::Off, "off"},           {Running::On, "running"},
    {Running::Paused, "paused"},   {Running::Stopping, "stopping"}, {Running::Crashed, "crashed"}};

Running runningFrom(const std::string& name) {
  for (const auto& [state, known] : kNames)
    if (name == known) return state;
  return Running::Unknown;
}

constexpr std::size_t kMostText = 512, kMostOfOne = 64;

std::string text(const Json& json, const char* key) {
  const auto found = json.find(key);
  if (found == json.end() || found->is_null()) return {};
  if (!found->is_string()) protocolBroken("a machine", std::string("\"") + key + "\" is no text");
  return cleanUtf8(found->get<std::string>().substr(0, kMostText));
}

int whole(const Json& json, const char* key, int least, int most, int otherwise = 0) {
  const auto found = json.find(key);
  if (found == json.end() || found->is_null()) return otherwise;
  if (!found->is_number_integer()) protocolBroken("a machine", std::string("\"") + key + "\" is no number");
  const auto value = found->get<std::int64_t>();
  if (value < least || value > most)
    protocolBroken("a machine", std::string("\"") + key + "\" is out of range");
  return static_cast<int>(value);
}

bool yes(const Json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_boolean() && found->get<bool>();
}

template <typename F>
void each(const Json& json, const char* key, F take) {
  const auto found = json.find(key);
  if (found == json.end() || found->is_null()) return;
  if (!found->is_array() || found->size() > kMostOfOne)
    protocolBroken("a machine", std::string("\"") + key + "\" is no list, or too long");
  for (const Json& one : *found) take(one);
}

ConsoleFacts consoleFrom(const Json& json) {
  if (!json.is_object()) protocolBroken("a machine", "a console is no object");
  ConsoleFacts c;
  c.scheme = text(json, "kind");
  c.listen = text(json, "listen");
  c.socket = text(json, "socket");
  c.port = whole(json, "port", 0, 65535);
  c.tlsPort = whole(json, "tlsPort", 0, 65535);
  c.automatic = yes(json, "automatic");
  c.password = yes(json, "password");
  c.byId = yes(json, "byId");
  c.screens = whole(json, "screens", 1, 64, 1);
  return c;
}

}  // namespace

const char* nameOf(Running state) {
  for (const auto& [known, name] : kNames)
    if (known == state) return name;
  return "unknown";
}

Json toJson(const StockMachine& m) {
  Json consoles = Json::array(), serials = Json::array();
  for (const ConsoleFacts& c : m.consoles) {
    Json one{{"kind", c.scheme},     {"listen", c.listen},       {"port", c.port},
             {"tlsPort", c.tlsPort}, {"automatic", c.automatic}, {"password", c.password},
             {"screens", c.screens}};
    if (!c.socket.empty()) one["socket"] = c.socket;
    if (c.byId) one["byId"] = true;
    consoles.push_back(std::move(one));
  }
  for (const SerialFacts& s : m.serials) serials.push_back({{"name", s.name}, {"address", s.address}});
  return {{"id", m.id},
          {"name", m.name},
          {"title", m.title},
          {"state", nameOf(m.state)},
          {"reason", m.reason},
          {"since", m.since},
          {"consoles", consoles},
          {"serials", serials},
          {"addresses", m.addresses},
          {"addressesFrom", m.addressesFrom},
          {"agent", m.agent},
          {"processors", m.processors},
          {"memory", m.memory}};
}

StockMachine stockMachineFrom(const Json& json) {
  if (!json.is_object()) protocolBroken("a machine", "it is no object");
  StockMachine m;
  m.id = text(json, "id");
  m.name = text(json, "name");
  if (m.id.empty() || m.name.empty()) protocolBroken("a machine", "it has no id or no name");
  m.title = text(json, "title");
  m.state = runningFrom(text(json, "state"));
  m.reason = text(json, "reason");
  m.since = text(json, "since");
  each(json, "consoles", [&](const Json& one) { m.consoles.push_back(consoleFrom(one)); });
  each(json, "serials", [&](const Json& one) {
    if (!one.is_object()) protocolBroken("a machine", "a serial port is no object");
    m.serials.push_back({text(one, "name"), text(one, "address")});
  });
  each(json, "addresses", [&](const Json& one) {
    if (!one.is_string()) protocolBroken("a machine", "an address is no text");
    m.addresses.push_back(cleanUtf8(one.get<std::string>().substr(0, kMostText)));
  });
  m.addressesFrom = text(json, "addressesFrom");
  m.agent = yes(json, "agent");
  m.processors = whole(json, "processors", 0, 1 << 20);
  m.memory = whole(json, "memory", 0, 1 << 30);
  return m;
}

std::string timeText() { return nowText(); }

}  // namespace kw::host
