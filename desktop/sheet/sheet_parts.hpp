// What all pages of the sheet are made of.
#pragma once
#include <QBoxLayout>
#include <QLabel>
#include <QScrollArea>

namespace kw::desktop {

inline QWidget* scrolled(QWidget* inner) {
  auto* area = new QScrollArea;
  area->setWidgetResizable(true);
  area->setWidget(inner);
  return area;
}

inline QVBoxLayout* pageLayout(QWidget* page, const QString& heading) {
  auto* column = new QVBoxLayout(page);
  column->setContentsMargins(20, 16, 20, 16);
  column->setSpacing(10);
  auto* label = new QLabel(heading, page);
  label->setObjectName("heading");
  column->addWidget(label);
  return column;
}

inline QHBoxLayout* labelled(QVBoxLayout* column, const QString& text, QWidget* field, int fieldWidth = 260) {
  auto* row = new QHBoxLayout;
  auto* label = new QLabel(text);
  label->setFixedWidth(150);
  label->setBuddy(field);
  field->setAccessibleName(text);
  field->setMinimumWidth(fieldWidth);
  row->addWidget(label);
  row->addWidget(field);
  row->addStretch(1);
  column->addLayout(row);
  return row;
}

}  // namespace kw::desktop
