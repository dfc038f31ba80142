// Our own JSON (docs/formats.md): everything about machines but secrets.
#include <nlohmann/json.hpp>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "exchange/exchange.hpp"
#include "record/address.hpp"

namespace kw::exchange {

namespace {

using Json = nlohmann::json;
constexpr const char* kMark = "kettle-window machines";

bool looksLike(const std::string& text) { return text.find(kMark) != std::string::npos; }

std::string textAt(const Json& json, const char* key) {
  const auto found = json.find(key);
  if (found == json.end()) return {};
  if (!found->is_string()) throw Error(ErrorKind::Local, std::string("\"") + key + "\" is no text");
  return found->get<std::string>();
}

SettingValues settingsFrom(const Json& json) {
  SettingValues out;
  const auto found = json.find("settings");
  if (found == json.end()) return out;
  if (!found->is_object()) throw Error(ErrorKind::Local, "\"settings\" is no object");
  for (const auto& [key, value] : found->items()) {
    if (!value.is_string()) throw Error(ErrorKind::Local, "the setting \"" + key + "\" is no text");
    out[key] = value.get<std::string>();
  }
  return out;
}

Read read(const std::string& text, const std::string& fileName) {
  const Json json = Json::parse(text, nullptr, false);
  if (!json.is_object() || !json.contains("format") || json["format"] != kMark)
    throw Error(ErrorKind::Local, "this is no file of machines of Kettle Window", fileName);
  if (!json.contains("version") || json["version"] != 1)
    throw Error(ErrorKind::Local, "this file is of a newer version", fileName);
  if (!json.contains("machines") || !json["machines"].is_array())
    throw Error(ErrorKind::Local, "\"machines\" is no list", fileName);
  Read out;
  for (const Json& m : json["machines"]) {
    if (!m.is_object()) throw Error(ErrorKind::Local, "a machine is no object", fileName);
    Entry e;
    e.name = textAt(m, "name");
    e.group = textAt(m, "group");
    e.host = textAt(m, "host");
    e.tags = textAt(m, "tags");
    e.notes = textAt(m, "notes");
    e.settings = settingsFrom(m);
    e.from = fileName;
    if (e.name.empty()) throw Error(ErrorKind::Local, "a machine has no name", fileName);
    if (m.contains("waysIn")) {
      if (!m["waysIn"].is_array()) throw Error(ErrorKind::Local, "\"waysIn\" is no list", fileName);
      for (const Json& w : m["waysIn"]) {
        if (!w.is_object()) throw Error(ErrorKind::Local, "a way in is no object", fileName);
        EntryWay way;
        way.label = textAt(w, "label");
        way.address = parseAddress(textAt(w, "address")).uri();
        way.settings = settingsFrom(w);
        e.ways.push_back(std::move(way));
      }
    }
    out.entries.push_back(std::move(e));
  }
  return out;
}

std::string write(const std::vector<Entry>& entries) {
  Json machines = Json::array();
  for (const Entry& e : entries) {
    Json m{{"name", e.name}, {"group", e.group}};
    if (!e.host.empty()) m["host"] = e.host;
    if (!e.tags.empty()) m["tags"] = e.tags;
    if (!e.notes.empty()) m["notes"] = e.notes;
    if (!e.settings.empty()) m["settings"] = e.settings;
    Json ways = Json::array();
    for (const EntryWay& way : e.ways) {
      Json w{{"label", way.label}, {"address", way.address}};
      if (!way.settings.empty()) w["settings"] = way.settings;
      ways.push_back(std::move(w));
    }
    m["waysIn"] = std::move(ways);
    machines.push_back(std::move(m));
  }
  return Json{{"format", kMark}, {"version", 1}, {"machines", machines}}.dump(
             2, ' ', false, Json::error_handler_t::replace) +
         "\n";
}

}  // namespace

const char* machinesSchema() {
  return R"json({
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "Machines of Kettle Window",
  "type": "object",
  "required": ["format", "version", "machines"],
  "properties": {
    "format": {"const": "kettle-window machines"},
    "version": {"const": 1},
    "machines": {"type": "array", "items": {"$ref": "#/$defs/machine"}}
  },
  "$defs": {
    "settings": {
      "description": "By key, as kettle machines show --json names them; values are text.",
      "type": "object",
      "additionalProperties": {"type": "string"}
    },
    "machine": {
      "type": "object",
      "required": ["name"],
      "additionalProperties": false,
      "properties": {
        "name": {"type": "string", "minLength": 1},
        "group": {"description": "Place and groups, parted by /.", "type": "string"},
        "host": {"description": "What runs it.", "type": "string"},
        "tags": {"type": "string"},
        "notes": {"type": "string"},
        "settings": {"$ref": "#/$defs/settings"},
        "waysIn": {"type": "array", "items": {"$ref": "#/$defs/wayIn"}}
      }
    },
    "wayIn": {
      "type": "object",
      "required": ["address"],
      "additionalProperties": false,
      "properties": {
        "label": {"type": "string"},
        "address": {"description": "A URI: kind://user@host:port.", "type": "string", "pattern": "^[a-z+]+:"},
        "settings": {"$ref": "#/$defs/settings"}
      }
    }
  }
}
)json";
}

const Kind jsonKind{"json", "machines of Kettle Window (JSON)", ".json", looksLike, read, write};

}  // namespace kw::exchange
