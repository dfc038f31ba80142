#include "desktop/hosts/stock_delegate.hpp"

#include <QPainter>

#include "desktop/hosts/stock_model.hpp"
#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kLeft = 10, kGlyphRoom = 20;

QColor toneOf(const QModelIndex& index) {
  const Scheme& s = scheme();
  switch (index.data(StockModel::kTone).toInt()) {
    case 1: return s.quiet;
    case 2: return s.amber;
    case 3: return s.brick;
    default: return s.text;
  }
}
}  // namespace

QRectF StockDelegate::cureRect(const QModelIndex& index, const QRect& cell) {
  const QString cure = index.data(StockModel::kCure).toString();
  if (cure.isEmpty()) return {};
  const QFontMetricsF metrics(windowFont(8.5));
  return {cell.left() + kLeft * 1.0, cell.center().y() + 2.0,
          std::min(metrics.horizontalAdvance(cure) + 6, cell.width() - 2.0 * kLeft), 17};
}

void StockDelegate::paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const {
  const Scheme& s = scheme();
  p->save();
  const QRect cell = option.rect;
  const auto* model = static_cast<const StockModel*>(index.model());
  const bool host = model->line(index.row()) == nullptr;
  const bool chosen = option.state.testFlag(QStyle::State_Selected);
  if (host) p->fillRect(cell, s.raised);
  if (chosen && !host) {
    if (index.column() == 0) p->fillRect(QRect(cell.left(), cell.top(), 3, cell.height()), s.copper);
  }
  p->setPen(s.line);
  p->drawLine(cell.bottomLeft(), cell.bottomRight());
  int left = cell.left() + kLeft;
  if (const QVariant glyph = index.data(StockModel::kGlyph); glyph.isValid()) {
    drawState(*p, QPointF(left + 6, host ? cell.center().y() : cell.top() + 15), 12,
              static_cast<State>(glyph.toInt()));
    left += kGlyphRoom;
  }
  const QString first = index.data().toString(), second = index.data(StockModel::kSecondLine).toString();
  const int room = cell.right() - left - 4;
  const auto line = [&](const QString& text, const QFont& font, const QColor& colour, int x, int top,
                        int width) {
    p->setFont(font);
    p->setPen(colour);
    p->drawText(QRect(x, top, width, 18), Qt::AlignVCenter,
                p->fontMetrics().elidedText(text, Qt::ElideRight, width));
    return p->fontMetrics().horizontalAdvance(text);
  };
  if (host) {
    const int used = line(first, windowFont(10, QFont::DemiBold), s.text, left, cell.center().y() - 9, room);
    line(second, windowFont(9),
         index.data(StockModel::kGlyph).toInt() == static_cast<int>(State::Trouble) ? s.brick : s.quiet,
         left + used + 10, cell.center().y() - 9, room - used - 10);
    p->restore();
    return;
  }
  const int column = index.column();
  const bool mono =
      column == StockModel::kAddress || column == StockModel::kId || column == StockModel::kConsole;
  const QFont font = column == StockModel::kMachine ? windowFont(10, QFont::DemiBold)
                     : mono                         ? monoFont(8.5)
                                                    : windowFont(9.5);
  const QString cure = index.data(StockModel::kCure).toString();
  line(first, font, toneOf(index), left, cell.top() + 5, room);
  if (!cure.isEmpty()) {
    const QRectF at = cureRect(index, cell);
    p->setFont(windowFont(8.5));
    p->setPen(s.copper);
    p->drawText(at, Qt::AlignVCenter,
                p->fontMetrics().elidedText(cure, Qt::ElideRight, static_cast<int>(at.width())));
    p->drawLine(QPointF(at.left(), at.bottom() - 1), QPointF(at.right(), at.bottom() - 1));
  } else if (!second.isEmpty()) {
    line(second, windowFont(8.5), s.quiet, left, cell.top() + 23, room);
  }
  p->restore();
}

}  // namespace kw::desktop
