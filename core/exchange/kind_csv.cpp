// Tables (RFC 4180), as spreadsheets write them: comma, semicolon or tab, quotes with line breaks inside,
// columns found by their names.
#include <map>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "exchange/exchange.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"

namespace kw::exchange {

namespace {

struct Row {
  std::vector<std::string> cells;
  int line = 0;  ///< where it begins, from 1
};

/// What is most of the first line's; a semicolon or tab beats a comma only when there are more of them.
char separatorOf(const std::string& text) {
  const std::string first = text.substr(0, text.find('\n'));
  char best = ',';
  auto most = std::count(first.begin(), first.end(), ',');
  for (const char c : {';', '\t'})
    if (const auto n = std::count(first.begin(), first.end(), c); n > most) best = c, most = n;
  return best;
}

std::vector<Row> rowsOf(const std::string& text) {
  const char separator = separatorOf(text);
  std::vector<Row> out;
  Row row;
  std::string cell;
  bool quoted = false, any = false;
  int line = 1;
  row.line = 1;
  const auto endCell = [&] {
    row.cells.push_back(std::exchange(cell, {}));
    any = true;
  };
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c == '"' && i + 1 < text.size() && text[i + 1] == '"')
        cell += text[++i];
      else if (c == '"')
        quoted = false;
      else
        cell += c;
      if (c == '\n') ++line;
    } else if (c == '"' && cell.empty()) {
      quoted = true;
    } else if (c == separator) {
      endCell();
    } else if (c == '\n') {
      ++line;
      if (any || !cell.empty()) {
        endCell();
        out.push_back(std::exchange(row, {}));
      }
      row.line = line;
      any = false;
    } else {
      cell += c;
    }
  }
  if (quoted)
    throw Error(ErrorKind::Local,
                "a quote that begins before line " + std::to_string(line) + " is not closed");
  if (any || !cell.empty()) {
    endCell();
    out.push_back(std::move(row));
  }
  return out;
}

enum Column { kName, kGroup, kAddress, kProtocol, kPort, kUser, kHost, kTags, kNotes, kColumns };

/// Names that people give columns, in lower case.
int columnOf(const std::string& heading) {
  static const std::map<std::string, Column> names{
      {"name", kName},        {"machine", kName},     {"title", kName},        {"label", kName},
      {"vm", kName},          {"group", kGroup},      {"folder", kGroup},      {"place", kGroup},
      {"site", kGroup},       {"path", kGroup},       {"address", kAddress},   {"uri", kAddress},
      {"url", kAddress},      {"hostname", kAddress}, {"ip", kAddress},        {"ip address", kAddress},
      {"fqdn", kAddress},     {"server", kAddress},   {"protocol", kProtocol}, {"kind", kProtocol},
      {"type", kProtocol},    {"port", kPort},        {"user", kUser},         {"username", kUser},
      {"account", kUser},     {"login", kUser},       {"host", kHost},         {"hypervisor", kHost},
      {"tags", kTags},        {"labels", kTags},      {"notes", kNotes},       {"comment", kNotes},
      {"description", kNotes}};
  const auto found = names.find(lowered(trimmed(heading)));
  return found == names.end() ? -1 : found->second;
}

bool looksLike(const std::string& text) {
  const std::string first = text.substr(0, text.find('\n'));
  int known = 0;
  try {
    const auto rows = rowsOf(first);
    if (rows.empty()) return false;
    for (const std::string& cell : rows[0].cells) known += columnOf(cell) >= 0 ? 1 : 0;
  } catch (const Error&) {
    return false;
  }
  return known >= 2;
}

Read read(const std::string& text, const std::string& fileName) {
  const std::vector<Row> rows = rowsOf(text);
  if (rows.empty()) throw Error(ErrorKind::Local, "it is empty", fileName);
  std::map<int, std::size_t> at;
  for (std::size_t i = 0; i < rows[0].cells.size(); ++i)
    if (const int column = columnOf(rows[0].cells[i]); column >= 0) at.emplace(column, i);
  // A table with "host" and no address column means the address by it.
  if (!at.contains(kAddress) && at.contains(kHost)) {
    at[kAddress] = at[kHost];
    at.erase(kHost);
  }
  if (!at.contains(kName) || !at.contains(kAddress))
    throw Error(ErrorKind::Local, "its first line names no column for name and address", fileName)
        .withCure("Name them: name,group,address,host,tags,notes");
  Read out;
  std::map<std::pair<std::string, std::string>, std::size_t> known;
  for (std::size_t r = 1; r < rows.size(); ++r) {
    const auto cell = [&](int column) {
      const auto found = at.find(column);
      return found == at.end() || found->second >= rows[r].cells.size()
                 ? std::string()
                 : trimmed(rows[r].cells[found->second]);
    };
    const std::string where = "line " + std::to_string(rows[r].line);
    Entry e;
    e.name = cell(kName);
    e.group = cell(kGroup);
    e.host = cell(kHost);
    e.tags = cell(kTags);
    e.notes = cell(kNotes);
    e.from = fileName + " " + where;
    if (e.name.empty()) {
      out.remarks.push_back(where + ": no name, passed over");
      continue;
    }
    try {
      std::string address = cell(kAddress);
      const std::string protocol = lowered(cell(kProtocol));
      if (address.empty()) {
        out.remarks.push_back(where + ": no address, passed over");
        continue;
      }
      if (address.find("://") == std::string::npos && address.find(":/") == std::string::npos &&
          address[0] != '/') {
        const std::string user = cell(kUser), port = cell(kPort);
        address = (protocol.empty() ? "vnc" : protocol) + "://" + (user.empty() ? "" : user + "@") + address +
                  (port.empty() ? "" : ":" + port);
      }
      EntryWay way;
      way.address = parseAddress(address).uri();
      // Rows of one name in one group are ways into one machine.
      const auto [same, fresh] = known.try_emplace({e.group, e.name}, out.entries.size());
      if (!fresh && out.entries[same->second].ways.size() < 32) {
        out.entries[same->second].ways.push_back(std::move(way));
        continue;
      }
      e.ways.push_back(std::move(way));
    } catch (const Error& error) {
      out.remarks.push_back(where + ": " + error.what() + ", passed over");
      continue;
    }
    out.entries.push_back(std::move(e));
  }
  return out;
}

std::string field(const std::string& text) {
  // A cell that a spreadsheet would take for a formula is told apart by its quotes alone; our reader needs
  // none.
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

std::string write(const std::vector<Entry>& entries) {
  std::string out = "name,group,address,host,tags,notes\r\n";
  for (const Entry& e : entries)
    for (const EntryWay& way : e.ways)
      out += field(e.name) + "," + field(e.group) + "," + field(way.address) + "," + field(e.host) + "," +
             field(e.tags) + "," + field(e.notes) + "\r\n";
  return out;
}

}  // namespace

const Kind csvKind{"csv", "table (CSV)", ".csv", looksLike, read, write};

}  // namespace kw::exchange
