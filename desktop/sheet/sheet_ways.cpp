// The sheet's page of ways in.
#include <QCheckBox>
#include <QComboBox>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPainter>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QScrollArea>
#include <QStackedWidget>
#include <QStyledItemDelegate>
#include <QVBoxLayout>
#include "desktop/look/theme.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "desktop/sheet/way_target_row.hpp"
#include "line/finder.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

namespace {
QString examplesOf(Form form) {
  QStringList out;
  for (const WayKind& s : allWayKinds())
    if (s.form == form && s.example != nullptr && canOpen(s.name)) out << QString(s.example);
  return out.join(", ");
}
}  // namespace

QWidget* Sheet::pageWays() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, tr("Ways to reach it"));
  auto* hint =
      new QLabel(tr("Screens: %1. Text: %2").arg(examplesOf(Form::Screen), examplesOf(Form::Text)), page);
  hint->setObjectName("quiet");
  hint->setWordWrap(true);
  column->addWidget(hint);
  auto* rows = new QWidget(page);
  waysLayout_ = new QVBoxLayout(rows);
  waysLayout_->setContentsMargins(0, 0, 0, 0);
  column->addWidget(rows);
  auto* add = new QPushButton(tr("Add a way in"), page);
  column->addWidget(add, 0, Qt::AlignLeft);
  column->addStretch();
  auto* kinds = new QMenu(add);
  connect(kinds, &QMenu::aboutToShow, this, [this, kinds] { fillNewWay(kinds); });
  add->setMenu(kinds);
  refreshWays();
  return scrolled(page);
}

void Sheet::addWay(const QString& label, const QString& address) {
  Endpoint e;
  e.label = label.toStdString();
  e.address = address.toStdString();
  ways_.push_back({e, false});
  refreshWays();
  touched();
}

/// What can be added; lines of this desk are found, so that a path is picked, not typed.
void Sheet::fillNewWay(QMenu* menu) {
  menu->clear();
  for (const WayKind& kind : allWayKinds())
    if (kind.offer != nullptr && canOpen(kind.name))
      menu->addAction(tr(kind.offer), this,
                      [this, &kind] { addWay(kind.wayName, QString(kind.name) + "://"); });
  menu->addSeparator();
  const std::vector<FoundLine> found = findLines();
  for (const FoundLine& line : found)
    menu->addAction(
        tr("%1  (%2)").arg(QString::fromStdString(line.device), QString::fromStdString(line.description)),
        this, [this, address = QString::fromStdString(line.address)] { addWay("line", address); });
  if (found.empty())
    menu->addAction(tr("No serial device and no guest's socket was found on this desk"))->setEnabled(false);
  menu->addAction(tr("Another serial device"), this, [this] { addWay("line", "serial:/dev/"); });
}

void Sheet::refreshWays() {
  while (QLayoutItem* item = waysLayout_->takeAt(0)) {
    delete item->widget();
    delete item;
  }
  for (std::size_t i = 0; i < ways_.size(); ++i) {
    if (ways_[i].removed) continue;
    auto* line = new QWidget;
    auto* row = new QHBoxLayout(line);
    row->setContentsMargins(0, 0, 0, 0);
    auto* label = new QLineEdit(QString::fromStdString(ways_[i].endpoint.label), line);
    label->setFixedWidth(120);
    label->setAccessibleName(tr("Name of the way in"));
    auto* address = new QLineEdit(QString::fromStdString(ways_[i].endpoint.address), line);
    address->setObjectName("address" + QString::number(i));
    address->setAccessibleName(tr("Address"));
    auto* remove = new QPushButton(tr("Remove"), line);
    row->addWidget(label);
    row->addWidget(address, 1);
    row->addWidget(remove);
    waysLayout_->addWidget(line);
    auto* problem = new QLabel;
    problem->setObjectName("bad");
    problem->setWordWrap(true);
    problem->setContentsMargins(126, 0, 0, 2);
    waysLayout_->addWidget(problem);
    waysLayout_->addWidget(new WayTargetRow(address));
    const auto look = [problem](const QString& text) {
      QString wrong;
      try {
        const Address a = parseAddress(text.toStdString());
        if (a.scheme == "serial" || a.scheme == "unix")
          wrong = QString::fromStdString(problemWithPath(a.path, a.scheme == "unix"));
      } catch (const Error&) {
        // What is being typed is told of when it is kept.
      }
      problem->setText(wrong);
      problem->setVisible(!wrong.isEmpty());
    };
    look(address->text());
    connect(address, &QLineEdit::textChanged, problem, look);
    connect(label, &QLineEdit::textChanged, this,
            [this, i](const QString& t) { ways_[i].endpoint.label = t.toStdString(), touched(); });
    connect(address, &QLineEdit::textChanged, this, [this, i](const QString& t) {
      ways_[i].endpoint.address = t.trimmed().toStdString();
      touched();
    });
    connect(remove, &QPushButton::clicked, this, [this, i, line] {
      ways_[i].removed = true;
      line->hide();
      touched();
    });
  }
}

}  // namespace kw::desktop
