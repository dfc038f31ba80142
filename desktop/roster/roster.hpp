// The roster: grouped two-line rows of machines, narrowed per keystroke. Paints only what is visible.
#pragma once
#include <QAbstractScrollArea>
#include <QSet>
#include <QTimer>
#include <functional>
#include <set>

#include "desktop/look/glyphs.hpp"
#include "record/roster.hpp"

class QMenu;

namespace kw::desktop {

/// How one machine stands; asked for the visible rows only.
struct MachineNow {
  State state = State::NeverReached;
  QString sentence;
  QSet<Id> openEndpoints;  ///< ways in that are open now
};

class RosterList : public QAbstractScrollArea {
  Q_OBJECT
 public:
  explicit RosterList(QWidget* parent = nullptr);

  /// `loaded` false: the records are still being read.
  void setSnapshot(std::shared_ptr<const Snapshot> snapshot, bool loaded = true);
  void setGroupBy(GroupBy by);
  /// How machines stand has changed: painted anew, and put under other headings when grouped by state.
  void statesChanged();
  /// The group that a machine of the list is in; what the keyboard's commands for groups mean.
  [[nodiscard]] Id selectedFolder() const;
  /// For screen readers: how a row reads aloud, and where it is.
  [[nodiscard]] QString spokenRow(int row) const;
  [[nodiscard]] QRect rowRectAt(int row) const;
  [[nodiscard]] int selectedRow() const;
  [[nodiscard]] GroupBy groupBy() const { return groupBy_; }
  void narrow(const QString& text);
  void setNow(std::function<MachineNow(const Machine&)> now) { now_ = std::move(now); }
  [[nodiscard]] Id selected() const { return selected_; }
  void select(Id machine);
  /// All that are chosen, in the order of the list; the selected one is among them.
  [[nodiscard]] std::vector<Id> chosen() const;
  /// Adds to what is chosen, or takes it out again.
  void toggleChosen(Id machine);
  void chooseAll();
  [[nodiscard]] const std::vector<RosterRow>& rows() const { return shown_; }
  [[nodiscard]] std::vector<Id> visibleMachines() const;
  /// Where a machine's row or one of its chips is, in viewport coordinates; empty when not visible.
  [[nodiscard]] QRectF rowRect(Id machine) const;
  [[nodiscard]] QRectF chipRect(Id endpoint) const;
  void moveSelection(int step);
  void openSelected();

 signals:
  void selectionChanged(kw::Id machine);
  void openWanted(kw::Id endpoint);
  void startWanted(kw::Id machine);
  void sheetWanted(kw::Id machine);
  void removeWanted(kw::Id machine);
  void sheetOfManyWanted(const std::vector<kw::Id>& machines);
  void pasteWanted();
  void removeManyWanted(const std::vector<kw::Id>& machines);
  /// The menu of several likewise.
  void menuOfManyWanted(QMenu* menu, const std::vector<kw::Id>& machines);
  /// The menu of one machine is about to show: the window adds what it knows.
  void menuWanted(QMenu* menu, kw::Id machine);
  void groupSheetWanted(kw::Id folder);
  void newGroupWanted(kw::Id parent);
  void removeGroupWanted(kw::Id folder);
  void newMachineWanted(kw::Id folder);
  void visibleChanged();

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void scrollContentsBy(int dx, int dy) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void contextMenuEvent(QContextMenuEvent* event) override;
  bool viewportEvent(QEvent* event) override;

 private:
  struct Chip {
    Id endpoint;
    QRectF rect;
    QString text;
    bool open, usable;
  };
  void rebuild();
  void place();
  [[nodiscard]] int rowAt(int y) const;
  [[nodiscard]] QRectF rectOf(std::size_t row) const;
  [[nodiscard]] std::vector<Chip> chipsOf(const Machine& machine, const QRectF& row,
                                          const QSet<Id>& open) const;
  [[nodiscard]] Id bestWayIn(Id machine) const;
  void paintHeading(QPainter& painter, const RosterRow& row, const QRectF& rect);
  void paintMachine(QPainter& painter, const Machine& machine, const QRectF& rect);
  void toggleFolded(const std::string& title);

  std::shared_ptr<const Snapshot> snapshot_;
  RosterIndex index_;
  GroupBy groupBy_ = GroupBy::Place;
  QString text_;
  std::vector<RosterRow> shown_;
  std::vector<int> tops_;  ///< y of each row, and the total height
  std::set<std::string> folded_;
  std::function<MachineNow(const Machine&)> now_;
  bool loaded_ = true;
  QTimer regroup_;
  void chooseTo(Id machine);
  void extend(int step);
  void menuOfMany(const QPoint& at);
  int paintMark(QPainter& painter, const Machine& machine, const QRectF& rect) const;
  Id selected_ = 0;
  Id anchor_ = 0;        ///< where a range begins
  std::set<Id> chosen_;  ///< besides the selected one
  int hovered_ = -1;
};

}  // namespace kw::desktop
