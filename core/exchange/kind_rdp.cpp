// Connection files of remote desktops: lines of key:type:value, one machine a file.
#include <map>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "exchange/exchange.hpp"
#include "record/address.hpp"
#include "record/setting.hpp"

namespace kw::exchange {

namespace {

/// key, type and value of a line; false for what is none.
bool split(const std::string& line, std::string& key, std::string& type, std::string& value) {
  const auto first = line.find(':');
  if (first == std::string::npos || first + 2 >= line.size() || line[first + 2] != ':') return false;
  key = lowered(trimmed(line.substr(0, first)));
  type = line.substr(first + 1, 1);
  value = trimmed(line.substr(first + 3));
  return !key.empty();
}

bool looksLike(const std::string& text) {
  std::string key, type, value;
  for (const std::string& line : linesOf(text))
    if (split(line, key, type, value) && key == "full address") return true;
  return false;
}

std::string stem(const std::string& fileName) {
  const auto dot = fileName.rfind('.');
  return dot == std::string::npos || dot == 0 ? fileName : fileName.substr(0, dot);
}

Read read(const std::string& text, const std::string& fileName) {
  Entry e;
  e.name = stem(fileName);
  e.from = fileName;
  Address address;
  address.scheme = "rdp";
  address.port = 3389;
  EntryWay way;
  std::string kept, width, height, key, type, value;
  Read out;
  for (const std::string& line : linesOf(text)) {
    if (trimmed(line).empty()) continue;
    if (!split(line, key, type, value)) {
      out.remarks.push_back("\"" + line.substr(0, 40) + "\" is no line of such a file");
      continue;
    }
    if (key == "full address" && !value.empty()) {
      const Address typed = parseAddress("rdp://" + value);
      address.host = typed.host;
      if (value.find(':') != std::string::npos) address.port = typed.port;
    } else if (key == "server port") {
      address.port = parseAddress("tcp://host:" + value).port;
    } else if (key == "username") {
      const auto slash = value.find('\\');
      if (slash != std::string::npos) way.settings["rdp.domain"] = value.substr(0, slash);
      address.user = slash == std::string::npos ? value : value.substr(slash + 1);
    } else if (key == "domain" && !value.empty()) {
      way.settings["rdp.domain"] = value;
    } else if (key == "desktopwidth") {
      width = value;
    } else if (key == "desktopheight") {
      height = value;
    } else if (key == "session bpp" && problemWith(*findSetting("screen.colours"), value).empty()) {
      way.settings["screen.colours"] = value;
    } else if (key == "redirectclipboard") {
      way.settings["clipboard.way"] = value == "0" ? "off" : "both";
    } else if (key == "audiomode") {
      way.settings["sound.play"] = value == "0" ? "on" : value == "1" ? "there" : "off";
    } else if (key == "alternate shell" && !value.empty()) {
      way.settings["rdp.program"] = value;
    } else if (key == "shell working directory" && !value.empty()) {
      way.settings["rdp.folder"] = value;
    } else if (key == "administrative session" &&
               problemWith(*findSetting("rdp.admin"), value == "1" ? "on" : "off").empty()) {
      way.settings["rdp.admin"] = value == "1" ? "on" : "off";
    } else if (key == "screen mode id") {
      way.settings["screen.open"] = value == "2" ? "full" : "pane";
    } else if (key == "use multimon") {
      way.settings["screen.screens"] = value == "1" ? "monitors" : "asis";
    } else if (key == "smart sizing") {
      way.settings["screen.fit"] = value == "1" ? "shrink" : "actual";
    } else {
      kept += line + "\n";
    }
  }
  if (address.host.empty()) throw Error(ErrorKind::Local, "it names no \"full address\"", fileName);
  if (!width.empty() && !height.empty()) way.settings["rdp.size"] = width + "x" + height;
  std::erase_if(way.settings, [](const auto& s) {
    const Setting* declared = findSetting(s.first);
    return declared == nullptr || !problemWith(*declared, s.second).empty();
  });
  way.address = address.uri();
  if (!kept.empty()) {
    const std::string whole = "rdp\n" + kept;
    if (problemWith(*findSetting("file.kept"), whole).empty())
      way.settings["file.kept"] = whole;
    else
      out.remarks.push_back("its other lines are too many to be kept");
  }
  e.ways.push_back(std::move(way));
  out.entries.push_back(std::move(e));
  return out;
}

std::string write(const std::vector<Entry>& entries) {
  for (const Entry& e : entries)
    for (const EntryWay& way : e.ways) {
      const Address a = parseAddress(way.address);
      if (a.scheme != "rdp") continue;
      const auto set = [&](const char* key) {
        const auto found = way.settings.find(key);
        return found == way.settings.end() ? std::string() : found->second;
      };
      std::string out =
          "full address:s:" + a.host + (a.port == 3389 ? "" : ":" + std::to_string(a.port)) + "\r\n";
      if (!a.user.empty()) out += "username:s:" + a.user + "\r\n";
      if (const std::string v = set("rdp.domain"); !v.empty()) out += "domain:s:" + v + "\r\n";
      if (const std::string v = set("rdp.size"); !v.empty())
        out += "desktopwidth:i:" + v.substr(0, v.find('x')) +
               "\r\ndesktopheight:i:" + v.substr(v.find('x') + 1) + "\r\n";
      if (const std::string v = set("screen.colours"); !v.empty()) out += "session bpp:i:" + v + "\r\n";
      if (const std::string v = set("clipboard.way"); !v.empty())
        out += "redirectclipboard:i:" + std::string(v == "off" ? "0" : "1") + "\r\n";
      if (const std::string v = set("sound.play"); !v.empty())
        out += "audiomode:i:" + std::string(v == "on" ? "0" : v == "there" ? "1" : "2") + "\r\n";
      if (const std::string v = set("rdp.program"); !v.empty()) out += "alternate shell:s:" + v + "\r\n";
      if (const std::string v = set("rdp.folder"); !v.empty())
        out += "shell working directory:s:" + v + "\r\n";
      if (const std::string v = set("rdp.admin"); !v.empty())
        out += "administrative session:i:" + std::string(v == "on" ? "1" : "0") + "\r\n";
      if (const std::string v = set("screen.open"); !v.empty())
        out += "screen mode id:i:" + std::string(v == "full" ? "2" : "1") + "\r\n";
      if (const std::string v = set("screen.screens"); !v.empty())
        out += "use multimon:i:" + std::string(v == "monitors" ? "1" : "0") + "\r\n";
      if (const std::string v = set("screen.fit"); !v.empty())
        out += "smart sizing:i:" + std::string(v == "actual" ? "0" : "1") + "\r\n";
      for (const std::string& line : linesOf(keptLines(way.settings, "rdp"))) out += line + "\r\n";
      return out;
    }
  throw Error(ErrorKind::Local, "none of the machines has a way in that such a file can hold");
}

}  // namespace

const Kind rdpKind{"rdp", "remote desktop file", ".rdp", looksLike, read, write};

}  // namespace kw::exchange
