#include "desktop/window/first_start.hpp"

#include <QEvent>
#include <QLabel>
#include <QPainter>
#include <QPushButton>
#include <QVBoxLayout>
#include <set>

#include "desktop/look/theme.hpp"
#include "record/catalogue.hpp"

namespace kw::desktop {

namespace {

constexpr int kWidth = 520;

/// One a family, of those that are offered by name.
QString someAddresses() {
  QStringList out;
  std::set<std::string> families;
  for (const WayKind& k : allWayKinds())
    if (k.example != nullptr && k.offer != nullptr && families.insert(k.family).second) out << k.example;
  return out.mid(0, 4).join(", ");
}

}  // namespace

FirstStart::FirstStart(QWidget* stage) : QWidget(stage) {
  stage->installEventFilter(this);
  setGeometry(stage->rect());
  auto* outer = new QHBoxLayout(this);
  auto* column = new QWidget(this);
  column->setFixedWidth(kWidth);
  outer->addWidget(column, 0, Qt::AlignCenter);
  auto* rows = new QVBoxLayout(column);
  rows->setSpacing(6);
  auto* title = new QLabel(tr("Nothing is kept here yet"), column);
  title->setObjectName("title");
  rows->addWidget(title);
  rows->addSpacing(8);
  const auto offer = [&](const QString& name, const QString& words, const QString& more) {
    auto* button = new QPushButton(words, column);
    button->setObjectName("first:" + name);
    auto* hint = new QLabel(more, column);
    hint->setObjectName("quiet");
    hint->setWordWrap(true);
    button->setAccessibleDescription(more);
    rows->addWidget(button, 0, Qt::AlignLeft);
    rows->addWidget(hint);
    rows->addSpacing(10);
    connect(button, &QPushButton::clicked, this, [this, name] { emit wanted(name); });
  };
  offer("go", tr("Open an address"), tr("Such as %1. It is opened and not kept.").arg(someAddresses()));
  offer("new", tr("Keep a machine"),
        tr("A name, and one or more ways in. From then on it is in the roster."));
  offer("importFiles", tr("Bring in what you have"),
        tr("Connection files, a table, or machines exported from another desk; a preview comes first."));
  offer("stock", tr("Add a host"), tr("A hypervisor that lists its machines; adopt those you want."));
  auto* demo = new QLabel(tr("To look around first: ./run demo in the source's folder opens a garden of "
                             "made-up machines, all on this "
                             "computer, with records of its own."),
                          column);
  demo->setObjectName("quiet");
  demo->setWordWrap(true);
  rows->addWidget(demo);
}

bool FirstStart::eventFilter(QObject* watched, QEvent* event) {
  if (watched == parent() && event->type() == QEvent::Resize) setGeometry(parentWidget()->rect());
  return QWidget::eventFilter(watched, event);
}

void FirstStart::paintEvent(QPaintEvent*) { QPainter(this).fillRect(rect(), scheme().ground); }

}  // namespace kw::desktop
