// Mouse, keys and menus of the roster.
#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QMenu>
#include <QScrollBar>
#include <QToolTip>

#include "desktop/app/counts.hpp"
#include "desktop/roster/roster.hpp"
#include "desktop/roster/roster_accessible.hpp"
#include "desktop/roster/roster_parts.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

void RosterList::mousePressEvent(QMouseEvent* event) {
  const int row = rowAt(event->pos().y());
  if (row < 0) return;
  const RosterRow& hit = shown_[static_cast<std::size_t>(row)];
  if (hit.heading && event->button() == Qt::LeftButton) {
    toggleFolded(hit.title);
    return;
  }
  if (hit.heading) return;
  if (event->modifiers() & Qt::ControlModifier) return toggleChosen(hit.machine);
  if (event->modifiers() & Qt::ShiftModifier) return chooseTo(hit.machine);
  // The menu of several is theirs.
  if (event->button() == Qt::RightButton && chosen_.contains(hit.machine)) return;
  select(hit.machine);
  if (event->button() != Qt::LeftButton) return;
  const auto& machine = snapshot_->machines.at(hit.machine);
  for (const Chip& chip : chipsOf(machine, rectOf(static_cast<std::size_t>(row)), {}))
    if (chip.rect.contains(event->position())) emit openWanted(chip.endpoint);
}

void RosterList::mouseDoubleClickEvent(QMouseEvent* event) {
  const int row = rowAt(event->pos().y());
  if (row < 0 || shown_[static_cast<std::size_t>(row)].heading) return;
  const auto& machine = snapshot_->machines.at(shown_[static_cast<std::size_t>(row)].machine);
  for (const Chip& chip : chipsOf(machine, rectOf(static_cast<std::size_t>(row)), {}))
    if (chip.rect.contains(event->position())) return;  // the first click has opened it
  openSelected();
}

void RosterList::mouseMoveEvent(QMouseEvent* event) {
  const int row = rowAt(event->pos().y());
  if (row == hovered_) return;
  hovered_ = row;
  viewport()->update();
}

void RosterList::leaveEvent(QEvent*) {
  hovered_ = -1;
  viewport()->update();
}

bool RosterList::viewportEvent(QEvent* event) {
  if (event->type() == QEvent::ToolTip && snapshot_) {
    auto* help = static_cast<QHelpEvent*>(event);
    const int row = rowAt(help->pos().y());
    QString tip;
    if (row >= 0 && !shown_[static_cast<std::size_t>(row)].heading) {
      const auto& machine = snapshot_->machines.at(shown_[static_cast<std::size_t>(row)].machine);
      tip = QString::fromStdString(machine.name);
      if (now_) tip += "\n" + now_(machine).sentence;
      for (const Chip& chip : chipsOf(machine, rectOf(static_cast<std::size_t>(row)), {}))
        if (chip.rect.contains(help->pos())) {
          const Endpoint& e = snapshot_->endpoints.at(chip.endpoint);
          tip = QString::fromStdString(e.label + ": " + e.address);
          if (!chip.usable) tip += "\n" + tr("This version has no engine for %1 yet.").arg(chip.text);
        }
    }
    QToolTip::showText(help->globalPos(), tip, viewport());
    return true;
  }
  return QAbstractScrollArea::viewportEvent(event);
}

void RosterList::keyPressEvent(QKeyEvent* event) {
  const int page = std::max(1, viewport()->height() / kMachineHeight - 1);
  if (event->matches(QKeySequence::SelectAll)) return chooseAll();
  if (event->matches(QKeySequence::Paste)) {
    emit pasteWanted();
    return;
  }
  if (event->modifiers() & Qt::ShiftModifier && (event->key() == Qt::Key_Down || event->key() == Qt::Key_Up))
    return extend(event->key() == Qt::Key_Down ? 1 : -1);
  switch (event->key()) {
    case Qt::Key_Down: moveSelection(1); break;
    case Qt::Key_Up: moveSelection(-1); break;
    case Qt::Key_PageDown: moveSelection(page); break;
    case Qt::Key_PageUp: moveSelection(-page); break;
    case Qt::Key_Home: moveSelection(-static_cast<int>(shown_.size())); break;
    case Qt::Key_End: moveSelection(static_cast<int>(shown_.size())); break;
    case Qt::Key_Return:
    case Qt::Key_Enter: openSelected(); break;
    case Qt::Key_F2:
      if (chosen().size() > 1)
        emit sheetOfManyWanted(chosen());
      else if (selected_ != 0)
        emit sheetWanted(selected_);
      break;
    case Qt::Key_Delete:
      if (chosen().size() > 1)
        emit removeManyWanted(chosen());
      else if (selected_ != 0)
        emit removeWanted(selected_);
      break;
    case Qt::Key_Escape:
      if (chosen_.empty()) return QAbstractScrollArea::keyPressEvent(event);
      select(selected_);
      break;
    default: QAbstractScrollArea::keyPressEvent(event);
  }
}

/// Shift and an arrow: the range grows or shrinks by one.
void RosterList::extend(int step) {
  const Id from = anchor_;
  int at = selectedRow() + step;
  while (at >= 0 && at < static_cast<int>(shown_.size()) && shown_[static_cast<std::size_t>(at)].heading)
    at += step;
  if (at < 0 || at >= static_cast<int>(shown_.size())) return;
  anchor_ = from;
  chooseTo(shown_[static_cast<std::size_t>(at)].machine);
}

void RosterList::menuOfMany(const QPoint& at) {
  const std::vector<Id> all = chosen();
  QMenu menu;
  menu.addAction(tr("Edit %1 together…").arg(machineCount(static_cast<int>(all.size()))), this,
                 [this, all] { emit sheetOfManyWanted(all); });
  emit menuOfManyWanted(&menu, all);
  menu.addAction(tr("Remove them"), this, [this, all] { emit removeManyWanted(all); });
  menu.exec(at);
}

void RosterList::contextMenuEvent(QContextMenuEvent* event) {
  const int row = rowAt(event->pos().y());
  if (row >= 0 && shown_[static_cast<std::size_t>(row)].heading) {
    const Id folder = shown_[static_cast<std::size_t>(row)].folder;
    QMenu menu;
    menu.addAction(tr("New machine here…"), this, [this, folder] { emit newMachineWanted(folder); });
    if (folder != 0) {
      menu.addAction(tr("New group in it…"), this, [this, folder] { emit newGroupWanted(folder); });
      menu.addAction(tr("Edit the group's sheet…"), this, [this, folder] { emit groupSheetWanted(folder); });
      menu.addAction(tr("Remove it with its machines"), this,
                     [this, folder] { emit removeGroupWanted(folder); });
    }
    menu.exec(event->globalPos());
    return;
  }
  if (selected_ == 0) return;
  if (chosen().size() > 1) return menuOfMany(event->globalPos());
  QMenu menu;
  for (const Endpoint* e : snapshot_->endpointsOf(selected_)) {
    auto* open = menu.addAction(tr("Open %1 · %2").arg(QString::fromStdString(e->label), chipText(*e)), this,
                                [this, id = e->id] { emit openWanted(id); });
    open->setEnabled(canOpen(e->scheme()));
    if (!open->isEnabled()) open->setToolTip(tr("This version has no engine for %1 yet.").arg(chipText(*e)));
  }
  menu.addAction(tr("Start and open"), this, [this] { emit startWanted(selected_); });
  menu.addSeparator();
  menu.addAction(tr("Edit the sheet…"), this, [this] { emit sheetWanted(selected_); });
  menu.addAction(tr("Remove"), this, [this] { emit removeWanted(selected_); });
  emit menuWanted(&menu, selected_);
  menu.setToolTipsVisible(true);
  menu.exec(event->globalPos());
}

}  // namespace kw::desktop
