#include "desktop/record/team_part.hpp"

#include <QCheckBox>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {

constexpr int kLabelWidth = 150;
constexpr int kTickWidth = 22;

QString computersOf(const Teammate& mate) {
  const QString all =
      mate.desks == 1 ? TeamPart::tr("one computer") : TeamPart::tr("%1 computers").arg(mate.desks);
  return mate.without > 0 ? TeamPart::tr("%1, %2 cannot open it yet").arg(all).arg(mate.without) : all;
}

}  // namespace

TeamPart::TeamPart(Records& records, QWidget* parent) : QWidget(parent), records_(records) {
  auto* column = new QHBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  auto* label = new QLabel(tr("Held by"), this);
  label->setFixedWidth(kLabelWidth);
  column->addWidget(label, 0, Qt::AlignTop);
  rows_ = new QVBoxLayout;
  rows_->setSpacing(4);
  column->addLayout(rows_, 1);
}

void TeamPart::clear() {
  ticks_.clear();
  while (QLayoutItem* item = rows_->takeAt(0)) {
    if (QWidget* row = item->widget()) {
      // Perhaps it is its own button that asked; until it goes nobody is to find what is in it.
      for (QObject* inside : row->findChildren<QObject*>()) inside->setObjectName({});
      row->hide();
      row->deleteLater();
    }
    delete item;
  }
}

void TeamPart::showFor(Id credential) {
  credential_ = credential;
  clear();
  before_.clear();
  const OpeningTools& tools = records_.tools();
  setVisible(credential != 0 && hasTeam(tools) && tools.vault && tools.vault->isOpen());
  if (isHidden()) return;
  try {
    publishDesk(tools);
    const auto mates = teammatesOf(tools, credential);
    const bool isShared = std::any_of(mates.begin(), mates.end(), [](const Teammate& m) { return m.holds; });
    for (const Teammate& mate : mates) {
      if (mate.holds && !mate.me) before_.insert(mate.account);
      addRow(mate, isShared);
    }
    auto* about =
        new QLabel(mates.size() < 2
                       ? tr("Colleagues are listed here once they have opened these records.")
                       : tr("Sealed for each of them; the database cannot read it. This computer's mark: %1")
                             .arg(QString::fromStdString(ownMark(tools))),
                   this);
    about->setObjectName("quiet");
    about->setWordWrap(true);
    rows_->addWidget(about);
  } catch (const Error& e) {
    auto* why = new QLabel(QString::fromUtf8(e.what()), this);
    why->setObjectName("warn");
    why->setTextFormat(Qt::PlainText);
    why->setWordWrap(true);
    rows_->addWidget(why);
  }
}

void TeamPart::addRow(const Teammate& mate, bool isShared) {
  const QString account = QString::fromStdString(mate.account);
  auto* line = new QWidget(this);
  auto* row = new QHBoxLayout(line);
  row->setContentsMargins(0, 0, 0, 0);
  auto* tick = new QCheckBox(mate.me ? tr("%1 (you)").arg(account) : account, line);
  tick->setObjectName("holds " + account);
  tick->setProperty("account", account);
  tick->setChecked(mate.holds || (mate.me && !isShared));
  tick->setEnabled(!mate.me);
  if (mate.me) tick->setToolTip(tr("What you keep is yours; others are given it."));
  auto* facts = new QLabel(computersOf(mate), line);
  facts->setTextFormat(Qt::PlainText);
  facts->setObjectName("quiet");
  facts->setToolTip(tr("Mark of their key: %1").arg(QString::fromStdString(mate.mark)));
  row->addWidget(tick);
  row->addWidget(facts, 1);
  rows_->addWidget(line);
  if (!mate.me) ticks_.push_back(tick);
  connect(tick, &QCheckBox::toggled, this, &TeamPart::edited);
  if (!mate.newDesk.empty()) addNewDesk(mate);
}

/// A computer of somebody known that was not seen before.
void TeamPart::addNewDesk(const Teammate& mate) {
  auto* block = new QWidget(this);
  auto* column = new QVBoxLayout(block);
  column->setContentsMargins(kTickWidth, 0, 0, 4);
  auto* facts = new QLabel(tr("A computer of theirs is new here: %1\n%2")
                               .arg(QString::fromStdString(mate.newDesk), QString::fromStdString(mate.mark)),
                           block);
  facts->setObjectName("warn");
  facts->setTextFormat(Qt::PlainText);
  facts->setWordWrap(true);
  auto* theirs = new QPushButton(tr("It is theirs"), block);
  theirs->setObjectName("theirs " + QString::fromStdString(mate.account));
  theirs->setToolTip(
      tr("Ask them for the mark of that computer first: it stands on this page there. Until then it is given "
         "nothing."));
  column->addWidget(facts);
  column->addWidget(theirs, 0, Qt::AlignLeft);
  rows_->addWidget(block);
  connect(theirs, &QPushButton::clicked, this, [this, account = mate.account, mark = mate.mark] {
    try {
      believe(records_.tools(), account, mark);
      if (before_.contains(account)) shareBundle(records_.tools(), credential_, before_);
      showFor(credential_);
    } catch (const Error& e) {
      emit said(QString::fromUtf8(e.what()));
    }
  });
}

std::set<std::string> TeamPart::chosen() const {
  std::set<std::string> out;
  for (const QCheckBox* tick : ticks_)
    if (tick->isChecked()) out.insert(tick->property("account").toString().toStdString());
  return out;
}

std::vector<std::string> TeamPart::losers() const {
  const std::set<std::string> now = chosen();
  std::vector<std::string> out;
  for (const std::string& account : before_)
    if (!now.contains(account)) out.push_back(account);
  return out;
}

void TeamPart::share() {
  const std::set<std::string> now = chosen();
  if (isHidden() || now == before_) return;
  shareBundle(records_.tools(), credential_, now);
  before_ = now;
}

}  // namespace kw::desktop
