// Files of INI form: a console handed over by a host's page (type, host, ports, a password for once), and VNC
// connection files.
#include <map>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "exchange/exchange.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"

namespace kw::exchange {

namespace {

struct Ini {
  std::map<std::string, std::string> values;  ///< of all sections; keys in lower case
  std::vector<std::pair<std::string, std::string>> lines;
};

Ini parsed(const std::string& text) {
  Ini out;
  for (const std::string& raw : linesOf(text)) {
    const std::string line = trimmed(raw);
    if (line.empty() || line[0] == '#' || line[0] == ';' || line[0] == '[') continue;
    const auto equals = line.find('=');
    if (equals == std::string::npos) continue;
    const std::string key = lowered(trimmed(line.substr(0, equals)));
    const std::string value = trimmed(line.substr(equals + 1));
    out.values.emplace(key, value);
    out.lines.emplace_back(key, value);
  }
  return out;
}

std::string stem(const std::string& fileName) { return fileName.substr(0, fileName.rfind('.')); }

int portFrom(const std::string& text) { return parseAddress("tcp://host:" + text).port; }

void keepOthers(const Ini& ini, const std::string& kind, const std::vector<std::string>& known, EntryWay& way,
                Read& out) {
  std::string kept;
  for (const auto& [key, value] : ini.lines)
    if (std::find(known.begin(), known.end(), key) == known.end()) kept += key + "=" + value + "\n";
  if (kept.empty()) return;
  const std::string whole = kind + "\n" + kept;
  if (problemWith(*findSetting("file.kept"), whole).empty())
    way.settings["file.kept"] = whole;
  else
    out.remarks.push_back("its other lines are too many to be kept");
}

bool looksLikeConsole(const std::string& text) {
  const Ini ini = parsed(text);
  return ini.values.contains("type") && ini.values.contains("host");
}

Read readConsole(const std::string& text, const std::string& fileName) {
  const Ini ini = parsed(text);
  const auto value = [&](const char* key) {
    const auto found = ini.values.find(key);
    return found == ini.values.end() ? std::string() : found->second;
  };
  const std::string type = lowered(value("type"));
  if (findWayKind(type) == nullptr)
    throw Error(ErrorKind::Local, "it names no kind of console that is known here: \"" + type + "\"",
                fileName);
  if (value("host").empty()) throw Error(ErrorKind::Local, "it names no host", fileName);
  Read out;
  Entry e;
  e.name = value("title").empty() ? stem(fileName) : value("title");
  e.from = fileName;
  Address a;
  a.scheme = type;
  a.host = value("host");
  if (!value("port").empty() && value("port") != "-1" && value("port") != "0")
    a.port = portFrom(value("port"));
  if (const std::string tls = value("tls-port"); !tls.empty() && tls != "-1" && tls != "0") {
    if (a.port == 0) {
      a.scheme += "+tls";
      a.port = portFrom(tls);
      if (findWayKind(a.scheme) == nullptr)
        throw Error(ErrorKind::Local, "it names only a sealed port, which this kind of console has not",
                    fileName);
    } else {
      a.options["tls-port"] = tls;
    }
  }
  if (a.port == 0) a.port = usualPort(a.scheme);
  EntryWay way;
  way.address = a.uri();
  if (value("fullscreen") == "1") way.settings["screen.open"] = "full";
  if (!value("password").empty()) e.password = value("password");
  e.deleteFile = value("delete-this-file") == "1";
  keepOthers(ini, "vv",
             {"type", "host", "port", "tls-port", "password", "title", "fullscreen", "delete-this-file"}, way,
             out);
  e.ways.push_back(std::move(way));
  out.entries.push_back(std::move(e));
  return out;
}

std::string writeConsole(const std::vector<Entry>& entries) {
  for (const Entry& e : entries)
    for (const EntryWay& way : e.ways) {
      const Address a = parseAddress(way.address);
      if (a.host.empty() || !isOfForm(a.scheme, Form::Screen)) continue;
      const bool tls = a.scheme.ends_with("+tls");
      std::string out = "[console]\ntype=" + (tls ? a.scheme.substr(0, a.scheme.size() - 4) : a.scheme) +
                        "\nhost=" + a.host + "\n" + (tls ? "tls-port=" : "port=") + std::to_string(a.port) +
                        "\n";
      if (const auto port = a.options.find("tls-port"); port != a.options.end())
        out += "tls-port=" + port->second + "\n";
      out += "title=" + e.name + "\n";
      if (const auto open = way.settings.find("screen.open");
          open != way.settings.end() && open->second == "full")
        out += "fullscreen=1\n";
      return out + keptLines(way.settings, "vv");
    }
  throw Error(ErrorKind::Local, "none of the machines has a way in that such a file can hold");
}

bool looksLikeVnc(const std::string& text) {
  const Ini ini = parsed(text);
  return ini.values.contains("host") && !ini.values.contains("type");
}

Read readVnc(const std::string& text, const std::string& fileName) {
  const Ini ini = parsed(text);
  const auto value = [&](const char* key) {
    const auto found = ini.values.find(key);
    return found == ini.values.end() ? std::string() : found->second;
  };
  if (value("host").empty()) throw Error(ErrorKind::Local, "it names no host", fileName);
  Read out;
  Entry e;
  e.name = stem(fileName);
  e.from = fileName;
  Address a = parseAddress("vnc://" + value("host"));
  if (!value("port").empty()) {
    a = parseAddress("vnc://host:" + value("port"));
    a.host = parseAddress("vnc://" + value("host")).host;
  }
  EntryWay way;
  way.address = a.uri();
  if (value("viewonly") == "1") way.settings["screen.viewonly"] = "on";
  if (value("fullscreen") == "1") way.settings["screen.open"] = "full";
  if (value("shared") == "0") way.settings["screen.shared"] = "off";
  if (value("8bit") == "1") way.settings["screen.colours"] = "8";
  if (ini.values.contains("password"))
    out.remarks.push_back("its hidden password is not read: anybody could read it; it is asked for");
  keepOthers(ini, "vnc", {"host", "port", "viewonly", "fullscreen", "shared", "8bit", "password"}, way, out);
  e.ways.push_back(std::move(way));
  out.entries.push_back(std::move(e));
  return out;
}

std::string writeVnc(const std::vector<Entry>& entries) {
  for (const Entry& e : entries)
    for (const EntryWay& way : e.ways) {
      const Address a = parseAddress(way.address);
      if (a.scheme != "vnc") continue;
      std::string out = "[connection]\nhost=" + a.host + "\nport=" + std::to_string(a.port) + "\n[options]\n";
      const auto on = [&](const char* key, const char* wanted) {
        const auto found = way.settings.find(key);
        return found != way.settings.end() && found->second == wanted;
      };
      if (on("screen.viewonly", "on")) out += "viewonly=1\n";
      if (on("screen.open", "full")) out += "fullscreen=1\n";
      if (on("screen.shared", "off")) out += "shared=0\n";
      if (on("screen.colours", "8")) out += "8bit=1\n";
      return out + keptLines(way.settings, "vnc");
    }
  throw Error(ErrorKind::Local, "none of the machines has a way in that such a file can hold");
}

}  // namespace

const Kind consoleKind{"vv", "console hand-off file", ".vv", looksLikeConsole, readConsole, writeConsole};
const Kind vncKind{"vnc", "VNC connection file", ".vnc", looksLikeVnc, readVnc, writeVnc};

}  // namespace kw::exchange
