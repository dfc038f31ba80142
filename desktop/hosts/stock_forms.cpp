// The stock's page: a host is added, machines are adopted.
#include "desktop/hosts/stock_view.hpp"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QScrollArea>

#include "desktop/look/theme.hpp"
#include "host/console.hpp"

namespace kw::desktop {

namespace {
QString text(const std::string& s) { return QString::fromStdString(s); }
}  // namespace

QFrame* StockView::newForm(const QString& heading) {
  if (form_ != nullptr) {
    form_->hide();
    form_->deleteLater();
  }
  form_ = new QFrame(this);
  form_->setObjectName("card");
  auto* column = new QVBoxLayout(form_);
  column->setContentsMargins(16, 12, 16, 12);
  column->setSpacing(8);
  auto* title = new QLabel(heading, form_);
  title->setObjectName("heading");
  column->addWidget(title);
  middle_->insertWidget(2, form_);
  return form_;
}

QPushButton* StockView::endForm(QVBoxLayout* column, const QString& leaveWords, const QString& goWords) {
  auto* buttons = new QHBoxLayout;
  buttons->addStretch(1);
  auto* leave = new QPushButton(leaveWords, form_);
  auto* go = new QPushButton(goWords, form_);
  go->setProperty("own", true);
  buttons->addWidget(leave);
  buttons->addWidget(go);
  column->addLayout(buttons);
  connect(leave, &QPushButton::clicked, form_, [this] {
    form_->deleteLater();
    form_ = nullptr;
  });
  return go;
}

void StockView::showAddHost() {
  QFrame* form = newForm(tr("Add a host"));
  auto* column = static_cast<QVBoxLayout*>(form->layout());
  auto* first = new QHBoxLayout;
  auto* name = new QLineEdit(form);
  name->setObjectName("hostName");
  name->setPlaceholderText(tr("Name"));
  name->setAccessibleName(tr("Name"));
  name->setFixedWidth(150);
  auto* address = new QLineEdit(form);
  address->setObjectName("hostAddress");
  address->setPlaceholderText(text(host::allHostKinds().front().example));
  address->setAccessibleName(tr("Address"));
  first->addWidget(name);
  first->addWidget(address, 1);
  column->addLayout(first);
  QStringList examples;
  for (const host::HostKind& k : host::allHostKinds()) examples << text(k.example);
  auto* hint = new QLabel(tr("As in: %1").arg(examples.join("   ")), form);
  hint->setObjectName("quiet");
  hint->setWordWrap(true);
  column->addWidget(hint);
  auto* second = new QHBoxLayout;
  auto* user = new QLineEdit(form);
  user->setPlaceholderText(tr("Account there, if it asks"));
  user->setAccessibleName(tr("Account"));
  auto* password = new QLineEdit(form);
  password->setEchoMode(QLineEdit::Password);
  password->setPlaceholderText(tr("Its password"));
  password->setAccessibleName(tr("Password"));
  auto* group = new QComboBox(form);
  group->setEditable(true);
  group->setAccessibleName(tr("Adopted machines go into"));
  group->addItem(tr("a place of its name"));
  for (const auto& [id, f] : desk_.records().snapshot().folders) {
    QString path;
    for (const Folder* part : desk_.records().snapshot().pathOf(id))
      path += (path.isEmpty() ? "" : " / ") + text(part->name);
    group->addItem(path, QVariant::fromValue<qlonglong>(id));
  }
  second->addWidget(user);
  second->addWidget(password);
  second->addWidget(new QLabel(tr("adopt into"), form));
  second->addWidget(group, 1);
  column->addLayout(second);
  auto* trouble = new QLabel(form);
  trouble->setObjectName("bad");
  trouble->setWordWrap(true);
  trouble->hide();
  column->addWidget(trouble);
  QPushButton* keep = endForm(column, tr("Leave it"), tr("Add"));
  keep->setObjectName("keepHost");
  const auto add = [this, form, name, address, user, password, group, trouble] {
    const std::string where = address->text().trimmed().toStdString(),
                      called = name->text().trimmed().toStdString();
    QString problem = text(host::problemWithHostAddress(where));
    if (called.empty()) problem = tr("A host needs a name.");
    if (desk_.records().snapshot().hostNamed(called) != nullptr)
      problem = tr("A host of this name is there already.");
    trouble->setText(problem);
    trouble->setVisible(!problem.isEmpty());
    if (!problem.isEmpty()) return;
    Id id = 0;
    const bool done = desk_.records().commit(tr("add host %1").arg(text(called)), [&](StoreWriter& w) {
      HostRecord h;
      h.name = called;
      h.address = where;
      h.folder = group->currentData().toLongLong();
      w.put(h);
      id = h.id;
    });
    if (!done) return;
    if (!password->text().isEmpty())
      keepSignIn(desk_.tools(), {OwnerKind::Host, id},
                 {user->text().toStdString(), password->text().toStdString()});
    form->deleteLater();
    form_ = nullptr;
    emit said(tr("Added %1. Ctrl+Z takes it back.").arg(text(called)));
  };
  connect(keep, &QPushButton::clicked, form, add);
  connect(address, &QLineEdit::returnPressed, form, add);
  name->setFocus();
}

void StockView::showAdopt() {
  const auto machines = toAdopt();
  if (machines.empty()) return;
  QFrame* form = newForm(tr("Adopt %n machines into the roster", nullptr, static_cast<int>(machines.size())));
  auto* column = static_cast<QVBoxLayout*>(form->layout());
  constexpr std::size_t kMostShown = 8;
  std::map<Id, std::vector<host::StockMachine>> byHost;
  std::size_t shown = 0;
  for (const StockLine* l : machines) {
    byHost[l->host].push_back(l->row.machine);
    if (shown++ >= kMostShown) continue;
    QStringList ways;
    const auto& w = desk_.hosts().all().at(l->host);
    for (const host::OfferedWay& way : host::offeredWays(l->row.machine, Hosts::placeOf(w)))
      ways << text(way.label) + " · " + text(way.address);
    auto* line = new QLabel(QString("%1    %2")
                                .arg(text(l->row.machine.name),
                                     ways.isEmpty() ? tr("no way in while it is off") : ways.join("    ")),
                            form);
    line->setFont(monoFont(8.5));
    column->addWidget(line);
  }
  if (machines.size() > kMostShown) {
    auto* more = new QLabel(tr("and %n more", nullptr, static_cast<int>(machines.size() - kMostShown)), form);
    more->setObjectName("quiet");
    column->addWidget(more);
  }
  QPushButton* go = endForm(column, tr("Leave them"), tr("Adopt"));
  go->setObjectName("adoptNow");
  connect(go, &QPushButton::clicked, form, [this, byHost] {
    int made = 0;
    const auto records = desk_.records().shared();
    const bool done = desk_.records().commit(tr("adopt from the stock"), [&](StoreWriter& w) {
      for (const auto& [id, list] : byHost) {
        const auto& watched = desk_.hosts().all().at(id);
        const Id folder = watched.record.folder != 0 ? watched.record.folder
                                                     : folderNamed(*records, w, watched.record.name);
        made += static_cast<int>(host::adopt(w, *records, Hosts::placeOf(watched), folder, list).size());
      }
    });
    form_->deleteLater();
    form_ = nullptr;
    if (done) emit said(tr("%n machines adopted. Ctrl+Z takes them back.", nullptr, made));
  });
  go->setFocus();
}

}  // namespace kw::desktop
