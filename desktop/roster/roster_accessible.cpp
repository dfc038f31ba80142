#include "desktop/roster/roster_accessible.hpp"

#include <QAccessibleWidget>
#include <map>

#include "desktop/roster/roster.hpp"

namespace kw::desktop {

namespace {

/// One row; it asks the list whenever it is asked, so that it never tells what was.
class RowInterface : public QAccessibleInterface {
 public:
  RowInterface(RosterList* list, int row) : list_(list), row_(row) {}
  [[nodiscard]] bool isValid() const override {
    return list_ != nullptr && row_ < static_cast<int>(list_->rows().size());
  }
  [[nodiscard]] QObject* object() const override { return nullptr; }
  [[nodiscard]] QAccessibleInterface* parent() const override {
    return QAccessible::queryAccessibleInterface(list_);
  }
  [[nodiscard]] QAccessibleInterface* child(int) const override { return nullptr; }
  [[nodiscard]] QAccessibleInterface* childAt(int, int) const override { return nullptr; }
  [[nodiscard]] int childCount() const override { return 0; }
  [[nodiscard]] int indexOfChild(const QAccessibleInterface*) const override { return -1; }
  [[nodiscard]] QString text(QAccessible::Text what) const override {
    return what == QAccessible::Name && isValid() ? list_->spokenRow(row_) : QString();
  }
  void setText(QAccessible::Text, const QString&) override {}
  [[nodiscard]] QRect rect() const override {
    if (!isValid()) return {};
    const QRect r = list_->rowRectAt(row_);
    return {list_->viewport()->mapToGlobal(r.topLeft()), r.size()};
  }
  [[nodiscard]] QAccessible::Role role() const override {
    return isValid() && list_->rows()[static_cast<std::size_t>(row_)].heading ? QAccessible::Heading
                                                                              : QAccessible::ListItem;
  }
  [[nodiscard]] QAccessible::State state() const override {
    QAccessible::State s;
    if (!isValid()) {
      s.invalid = true;
      return s;
    }
    const bool heading = list_->rows()[static_cast<std::size_t>(row_)].heading;
    s.selectable = s.focusable = !heading;
    s.selected = list_->selectedRow() == row_;
    s.focused = s.selected && list_->hasFocus();
    s.offscreen = !list_->rowRectAt(row_).intersects(list_->viewport()->rect());
    return s;
  }

 private:
  QPointer<RosterList> list_;
  int row_;
};

class ListInterface : public QAccessibleWidget {
 public:
  explicit ListInterface(RosterList* list) : QAccessibleWidget(list, QAccessible::List) {}
  ~ListInterface() override {
    for (const auto& [row, id] : rows_) QAccessible::deleteAccessibleInterface(id);
  }
  [[nodiscard]] int childCount() const override { return static_cast<int>(list()->rows().size()); }
  [[nodiscard]] QAccessibleInterface* child(int index) const override {
    if (index < 0 || index >= childCount()) return nullptr;
    const auto [at, fresh] = rows_.try_emplace(index, 0);
    if (fresh) at->second = QAccessible::registerAccessibleInterface(new RowInterface(list(), index));
    return QAccessible::accessibleInterface(at->second);
  }
  [[nodiscard]] int indexOfChild(const QAccessibleInterface* child) const override {
    for (const auto& [row, id] : rows_)
      if (QAccessible::accessibleInterface(id) == child) return row;
    return -1;
  }
  [[nodiscard]] QAccessibleInterface* childAt(int x, int y) const override {
    const QPoint at = list()->viewport()->mapFromGlobal(QPoint(x, y));
    for (int i = 0; i < childCount(); ++i)
      if (list()->rowRectAt(i).contains(at)) return child(i);
    return nullptr;
  }
  [[nodiscard]] QAccessibleInterface* focusChild() const override { return child(list()->selectedRow()); }

 private:
  [[nodiscard]] RosterList* list() const { return static_cast<RosterList*>(object()); }
  mutable std::map<int, QAccessible::Id> rows_;
};

QAccessibleInterface* make(const QString&, QObject* object) {
  auto* list = qobject_cast<RosterList*>(object);
  return list != nullptr ? new ListInterface(list) : nullptr;
}

}  // namespace

void installRosterAccessibility() {
  static bool done = false;
  if (!std::exchange(done, true)) QAccessible::installFactory(make);
}

}  // namespace kw::desktop
