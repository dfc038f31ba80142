#include "desktop/roster/roster.hpp"
#include "desktop/app/counts.hpp"

#include <QAccessible>
#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollBar>
#include <QToolTip>
#include <set>

#include "desktop/look/theme.hpp"
#include "desktop/roster/roster_accessible.hpp"
#include "desktop/roster/roster_parts.hpp"
#include "record/catalogue.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

RosterList::RosterList(QWidget* parent) : QAbstractScrollArea(parent) {
  // Its rows are announced by number, which only its own interface knows.
  installRosterAccessibility();
  setFrameShape(QFrame::NoFrame);
  setFocusPolicy(Qt::StrongFocus);
  setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  viewport()->setMouseTracking(true);
  viewport()->setAutoFillBackground(false);
  setAccessibleName(tr("Machines"));
  verticalScrollBar()->setSingleStep(kMachineHeight);
  // Checks come in many at a time; the list is put in order after them, not with each.
  regroup_.setSingleShot(true);
  regroup_.setInterval(400);
  connect(&regroup_, &QTimer::timeout, this, [this] {
    if (groupBy_ == GroupBy::State) rebuild();
  });
}

void RosterList::setSnapshot(std::shared_ptr<const Snapshot> snapshot, bool loaded) {
  loaded_ = loaded;
  snapshot_ = std::move(snapshot);
  rebuild();
}

void RosterList::setGroupBy(GroupBy by) {
  groupBy_ = by;
  rebuild();
}

void RosterList::statesChanged() {
  viewport()->update();
  if (groupBy_ == GroupBy::State && !regroup_.isActive()) regroup_.start();
}

Id RosterList::selectedFolder() const {
  if (!snapshot_) return 0;
  const auto found = snapshot_->machines.find(selected_);
  return found == snapshot_->machines.end() ? 0 : found->second.folder;
}

int RosterList::selectedRow() const {
  for (std::size_t i = 0; i < shown_.size(); ++i)
    if (!shown_[i].heading && shown_[i].machine == selected_ && selected_ != 0) return static_cast<int>(i);
  return -1;
}

QRect RosterList::rowRectAt(int row) const { return rectOf(static_cast<std::size_t>(row)).toRect(); }

QString RosterList::spokenRow(int row) const {
  const RosterRow& r = shown_[static_cast<std::size_t>(row)];
  if (r.heading) return tr("%1, %2").arg(QString::fromStdString(r.title), machineCount(r.count));
  const auto found = snapshot_->machines.find(r.machine);
  if (found == snapshot_->machines.end()) return {};
  const MachineNow now = now_ ? now_(found->second) : MachineNow{};
  QStringList ways;
  for (const Endpoint* e : snapshot_->endpointsOf(r.machine)) ways << chipText(*e);
  return tr("%1, %2, %3; ways in: %4")
      .arg(QString::fromStdString(found->second.name), wordsFor(now.state), now.sentence, ways.join(", "));
}

void RosterList::rebuild() {
  if (!snapshot_) return;
  index_ = RosterIndex(snapshot_, groupBy_, [this](const Machine& m) {
    // What needs somebody stands first.
    static constexpr State kOrder[] = {State::Trouble,      State::Answering, State::Starting,
                                       State::NotAnswering, State::Off,       State::NeverReached};
    const State state = now_ ? now_(m).state : State::NeverReached;
    const auto rank = std::find(std::begin(kOrder), std::end(kOrder), state) - std::begin(kOrder);
    return RosterState{static_cast<int>(rank), wordsFor(state).toStdString()};
  });
  index_.narrow(text_.toStdString());
  if (!snapshot_->machines.contains(selected_)) selected_ = 0;
  std::erase_if(chosen_, [this](Id id) { return !snapshot_->machines.contains(id); });
  place();
}

void RosterList::narrow(const QString& text) {
  text_ = text;
  index_.narrow(text.toStdString());
  place();
}

/// Works out which rows show (folded groups do not) and where.
void RosterList::place() {
  shown_.clear();
  tops_.clear();
  bool hidden = false;
  int y = 4;
  for (const RosterRow& row : index_.rows()) {
    if (row.heading) hidden = text_.isEmpty() && folded_.contains(row.title);
    if (hidden && !row.heading) continue;
    shown_.push_back(row);
    tops_.push_back(y);
    y += row.heading ? kHeadingHeight : kMachineHeight;
  }
  tops_.push_back(y);
  verticalScrollBar()->setPageStep(viewport()->height());
  verticalScrollBar()->setRange(0, std::max(0, y - viewport()->height()));
  viewport()->update();
  emit visibleChanged();
}

QRectF RosterList::rectOf(std::size_t row) const {
  return {0, static_cast<double>(tops_[row] - verticalScrollBar()->value()),
          static_cast<double>(viewport()->width()), static_cast<double>(tops_[row + 1] - tops_[row])};
}

int RosterList::rowAt(int y) const {
  const int at = y + verticalScrollBar()->value();
  const auto next = std::upper_bound(tops_.begin(), tops_.end(), at);
  const auto index = static_cast<int>(next - tops_.begin()) - 1;
  return index < 0 || index >= static_cast<int>(shown_.size()) ? -1 : index;
}

std::vector<Id> RosterList::visibleMachines() const {
  std::vector<Id> out;
  const int first = std::max(0, rowAt(0));
  for (auto i = static_cast<std::size_t>(first); i < shown_.size(); ++i) {
    if (tops_[i] - verticalScrollBar()->value() > viewport()->height()) break;
    if (!shown_[i].heading) out.push_back(shown_[i].machine);
  }
  return out;
}

QRectF RosterList::rowRect(Id machine) const {
  for (std::size_t i = 0; i < shown_.size(); ++i)
    if (shown_[i].machine == machine && !shown_[i].heading) return rectOf(i);
  return {};
}

QRectF RosterList::chipRect(Id endpoint) const {
  const auto found = snapshot_->endpoints.find(endpoint);
  if (found == snapshot_->endpoints.end()) return {};
  const auto machine = snapshot_->machines.find(found->second.machine);
  for (const Chip& chip : chipsOf(machine->second, rowRect(machine->first), {}))
    if (chip.endpoint == endpoint) return chip.rect;
  return {};
}

std::vector<RosterList::Chip> RosterList::chipsOf(const Machine& machine, const QRectF& row,
                                                  const QSet<Id>& open) const {
  std::vector<Chip> out;
  qreal x = kTextLeft;
  for (const Endpoint* e : snapshot_->endpointsOf(machine.id)) {
    const QString text = chipText(*e);
    const qreal width = chipWidth(text);
    if (x + width > row.width() - 6) break;
    out.push_back({e->id, QRectF(x, row.top() + 41, width, kChipHeight), text, open.contains(e->id),
                   canOpen(e->scheme())});
    x += width + 5;
  }
  return out;
}

void RosterList::paintEvent(QPaintEvent*) {
  QPainter p(viewport());
  p.fillRect(viewport()->rect(), scheme().panel);
  if (!snapshot_) return;
  if (shown_.empty()) {
    p.setPen(scheme().quiet);
    p.drawText(viewport()->rect().adjusted(16, 24, -16, -16),
               Qt::AlignTop | Qt::AlignHCenter | Qt::TextWordWrap,
               !loaded_ ? tr("Reading the records…")
               : snapshot_->machines.empty()
                   ? tr("No machines yet.\nCtrl+N makes one; the Go field opens an address at once.")
                   : tr("No machine fits \"%1\".").arg(text_));
    return;
  }
  const int first = std::max(0, rowAt(0));
  for (auto i = static_cast<std::size_t>(first); i < shown_.size(); ++i) {
    const QRectF rect = rectOf(i);
    if (rect.top() > viewport()->height()) break;
    if (shown_[i].heading) {
      paintHeading(p, shown_[i], rect);
    } else if (const auto found = snapshot_->machines.find(shown_[i].machine);
               found != snapshot_->machines.end()) {
      if (static_cast<int>(i) == hovered_ && found->first != selected_ && !chosen_.contains(found->first)) {
        QColor tint = scheme().raised;
        tint.setAlpha(130);
        p.fillRect(rect, tint);
      }
      paintMachine(p, found->second, rect);
    }
  }
}

void RosterList::paintHeading(QPainter& p, const RosterRow& row, const QRectF& rect) {
  const Scheme& s = scheme();
  p.setRenderHint(QPainter::Antialiasing);
  const bool folded = text_.isEmpty() && folded_.contains(row.title);
  const QPointF c(16, rect.center().y() + 3);
  p.setBrush(s.quiet);
  p.setPen(Qt::NoPen);
  if (folded)
    p.drawPolygon(QPolygonF({{c.x() - 2, c.y() - 4}, {c.x() + 3, c.y()}, {c.x() - 2, c.y() + 4}}));
  else
    p.drawPolygon(QPolygonF({{c.x() - 4, c.y() - 2}, {c.x() + 4, c.y() - 2}, {c.x(), c.y() + 3}}));
  p.setFont(windowFont(9));
  p.setPen(headingColour());
  const QRectF text = rect.adjusted(26, 6, -12, 0);
  const QString aside = folded ? machineCount(row.count) : QString::fromStdString(row.aside);
  const int asideWidth = aside.isEmpty() ? 0 : p.fontMetrics().horizontalAdvance(aside) + 10;
  p.drawText(text, Qt::AlignVCenter,
             p.fontMetrics().elidedText(QString::fromStdString(row.title), Qt::ElideRight,
                                        static_cast<int>(text.width()) - asideWidth));
  p.setPen(s.quiet);
  p.drawText(text, Qt::AlignVCenter | Qt::AlignRight, aside);
}

void RosterList::paintMachine(QPainter& p, const Machine& machine, const QRectF& rect) {
  const Scheme& s = scheme();
  const MachineNow now = now_ ? now_(machine) : MachineNow{};
  if (machine.id == selected_ || chosen_.contains(machine.id)) {
    QColor tint = s.copper;
    tint.setAlpha(s.dark ? 38 : 46);
    p.fillRect(rect, tint);
    if (machine.id == selected_)
      p.fillRect(QRectF(0, rect.top(), hasFocus() ? 4 : 3, rect.height()), s.copper);
  }
  drawState(p, QPointF(19, rect.top() + 16), 12, now.state);
  const int mark = paintMark(p, machine, rect);
  const int room = static_cast<int>(rect.width()) - kTextLeft - 8 - mark;
  p.setFont(windowFont(10, QFont::DemiBold));
  p.setPen(s.text);
  p.drawText(QRectF(kTextLeft, rect.top() + 5, room, 20), Qt::AlignVCenter,
             p.fontMetrics().elidedText(QString::fromStdString(machine.name), Qt::ElideMiddle, room));
  p.setFont(windowFont(8.5));
  p.setPen(now.state == State::Trouble ? s.brick : s.quiet);
  p.drawText(QRectF(kTextLeft, rect.top() + 23, room, 17), Qt::AlignVCenter,
             p.fontMetrics().elidedText(now.sentence, Qt::ElideRight, room));
  for (const Chip& chip : chipsOf(machine, rect, now.openEndpoints))
    drawChip(p, chip.rect.topLeft(), chip.text, chip.open, !chip.usable);
}

/// The machine's own mark and colour at the end of its first line; returns the room it takes.
int RosterList::paintMark(QPainter& p, const Machine& machine, const QRectF& rect) const {
  const Owner owner{OwnerKind::Machine, machine.id};
  const QString text = QString::fromStdString(snapshot_->resolve(owner, "look.mark").value).left(3);
  const QColor colour = markColour(QString::fromStdString(snapshot_->resolve(owner, "look.colour").value));
  if (text.isEmpty() && !colour.isValid()) return 0;
  p.setFont(windowFont(8, QFont::DemiBold));
  const int width = text.isEmpty() ? 10 : std::max(18, p.fontMetrics().horizontalAdvance(text) + 10);
  const QRectF tile(rect.right() - 8 - width, rect.top() + 8, width, text.isEmpty() ? 10 : 15);
  p.setRenderHint(QPainter::Antialiasing);
  p.setPen(Qt::NoPen);
  p.setBrush(colour.isValid() ? colour : scheme().raised);
  p.drawRoundedRect(tile, 3, 3);
  p.setPen(colour.isValid() ? inkOn(colour) : scheme().text);
  p.drawText(tile, Qt::AlignCenter, text);
  return width + 6;
}

void RosterList::resizeEvent(QResizeEvent*) { place(); }

void RosterList::scrollContentsBy(int, int) {
  viewport()->update();
  emit visibleChanged();
}

Id RosterList::bestWayIn(Id machine) const {
  Id first = 0;
  for (const Endpoint* e : snapshot_->endpointsOf(machine)) {
    if (canOpen(e->scheme())) return e->id;
    if (first == 0) first = e->id;
  }
  return first;
}

std::vector<Id> RosterList::chosen() const {
  std::vector<Id> out;
  for (const RosterRow& row : shown_)
    if (!row.heading && (row.machine == selected_ || chosen_.contains(row.machine)))
      out.push_back(row.machine);
  return out;
}

void RosterList::toggleChosen(Id machine) {
  if (machine == selected_) return;
  if (!chosen_.erase(machine)) chosen_.insert(machine);
  viewport()->update();
  emit selectionChanged(selected_);
}

void RosterList::chooseAll() {
  for (const RosterRow& row : shown_)
    if (!row.heading) chosen_.insert(row.machine);
  if (selected_ == 0 && !chosen_.empty()) selected_ = anchor_ = chosen().front();
  viewport()->update();
  emit selectionChanged(selected_);
}

/// From where the range began to this one.
void RosterList::chooseTo(Id machine) {
  const Id from = anchor_ == 0 ? machine : anchor_;
  std::set<Id> range;
  bool inside = false;
  for (const RosterRow& row : shown_) {
    if (row.heading) continue;
    const bool edge = row.machine == from || row.machine == machine;
    if (inside || edge) range.insert(row.machine);
    if (edge && from != machine) inside = !inside;
  }
  select(machine);
  anchor_ = from;
  chosen_ = std::move(range);
  viewport()->update();
  emit selectionChanged(selected_);
}

void RosterList::select(Id machine) {
  anchor_ = machine;
  if (selected_ == machine && chosen_.empty()) return;
  chosen_.clear();
  selected_ = machine;
  if (const QRectF rect = rowRect(machine); !rect.isEmpty()) {
    if (rect.top() < 0)
      verticalScrollBar()->setValue(verticalScrollBar()->value() + static_cast<int>(rect.top()));
    if (rect.bottom() > viewport()->height())
      verticalScrollBar()->setValue(verticalScrollBar()->value() + static_cast<int>(rect.bottom()) -
                                    viewport()->height());
  }
  viewport()->update();
  QAccessibleEvent spoken(this, QAccessible::Focus);
  if (const int row = selectedRow(); row >= 0) spoken.setChild(row);
  QAccessible::updateAccessibility(&spoken);
  emit selectionChanged(machine);
}

void RosterList::moveSelection(int step) {
  int at = -1;
  for (std::size_t i = 0; i < shown_.size(); ++i)
    if (!shown_[i].heading && shown_[i].machine == selected_) at = static_cast<int>(i);
  int next = at;
  for (int left = std::abs(step); left > 0;) {
    int candidate = next + (step > 0 ? 1 : -1);
    while (candidate >= 0 && candidate < static_cast<int>(shown_.size()) &&
           shown_[static_cast<std::size_t>(candidate)].heading)
      candidate += step > 0 ? 1 : -1;
    if (candidate < 0 || candidate >= static_cast<int>(shown_.size())) break;
    next = candidate;
    --left;
  }
  if (next >= 0 && next != at) select(shown_[static_cast<std::size_t>(next)].machine);
}

void RosterList::openSelected() {
  if (selected_ == 0) moveSelection(1);
  if (selected_ != 0)
    if (const Id way = bestWayIn(selected_); way != 0) emit openWanted(way);
}

void RosterList::toggleFolded(const std::string& title) {
  if (!folded_.erase(title)) folded_.insert(title);
  place();
}

}  // namespace kw::desktop
