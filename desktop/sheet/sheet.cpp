#include "desktop/sheet/sheet.hpp"

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
#include <QTimer>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/sheet/section_list.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "line/finder.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"

namespace kw::desktop {

namespace {

bool sameWay(const Endpoint& a, const Endpoint& b) {
  return a.label == b.label && a.address == b.address && a.position == b.position && a.machine == b.machine;
}

}  // namespace

Sheet::Sheet(Records& records, QWidget* parent) : QWidget(parent), records_(records) { build(); }

void Sheet::build() {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  auto* top = new QHBoxLayout;
  top->setContentsMargins(20, 12, 14, 10);
  title_ = new QLabel(this);
  title_->setObjectName("title");
  title_->setTextFormat(Qt::PlainText);
  top->setSpacing(8);
  subtitle_ = new QLabel(this);
  subtitle_->setObjectName("quiet");
  undo_ = new QPushButton(tr("Undo changes"), this);
  keep_ = new QPushButton(tr("Keep"), this);
  keepOpen_ = new QPushButton(tr("Keep and open"), this);
  close_ = new QPushButton(tr("Close"), this);
  keep_->setProperty("own", true);
  keepOpen_->setProperty("own", true);
  keep_->setObjectName("keep");
  keepOpen_->setObjectName("keepOpen");
  top->addWidget(title_);
  top->addWidget(subtitle_, 1);
  for (QPushButton* b : {undo_, close_, keep_, keepOpen_}) top->addWidget(b);
  column->addLayout(top);
  problem_ = new QLabel(this);
  problem_->setObjectName("bad");
  problem_->setWordWrap(true);
  problem_->setContentsMargins(20, 0, 20, 6);
  problem_->hide();
  column->addWidget(problem_);
  buildMerge(column);
  middle_ = new QWidget(this);
  auto* middle = new QHBoxLayout(middle_);
  middle->setContentsMargins(0, 0, 0, 0);
  middle->setSpacing(0);
  list_ = sectionList(this);
  pages_ = new QStackedWidget(this);
  middle->addWidget(list_);
  middle->addWidget(pages_, 1);
  column->addWidget(middle_, 1);
  connect(&records_, &Records::changed, this, &Sheet::recordsChanged);
  connect(list_, &QListWidget::currentRowChanged, pages_, &QStackedWidget::setCurrentIndex);
  // A way of another kind may have come or gone: its pages follow once somebody turns to another page.
  connect(list_, &QListWidget::currentRowChanged, this, [this](int row) {
    if (row < 0 || folder_ || shownSections_ == sections()) return;
    QTimer::singleShot(0, this, [this, name = list_->item(row)->text()] {
      buildPages();
      const auto found = list_->findItems(name, Qt::MatchExactly);
      if (!found.isEmpty()) list_->setCurrentItem(found.first());
    });
  });
  connect(undo_, &QPushButton::clicked, this,
          [this] { folder_ ? editFolder(folder_->id, folder_->parent) : edit(machine_.id); });
  connect(keep_, &QPushButton::clicked, this, [this] { keep(); });
  connect(keepOpen_, &QPushButton::clicked, this, [this] {
    if (!keep()) return;
    for (const EndpointRow& row : ways_)
      if (!row.removed && canOpen(row.endpoint.scheme())) {
        emit openWanted(row.endpoint.id);
        return;
      }
  });
  connect(close_, &QPushButton::clicked, this, &Sheet::closed);
}

QStringList Sheet::sections() const {
  QStringList out;
  for (const Setting& s : allSettings())
    // A machine's page of signing in has more on it.
    if (applies(s) && !out.contains(s.section) && (folder_ || std::string_view(s.section) != kSignInSection))
      out << s.section;
  return out;
}

/// Whether a setting means something for what is being set: one way in, or any of the machine's.
bool Sheet::applies(const Setting& s) const {
  if (s.protocols.empty()) return true;
  const auto fits = [&](const EndpointRow& row) { return appliesTo(s, row.endpoint.scheme()); };
  if (owner_.kind == OwnerKind::Folder) return true;
  if (owner_.kind == OwnerKind::WayIn)
    for (const EndpointRow& row : ways_)
      if (row.endpoint.id == owner_.id) return fits(row);
  return std::any_of(ways_.begin(), ways_.end(),
                     [&](const EndpointRow& row) { return !row.removed && fits(row); });
}

void Sheet::edit(Id machine, const QString& address) {
  base_ = records_.shared();
  hideMerge();
  machine_ = {};
  folder_.reset();
  ways_.clear();
  changes_.clear();
  newPassword_.reset();
  forgetPassword_ = changed_ = false;
  currentWay_ = 0;
  if (const auto found = base_->machines.find(machine); found != base_->machines.end()) {
    machine_ = found->second;
    for (const Endpoint* e : base_->endpointsOf(machine)) ways_.push_back({*e, false});
    for (std::size_t i = 0; i < ways_.size(); ++i)
      if (canOpen(ways_[i].endpoint.scheme())) {
        currentWay_ = i;
        break;
      }
  }
  if (ways_.empty()) {
    Endpoint e;
    e.address = address.isEmpty() ? "vnc://" : address.toStdString();
    const WayKind* kind = findWayKind(e.scheme());
    e.label = kind == nullptr ? "screen" : kind->wayName;
    ways_.push_back({e, false});
  }
  groupPath_ = pathText(machine_.folder);
  owner_ = {OwnerKind::WayIn, ways_[currentWay_].endpoint.id};
  buildPages();
}

void Sheet::buildPages() {
  const int row = std::max(0, list_->currentRow());
  list_->clear();
  while (pages_->count() > 0) {
    QWidget* page = pages_->widget(0);
    pages_->removeWidget(page);
    page->setParent(nullptr);  // gone for whoever looks for its fields, though deleted only later
    page->deleteLater();
  }
  const auto add = [&](const QString& name, QWidget* page) {
    list_->addItem(name);
    pages_->addWidget(page);
  };
  keepOpen_->setVisible(!folder_);
  shownSections_ = folder_ && folder_->id == 0 ? QStringList() : sections();
  if (folder_) {
    add(tr("Name and place"), pageFolder());
    for (const QString& section : shownSections_) add(section, pageSettings(section));
  } else {
    add(tr("Name and place"), pageNames());
    add(tr("Ways to reach it"), pageWays());
    for (const QString& section : shownSections_) add(section, pageSettings(section));
    add(tr("Sign-in"), pageSignIn());
  }
  add(tr("Notes"), pageNotes());
  list_->setCurrentRow(std::min(row, list_->count() - 1));
  refreshSummaries();
}

QString Sheet::pathText(Id folder) const {
  QString path;
  for (const Folder* f : base_->pathOf(folder))
    path += (path.isEmpty() ? "" : " / ") + QString::fromStdString(f->name);
  return path;
}

QComboBox* Sheet::newGroupBox(QWidget* page) const {
  auto* group = new QComboBox(page);
  group->setEditable(true);
  group->setObjectName("machineGroup");
  group->lineEdit()->setAccessibleName(tr("Place and group"));
  QStringList paths;
  for (const auto& [id, f] : base_->folders) paths << pathText(id);
  paths.sort();
  group->addItems(paths);
  group->setCurrentText(groupPath_);
  return group;
}

QWidget* Sheet::pageNames() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, tr("Name and place"));
  auto* name = new QLineEdit(QString::fromStdString(machine_.name), page);
  name->setObjectName("machineName");
  name->setPlaceholderText(tr("mist-bench"));
  labelled(column, tr("Name"), name);
  auto* group = newGroupBox(page);
  labelled(column, tr("Place and group"), group);
  auto* host = new QLineEdit(QString::fromStdString(machine_.host), page);
  labelled(column, tr("Runs on host"), host);
  auto* tags = new QLineEdit(QString::fromStdString(machine_.tags), page);
  labelled(column, tr("Tags"), tags);
  column->addStretch();
  connect(name, &QLineEdit::textChanged, this,
          [this](const QString& t) { machine_.name = t.trimmed().toStdString(), touched(); });
  connect(group, &QComboBox::currentTextChanged, this,
          [this](const QString& t) { groupPath_ = t, touched(); });
  connect(host, &QLineEdit::textChanged, this,
          [this](const QString& t) { machine_.host = t.trimmed().toStdString(), touched(); });
  connect(tags, &QLineEdit::textChanged, this,
          [this](const QString& t) { machine_.tags = t.trimmed().toStdString(), touched(); });
  return scrolled(page);
}

QWidget* Sheet::pageNotes() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, tr("Notes"));
  auto* notes = new QPlainTextEdit(QString::fromStdString(folder_ ? folder_->notes : machine_.notes), page);
  notes->setAccessibleName(tr("Notes"));
  column->addWidget(notes, 1);
  connect(notes, &QPlainTextEdit::textChanged, this, [this, notes] {
    (folder_ ? folder_->notes : machine_.notes) = notes->toPlainText().toStdString();
    touched();
  });
  return page;
}

QString Sheet::machineName() const {
  if (folder_) return folder_->name.empty() ? tr("New group") : QString::fromStdString(folder_->name);
  return machine_.name.empty() ? tr("New machine") : QString::fromStdString(machine_.name);
}
bool Sheet::dirty() const { return changed_; }

std::optional<Endpoint> Sheet::draftEndpoint() const {
  if (folder_) return std::nullopt;
  for (std::size_t i = currentWay_; i < ways_.size(); ++i)
    if (!ways_[i].removed) {
      Endpoint e = ways_[i].endpoint;
      e.machine = machine_.id;
      return e;
    }
  return std::nullopt;
}

std::vector<RecordCheck> Sheet::checks() const {
  const auto draft = draftEndpoint();
  return draft ? checksOf(*base_, *draft, &changes_) : std::vector<RecordCheck>();
}

void Sheet::useAddress(const QString& address) {
  if (folder_) return;
  ways_[currentWay_].endpoint.address = address.toStdString();
  refreshWays();
  touched();
}

void Sheet::useFolder(Id folder) {
  machine_.folder = folder;
  groupPath_ = pathText(folder);
  buildPages();
}

void Sheet::touched() {
  changed_ = true;
  refreshSummaries();
  emit draftChanged();
}

QString Sheet::problem() const {
  if (folder_) {
    if (const QString wrong = folderProblem(); !wrong.isEmpty()) return wrong;
  } else if (machine_.name.empty())
    return tr("The machine needs a name.");
  for (const auto& [id, m] : base_->machines)
    if (!folder_ && m.name == machine_.name && id != machine_.id)
      return tr("Another machine is called %1 already.").arg(machineName());
  for (const EndpointRow& row : ways_) {
    if (row.removed) continue;
    try {
      parseAddress(row.endpoint.address);
    } catch (const Error& e) {
      return tr("Address %1").arg(QString::fromUtf8(e.what()));
    }
  }
  for (const auto& [owner, values] : changes_)
    for (const auto& [key, value] : values)
      if (const Setting* s = findSetting(key); s != nullptr && value)
        if (const std::string p = problemWith(*s, *value); !p.empty())
          return QString::fromUtf8(s->label) + ": " + QString::fromStdString(p);
  return {};
}

void Sheet::refreshSummaries() {
  title_->setText(machineName());
  const auto way = draftEndpoint();
  subtitle_->setText(way ? tr("editing its way in \"%1 · %2\"")
                               .arg(QString::fromStdString(way->label), QString::fromStdString(way->scheme()))
                         : QString());
  const QString wrong = problem();
  problem_->setVisible(!wrong.isEmpty() && changed_);
  problem_->setText(wrong);
  for (QPushButton* b : {keep_, keepOpen_}) {
    b->setEnabled(wrong.isEmpty() && (changed_ || (b == keepOpen_)));
    b->setToolTip(wrong.isEmpty() ? (changed_ ? QString() : tr("Nothing was changed")) : wrong);
  }
  undo_->setEnabled(changed_);
  QStringList names;
  for (const EndpointRow& row : ways_)
    if (!row.removed) names << QString::fromStdString(row.endpoint.label);
  const auto summarize = [&](int row, const QString& text) {
    if (auto* item = list_->item(row)) item->setData(kSummaryRole, text);
  };
  int row = 0;
  if (folder_) {
    summarize(row++, groupPath_.isEmpty() ? tr("a place") : tr("in %1").arg(groupPath_.section(" / ", -1)));
    summarizeFolder();
  } else {
    summarize(row++, groupPath_.isEmpty() ? tr("no group") : groupPath_.section(" / ", -1));
    summarize(row++, names.join(", "));
  }
  for (const QString& section : shownSections_) {
    int own = 0;
    int inherited = 0;
    for (const Setting& s : allSettings()) {
      if (section != s.section) continue;
      const ResolvedSetting r = inForce(s.key);
      if (r.setHere) ++own;
      if (!r.setHere && r.origin != "built in") ++inherited;
    }
    QStringList parts;
    if (own > 0) parts << tr("%1 set here").arg(own);
    if (inherited > 0) parts << tr("%1 inherited").arg(inherited);
    summarize(row++, parts.isEmpty() ? tr("as built in") : parts.join(", "));
  }
  if (!folder_) summarize(row++, newPassword_ ? tr("a new password") : signInWords());
  const std::string& notes = folder_ ? folder_->notes : machine_.notes;
  summarize(row, notes.empty() ? tr("none") : QString::fromStdString(notes).section('\n', 0, 0));
}

bool Sheet::keep() {
  if (!problem().isEmpty()) return false;
  // Settings have no versions: that others changed them is found here.
  if (!othersChanges(*records_.shared()).empty()) {
    if (folder_)
      showFolderMerge();
    else
      showMerge();
    return false;
  }
  if (folder_) return keepFolder();
  const bool isNew = machine_.id == 0;
  const auto draft = machine_;
  const auto ways = ways_;
  const Id signInWayBefore = signInWay();
  const auto done = records_.write((isNew ? tr("add %1") : tr("change %1")).arg(machineName()),
                                   [&](StoreWriter& w) {
                                     machine_ = draft;
                                     ways_ = ways;
                                     writeDraft(w);
                                   },
                                   false);
  if (done != Records::Written::Yes) {
    machine_ = draft;
    ways_ = ways;
    if (done == Records::Written::Stale) showMerge();
    return false;
  }
  const Owner way{OwnerKind::WayIn, signInWayBefore != 0 ? signInWayBefore : ways_[currentWay_].endpoint.id};
  try {
    if (forgetPassword_) records_.store().removeSecret(way);
    if (newPassword_) keepSignIn(records_.tools(), way, {"", newPassword_->toStdString()});
  } catch (const Error& e) {
    emit records_.failed(QString::fromUtf8(e.what()));
  }
  const Id id = machine_.id;
  edit(id);
  emit kept(id);
  return true;
}

void Sheet::writeDraft(StoreWriter& w) {
  machine_.folder = folderNamed(*base_, w, groupPath_.toStdString());
  w.put(machine_);
  int position = 0;
  for (EndpointRow& row : ways_) {
    if (row.removed) {
      if (row.endpoint.id != 0) w.removeEndpoint(row.endpoint.id);
      continue;
    }
    row.endpoint.machine = machine_.id;
    row.endpoint.address = parseAddress(row.endpoint.address).uri();
    row.endpoint.position = position++;
    // What nobody touched is not written: a colleague may have changed it.
    const auto kept = base_->endpoints.find(row.endpoint.id);
    if (kept == base_->endpoints.end() || !sameWay(kept->second, row.endpoint)) w.put(row.endpoint);
  }
  for (const auto& [owner, values] : changes_) {
    Owner real = owner;
    if (real.kind == OwnerKind::WayIn && real.id == 0) real.id = ways_[currentWay_].endpoint.id;
    if (real.kind == OwnerKind::Machine && real.id == 0) real.id = machine_.id;
    for (const auto& [key, value] : values) w.set(real, key, value);
  }
}

void Sheet::keyPressEvent(QKeyEvent* event) {
  if (event->key() == Qt::Key_Escape && !changed_)
    emit closed();
  else if (event->matches(QKeySequence::Save))
    keep();
  else
    QWidget::keyPressEvent(event);
}

}  // namespace kw::desktop
