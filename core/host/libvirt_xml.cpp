#include "host/libvirt_xml.hpp"

#include <pugixml.hpp>
#include <sstream>

#include "base/error.hpp"

namespace kw::host {

namespace {

constexpr std::size_t kMostXml = std::size_t{4} << 20;
constexpr int kMostDevices = 64;

pugi::xml_document parsed(const std::string& xml) {
  if (xml.size() > kMostXml) protocolBroken("a domain's XML", "it is longer than 4 MiB");
  pugi::xml_document doc;
  const auto result = doc.load_buffer(xml.data(), xml.size(), pugi::parse_default, pugi::encoding_utf8);
  if (!result) protocolBroken("a domain's XML", result.description());
  if (!doc.child("domain")) protocolBroken("a domain's XML", "it is no domain");
  return doc;
}

/// "KiB", "MiB", … to MiB; libvirt's standard unit is KiB.
int mebibytes(const pugi::xml_node& memory) {
  const double value = memory.text().as_double();
  const std::string unit = memory.attribute("unit").as_string("KiB");
  const double bytes = unit == "b" || unit == "bytes" ? value
                       : unit == "KiB" || unit == "k" ? value * 1024
                       : unit == "MiB" || unit == "M" ? value * 1048576
                       : unit == "GiB" || unit == "G" ? value * 1073741824
                       : unit == "TiB" || unit == "T" ? value * 1099511627776
                                                      : value * 1024;
  return static_cast<int>(std::min(bytes / 1048576, 1e9));
}

int portFrom(const pugi::xml_attribute& attribute) {
  const int port = attribute.as_int(0);
  return port > 0 && port < 65536 ? port : 0;
}

ConsoleFacts consoleFrom(const pugi::xml_node& graphics, int screens) {
  ConsoleFacts c;
  c.scheme = graphics.attribute("type").as_string();
  c.port = portFrom(graphics.attribute("port"));
  c.tlsPort = portFrom(graphics.attribute("tlsPort"));
  c.automatic = std::string(graphics.attribute("autoport").as_string()) == "yes";
  c.password = !std::string(graphics.attribute("passwd").as_string()).empty();
  c.listen = graphics.attribute("listen").as_string();
  c.socket = graphics.attribute("socket").as_string();
  for (const pugi::xml_node& listen : graphics.children("listen")) {
    if (const std::string address = listen.attribute("address").as_string(); !address.empty())
      c.listen = address;
    if (const std::string path = listen.attribute("socket").as_string(); !path.empty()) c.socket = path;
  }
  c.screens = screens;
  return c;
}

/// A serial device as the address of a way in; empty when it cannot be reached now.
std::string serialAddress(const pugi::xml_node& serial) {
  const std::string type = serial.attribute("type").as_string();
  const pugi::xml_node source = serial.child("source");
  const std::string path = source.attribute("path").as_string();
  if (type == "pty" || type == "dev") return path.empty() ? "" : "serial:" + path;
  if (type == "unix")
    return path.empty() || std::string(source.attribute("mode").as_string()) == "connect" ? ""
                                                                                          : "unix:" + path;
  if (type == "tcp" && std::string(source.attribute("mode").as_string()) == "bind") {
    const bool telnet = std::string(serial.child("protocol").attribute("type").as_string()) == "telnet";
    return std::string(telnet ? "telnet" : "tcp") + "://" + source.attribute("host").as_string() + ":" +
           source.attribute("service").as_string();
  }
  return {};
}

pugi::xml_node graphicsOf(pugi::xml_document& doc, const std::string& scheme) {
  for (pugi::xml_node g : doc.child("domain").child("devices").children("graphics"))
    if (scheme == g.attribute("type").as_string()) return g;
  throw Error(ErrorKind::Unsupported, "this machine has no console by " + scheme);
}

void setAttribute(pugi::xml_node node, const char* name, const std::string& value) {
  auto attribute = node.attribute(name);
  if (!attribute) attribute = node.append_attribute(name);
  attribute.set_value(value.c_str());
}

std::string printed(const pugi::xml_node& node) {
  std::ostringstream out;
  node.print(out, "", pugi::format_raw);
  return out.str();
}

}  // namespace

void readDomainXml(const std::string& xml, StockMachine& m) {
  const pugi::xml_document doc = parsed(xml);
  const pugi::xml_node domain = doc.child("domain");
  m.name = domain.child("name").text().as_string();
  m.id = domain.child("uuid").text().as_string();
  m.title = domain.child("title").text().as_string();
  m.memory = mebibytes(domain.child("memory"));
  m.processors = domain.child("vcpu").text().as_int(0);
  const pugi::xml_node devices = domain.child("devices");
  int screens = 0;
  for (const pugi::xml_node& video : devices.children("video"))
    screens += std::clamp(video.child("model").attribute("heads").as_int(1), 1, 16);
  m.consoles.clear();
  for (const pugi::xml_node& g : devices.children("graphics")) {
    if (m.consoles.size() >= kMostDevices) break;
    m.consoles.push_back(consoleFrom(g, std::clamp(screens, 1, 64)));
  }
  m.serials.clear();
  int number = 0;
  for (const pugi::xml_node& s : devices.children("serial")) {
    if (number >= kMostDevices) break;
    m.serials.push_back({"serial" + std::to_string(number++), serialAddress(s)});
  }
  m.agent = false;
  for (const pugi::xml_node& channel : devices.children("channel")) {
    const pugi::xml_node target = channel.child("target");
    if (std::string(target.attribute("name").as_string()) == "org.qemu.guest_agent.0")
      m.agent = std::string(target.attribute("state").as_string()) == "connected";
  }
}

std::string graphicsWithPassword(const std::string& xml, const std::string& scheme,
                                 const std::string& password) {
  pugi::xml_document doc = parsed(xml);
  pugi::xml_node g = graphicsOf(doc, scheme);
  setAttribute(g, "passwd", password);
  g.remove_attribute("passwdValidTo");
  return printed(g);
}

std::string graphicsWithPlace(const std::string& xml, const std::string& scheme, std::optional<int> port,
                              const std::optional<std::string>& listen) {
  pugi::xml_document doc = parsed(xml);
  pugi::xml_node g = graphicsOf(doc, scheme);
  if (port) {
    setAttribute(g, "port", *port == 0 ? "-1" : std::to_string(*port));
    setAttribute(g, "autoport", *port == 0 ? "yes" : "no");
  }
  if (listen) {
    setAttribute(g, "listen", *listen);
    while (g.remove_child("listen")) {
    }
    pugi::xml_node child = g.append_child("listen");
    setAttribute(child, "type", "address");
    setAttribute(child, "address", *listen);
  }
  return printed(g);
}

std::string serialDeviceXml(const std::string& path) {
  pugi::xml_document doc;
  pugi::xml_node serial = doc.append_child("serial");
  setAttribute(serial, "type", "unix");
  pugi::xml_node source = serial.append_child("source");
  setAttribute(source, "mode", "bind");
  setAttribute(source, "path", path);
  return printed(serial);
}

}  // namespace kw::host
