#include "desktop/hosts/stock_model.hpp"

#include <QDateTime>

#include "base/bytes.hpp"

namespace kw::desktop {

namespace {

QString text(const std::string& s) { return QString::fromStdString(s); }

std::string haystackOf(const host::StockRow& row, const QString& record) {
  const host::StockMachine& m = row.machine;
  std::string out = m.name + '\n' + m.title + '\n' + m.id + '\n' + host::nameOf(m.state);
  for (const std::string& a : m.addresses) out += '\n' + a;
  for (const auto& c : m.consoles) out += '\n' + c.scheme + ' ' + std::to_string(c.port);
  for (const auto& s : m.serials) out += '\n' + s.address;
  return lowered(out + '\n' + record.toStdString());
}

bool fits(const host::StockRow& row, StockFilter filter) {
  switch (filter) {
    case StockFilter::All: return true;
    case StockFilter::Running: return !row.gone && row.machine.state == host::Running::On;
    case StockFilter::NotInRoster: return row.record == 0;
    case StockFilter::Differ: return !row.drift.empty();
  }
  return true;
}

}  // namespace

QString consoleWords(const host::ConsoleFacts& c) {
  if (c.byId) return StockModel::tr("%1 by ID %2").arg(text(c.scheme)).arg(c.port);
  if (!c.socket.empty()) return StockModel::tr("%1 at a socket").arg(text(c.scheme));
  if (c.port == 0 && c.tlsPort == 0)
    return c.automatic ? StockModel::tr("%1 when started").arg(text(c.scheme))
                       : StockModel::tr("%1, no port").arg(text(c.scheme));
  return QString("%1 %2").arg(text(c.scheme)).arg(c.port != 0 ? c.port : c.tlsPort);
}

State stateOf(const host::StockRow& row) {
  if (row.gone) return State::NeverReached;
  switch (row.machine.state) {
    case host::Running::On: return State::NotAnswering;  // running says nothing about answering
    case host::Running::Off: return State::Off;
    case host::Running::Paused:
    case host::Running::Stopping: return State::Starting;
    case host::Running::Crashed: return State::Trouble;
    case host::Running::Unknown: break;
  }
  return State::NeverReached;
}

QString stateWords(const host::StockRow& row) {
  if (row.gone) return StockModel::tr("gone");
  switch (row.machine.state) {
    case host::Running::On: return StockModel::tr("running");
    case host::Running::Off: return StockModel::tr("off");
    case host::Running::Paused: return StockModel::tr("paused");
    case host::Running::Stopping: return StockModel::tr("shutting down");
    case host::Running::Crashed: return StockModel::tr("crashed");
    case host::Running::Unknown: break;
  }
  return StockModel::tr("not told");
}

QString sinceWords(const std::string& since) {
  const QDateTime at = QDateTime::fromString(text(since), Qt::ISODate);
  if (!at.isValid()) return {};
  const qint64 seconds = at.secsTo(QDateTime::currentDateTimeUtc());
  if (seconds < 60) return StockModel::tr("1 min");
  if (seconds < 3600) return StockModel::tr("%1 min").arg(seconds / 60);
  if (seconds < 48 * 3600) return StockModel::tr("%1 h").arg(seconds / 3600);
  return StockModel::tr("%1 d").arg(seconds / 86400);
}

void StockModel::setStock(const std::map<Id, Hosts::Watched>& hosts, const Snapshot& records) {
  hosts_.clear();
  lines_.clear();
  recordNames_.clear();
  for (const auto& [id, w] : hosts) {
    HostLine h;
    h.id = id;
    h.name = text(w.record.name);
    const auto rows = host::stockRows(records, Hosts::placeOf(w), *w.view.stock);
    switch (w.view.stage) {
      case host::HostStage::Live:
        h.state = State::Answering;
        h.words = tr("%1 · %n machines", nullptr, static_cast<int>(w.view.stock->size()))
                      .arg(text(w.view.description) + (w.view.sealed ? QString() : tr(" · plain line")));
        break;
      case host::HostStage::Waiting:
        h.state = State::Trouble;
        h.words = text(w.view.sentence) + (w.view.cure.empty() ? "" : " " + text(w.view.cure));
        break;
      default:
        h.state = w.problem.isEmpty() ? State::Starting : State::Trouble;
        h.words = w.problem.isEmpty() ? tr("connecting…") : w.problem;
    }
    hosts_.push_back(std::move(h));
    for (const host::StockRow& row : rows) {
      StockLine line;
      line.host = id;
      line.row = row;
      QString record;
      if (row.record != 0) {
        const Machine& m = records.machines.at(row.record);
        const auto path = records.pathOf(m.folder);
        record = path.empty() ? text(m.name) : text(path.back()->name);
        recordNames_[row.record] = record;
      }
      line.haystack = haystackOf(row, record);
      lines_.push_back(std::move(line));
    }
  }
  arrange();
}

void StockModel::setNarrow(const QString& words) {
  narrow_ = lowered(words.trimmed().toStdString());
  arrange();
}

void StockModel::setFilter(StockFilter filter) {
  filter_ = filter;
  arrange();
}

void StockModel::sort(int column, Qt::SortOrder order) {
  sortColumn_ = column;
  sortOrder_ = order;
  arrange();
}

int StockModel::count(StockFilter filter) const {
  return static_cast<int>(
      std::count_if(lines_.begin(), lines_.end(), [&](const StockLine& l) { return fits(l.row, filter); }));
}

void StockModel::arrange() {
  beginResetModel();
  shown_.clear();
  std::size_t at = 0;
  for (std::size_t h = 0; h < hosts_.size(); ++h) {
    shown_.push_back(-1 - static_cast<int>(h));
    const auto first = static_cast<std::ptrdiff_t>(shown_.size());
    for (; at < lines_.size() && lines_[at].host == hosts_[h].id; ++at)
      if (fits(lines_[at].row, filter_) &&
          (narrow_.empty() || lines_[at].haystack.find(narrow_) != std::string::npos))
        shown_.push_back(static_cast<int>(at));
    if (sortColumn_ != kMachine || sortOrder_ != Qt::AscendingOrder)
      std::stable_sort(shown_.begin() + first, shown_.end(), [&](int a, int b) {
        const auto key = [&](int i) {
          return machineData(lines_[static_cast<std::size_t>(i)], sortColumn_, Qt::DisplayRole).toString();
        };
        const int order = key(a).compare(key(b), Qt::CaseInsensitive);
        return sortOrder_ == Qt::AscendingOrder ? order < 0 : order > 0;
      });
    // Narrowed to nothing: the host's line says no more than that it has none.
    if (!narrow_.empty() && static_cast<std::ptrdiff_t>(shown_.size()) == first) shown_.pop_back();
  }
  endResetModel();
}

const StockLine* StockModel::line(int row) const {
  if (row < 0 || row >= static_cast<int>(shown_.size())) return nullptr;
  const int at = shown_[static_cast<std::size_t>(row)];
  return at < 0 ? nullptr : &lines_[static_cast<std::size_t>(at)];
}

int StockModel::rowOf(const std::string& id) const {
  for (int row = 0; row < static_cast<int>(shown_.size()); ++row)
    if (const StockLine* l = line(row); l != nullptr && l->row.machine.id == id) return row;
  return -1;
}

int StockModel::rowCount(const QModelIndex& parent) const {
  return parent.isValid() ? 0 : static_cast<int>(shown_.size());
}
int StockModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : kColumns; }

QVariant StockModel::headerData(int section, Qt::Orientation orientation, int role) const {
  if (orientation != Qt::Horizontal || role != Qt::DisplayRole) return {};
  const QString names[] = {tr("Machine"), tr("State"), tr("Console"), tr("Address"), tr("ID"), tr("Record")};
  return names[section];
}

QVariant StockModel::data(const QModelIndex& index, int role) const {
  if (!index.isValid()) return {};
  const int at = shown_[static_cast<std::size_t>(index.row())];
  return at < 0 ? hostData(hosts_[static_cast<std::size_t>(-1 - at)], index.column(), role)
                : machineData(lines_[static_cast<std::size_t>(at)], index.column(), role);
}

QVariant StockModel::hostData(const HostLine& h, int column, int role) const {
  if (column != 0) return {};
  if (role == Qt::DisplayRole) return h.name;
  if (role == kSecondLine || role == Qt::ToolTipRole) return h.words;
  if (role == kGlyph) return static_cast<int>(h.state);
  return {};
}

QVariant StockModel::machineData(const StockLine& line, int column, int role) const {
  const host::StockMachine& m = line.row.machine;
  const bool first = role == Qt::DisplayRole, second = role == kSecondLine;
  switch (column) {
    case kMachine:
      if (first) return text(m.name);
      if (second && m.title != m.name) return text(m.title);
      break;
    case kState:
      if (first) return stateWords(line.row);
      if (second) return line.row.gone ? QString() : m.reason.empty() ? sinceWords(m.since) : text(m.reason);
      if (role == kGlyph) return static_cast<int>(stateOf(line.row));
      break;
    case kConsole:
      if (first) return m.consoles.empty() ? QStringLiteral("—") : consoleWords(m.consoles.front());
      if (second) {
        QStringList more;
        for (std::size_t i = 1; i < m.consoles.size(); ++i) more << consoleWords(m.consoles[i]);
        if (!m.consoles.empty() && m.consoles.front().screens > 1)
          more << tr("%n screens", nullptr, m.consoles.front().screens);
        if (!m.consoles.empty() && m.consoles.front().password) more << tr("password set");
        for (const auto& s : m.serials)
          more << (s.address.empty() ? tr("serial, when started") : tr("serial"));
        return more.join(" · ");
      }
      break;
    case kAddress:
      if (first) return m.addresses.empty() ? QStringLiteral("—") : text(m.addresses.front());
      if (second) return text(m.addressesFrom);
      break;
    case kId:
      if (first || role == Qt::ToolTipRole) return text(m.id);
      break;
    case kRecord:
      if (first) {
        if (line.row.record == 0) return tr("not in the roster");
        return line.row.drift.empty() ? recordNames_.at(line.row.record)
                                      : text(line.row.drift.front().sentence);
      }
      if (second)
        return line.row.drift.empty() || line.row.record == 0 ? QString() : recordNames_.at(line.row.record);
      if (role == kCure)
        return line.row.record == 0     ? tr("adopt")
               : line.row.drift.empty() ? QString()
                                        : text(line.row.drift.front().cure);
      if (role == kTone) return line.row.record == 0 ? 1 : line.row.drift.empty() ? 1 : 2;
      break;
    default: break;
  }
  if (role == kTone) return line.row.gone || m.state == host::Running::Off ? 1 : 0;
  if (role == Qt::ToolTipRole && column == kRecord && !line.row.drift.empty()) {
    QStringList all;
    for (const host::Drift& d : line.row.drift) all << text(d.sentence);
    return all.join('\n');
  }
  return {};
}

}  // namespace kw::desktop
