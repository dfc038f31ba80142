// How a cell of the stock is painted: a glyph, a line, a quieter line below it, something to click.
#pragma once
#include <QStyledItemDelegate>

namespace kw::desktop {

class StockDelegate : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override;
  /// Where the cure is, in the cell's own coordinates; empty without one.
  [[nodiscard]] static QRectF cureRect(const QModelIndex& index, const QRect& cell);
};

}  // namespace kw::desktop
