// The list of pages at the left of a sheet: a page's name, and below it what it holds now.
#pragma once
#include <QListWidget>
#include <QPainter>
#include <QStyledItemDelegate>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

inline constexpr int kSummaryRole = Qt::UserRole + 1;

/// Two lines: the page's name and what it holds now.
class SectionDelegate : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  [[nodiscard]] QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex&) const override {
    return {150, 44};
  }
  void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    const Scheme& s = scheme();
    p->save();
    if (option.state & QStyle::State_Selected) {
      QColor tint = s.copper;
      tint.setAlpha(40);
      p->fillRect(option.rect, tint);
      p->fillRect(QRect(option.rect.left(), option.rect.top(), 3, option.rect.height()), s.copper);
    }
    const QRect text = option.rect.adjusted(14, 5, -8, -6);
    p->setFont(windowFont(10));
    p->setPen(s.text);
    p->drawText(text, Qt::AlignTop, index.data().toString());
    p->setFont(windowFont(8.5));
    p->setPen(s.quiet);
    p->drawText(
        text, Qt::AlignBottom,
        p->fontMetrics().elidedText(index.data(kSummaryRole).toString(), Qt::ElideRight, text.width()));
    p->restore();
  }
};

inline QListWidget* sectionList(QWidget* parent) {
  auto* list = new QListWidget(parent);
  list->setItemDelegate(new SectionDelegate(list));
  list->setFixedWidth(184);
  list->setFrameShape(QFrame::NoFrame);
  list->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list->setAccessibleName(QCoreApplication::translate("Sheet", "Pages of the sheet"));
  list->setStyleSheet("QListWidget{background:transparent;border-right:1px solid " + scheme().line.name() +
                      ";}");
  return list;
}

}  // namespace kw::desktop
