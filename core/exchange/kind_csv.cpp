// Tables (RFC 4180), as spreadsheets write them: comma, semicolon or tab, quotes with line breaks inside,
// columns found by their names or by what is in them.
#include <algorithm>
#include <functional>
#include <map>
#include <utility>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "exchange/table.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"

namespace kw::exchange {

namespace {

/// What is most of the first line's; a semicolon or tab beats a comma only when there are more of them.
char separatorOf(const std::string& text) {
  const std::string first = text.substr(0, text.find('\n'));
  char best = ',';
  auto most = std::count(first.begin(), first.end(), ',');
  for (const char c : {';', '\t'})
    if (const auto n = std::count(first.begin(), first.end(), c); n > most) best = c, most = n;
  return best;
}

std::vector<TableRow> rowsOf(const std::string& text) {
  const char separator = separatorOf(text);
  std::vector<TableRow> out;
  TableRow row;
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

/// Names that people give columns, in lower case; empty for one that says nothing.
std::string fieldOf(const std::string& heading) {
  static const std::map<std::string, std::string> names{
      {"name", "name"},        {"machine", "name"},     {"title", "name"},        {"label", "name"},
      {"vm", "name"},          {"group", "group"},      {"folder", "group"},      {"place", "group"},
      {"site", "group"},       {"path", "group"},       {"address", "address"},   {"uri", "address"},
      {"url", "address"},      {"hostname", "address"}, {"ip", "address"},        {"ip address", "address"},
      {"fqdn", "address"},     {"server", "address"},   {"protocol", "protocol"}, {"kind", "protocol"},
      {"type", "protocol"},    {"port", "port"},        {"user", "user"},         {"username", "user"},
      {"account", "user"},     {"login", "user"},       {"host", "host"},         {"hypervisor", "host"},
      {"tags", "tags"},        {"labels", "tags"},      {"notes", "notes"},       {"comment", "notes"},
      {"description", "notes"}};
  const auto found = names.find(lowered(trimmed(heading)));
  return found == names.end() ? "" : found->second;
}

TableColumns columnsByName(const std::vector<std::string>& headings) {
  TableColumns out;
  for (std::size_t i = 0; i < headings.size(); ++i)
    if (const std::string field = fieldOf(headings[i]); !field.empty()) out.emplace(field, i);
  // A table with "host" and no address column means the address by it.
  if (!out.contains("address") && out.contains("host")) {
    out["address"] = out["host"];
    out.erase("host");
  }
  return out;
}

bool looksLikeAddress(const std::string& cell) {
  const bool digits = cell.find_first_of("0123456789") != std::string::npos;
  if (cell.find("://") == std::string::npos && (!digits || cell.find_first_of(".:") == std::string::npos))
    return false;
  if (cell.find(' ') != std::string::npos) return false;
  try {
    parseAddress(cell);
    return true;
  } catch (const Error&) {
    return false;
  }
}

/// Without headings: the first column of addresses is the address, the first of other words the name.
TableColumns columnsByContents(const std::vector<TableRow>& rows) {
  TableColumns out;
  const std::size_t looked = std::min<std::size_t>(rows.size(), 20);
  for (std::size_t c = 0; looked > 0 && c < rows[0].cells.size(); ++c) {
    std::size_t addresses = 0, words = 0;
    for (std::size_t r = 0; r < looked; ++r) {
      const std::string cell = c < rows[r].cells.size() ? trimmed(rows[r].cells[c]) : "";
      if (looksLikeAddress(cell))
        ++addresses;
      else if (!cell.empty())
        ++words;
    }
    if (addresses * 2 > looked) out.emplace("address", c);
    if (words * 2 > looked) out.emplace("name", c);
  }
  return out;
}

bool looksLike(const std::string& text) {
  try {
    const auto rows = rowsOf(text.substr(0, text.find('\n')));
    return !rows.empty() && columnsByName(rows[0].cells).size() >= 2;
  } catch (const Error&) {
    return false;
  }
}

Read read(const std::string& text, const std::string& fileName) {
  const Table table = tableOf(text);
  if (table.headings.empty()) throw Error(ErrorKind::Local, "it is empty", fileName);
  return readTable(table, table.found, fileName);
}

/// The address of a row, put together from the columns that say parts of it.
std::string addressOf(const std::function<std::string(const char*)>& cell) {
  std::string address = cell("address");
  if (address.find("://") != std::string::npos || address.find(":/") != std::string::npos ||
      address[0] == '/')
    return address;
  const std::string protocol = lowered(cell("protocol")), user = cell("user"), port = cell("port");
  const std::string scheme = protocol.empty() ? allWayKinds().front().name : protocol;
  return scheme + "://" + (user.empty() ? "" : user + "@") + address + (port.empty() ? "" : ":" + port);
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

const std::vector<TableField>& tableFields() {
  static const std::vector<TableField> fields{
      {"name", "Name"},  {"address", "Address"}, {"group", "Place and group"}, {"protocol", "Kind of way in"},
      {"port", "Port"},  {"user", "User"},       {"host", "Runs on host"},     {"tags", "Tags"},
      {"notes", "Notes"}};
  return fields;
}

bool isEnough(const TableColumns& columns) { return columns.contains("name") && columns.contains("address"); }

Table tableOf(const std::string& text) {
  Table out;
  out.rows = rowsOf(text);
  if (out.rows.empty()) return out;
  out.found = columnsByName(out.rows[0].cells);
  const bool anyAddress = std::any_of(out.rows[0].cells.begin(), out.rows[0].cells.end(), looksLikeAddress);
  if (!anyAddress || out.found.size() >= 2) {
    out.headings = out.rows[0].cells;
    out.rows.erase(out.rows.begin());
    return out;
  }
  for (std::size_t i = 0; i < out.rows[0].cells.size(); ++i)
    out.headings.push_back("column " + std::to_string(i + 1));
  out.found = columnsByContents(out.rows);
  return out;
}

Read readTable(const Table& table, const TableColumns& columns, const std::string& fileName) {
  if (!isEnough(columns))
    throw Error(ErrorKind::Local, "its first line names no column for name and address", fileName)
        .withCure("Name them: name,group,address,host,tags,notes");
  Read out;
  std::map<std::pair<std::string, std::string>, std::size_t> known;
  for (const TableRow& row : table.rows) {
    const std::function<std::string(const char*)> cell = [&](const char* field) {
      const auto found = columns.find(field);
      return found == columns.end() || found->second >= row.cells.size() ? std::string()
                                                                         : trimmed(row.cells[found->second]);
    };
    const std::string where = "line " + std::to_string(row.line);
    Entry e;
    e.name = cell("name");
    e.group = cell("group");
    e.host = cell("host");
    e.tags = cell("tags");
    e.notes = cell("notes");
    e.from = fileName + " " + where;
    if (e.name.empty() || cell("address").empty()) {
      out.remarks.push_back(where +
                            (e.name.empty() ? ": no name, passed over" : ": no address, passed over"));
      continue;
    }
    try {
      EntryWay way;
      way.address = parseAddress(addressOf(cell)).uri();
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

const Kind csvKind{"csv", "table (CSV)", ".csv", looksLike, read, write};

}  // namespace kw::exchange
