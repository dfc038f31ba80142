#include "desktop/record/many_sheet.hpp"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

#include "desktop/app/counts.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/record/setting_editor.hpp"
#include "desktop/sheet/section_list.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "record/catalogue.hpp"

namespace kw::desktop {

namespace {

QStringList tagsOf(const std::string& text) {
  QStringList out;
  for (const QString& tag : QString::fromStdString(text).split(',', Qt::SkipEmptyParts))
    if (!tag.trimmed().isEmpty()) out << tag.trimmed();
  return out;
}

}  // namespace

ManySheet::ManySheet(Records& records, QWidget* parent) : QWidget(parent), records_(records) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  auto* top = new QHBoxLayout;
  top->setContentsMargins(20, 12, 14, 10);
  top->setSpacing(8);
  title_ = new QLabel(this);
  title_->setObjectName("title");
  auto* undo = new QPushButton(tr("Undo changes"), this);
  auto* close = new QPushButton(tr("Close"), this);
  keep_ = new QPushButton(tr("Keep for all"), this);
  keep_->setObjectName("keepMany");
  keep_->setProperty("own", true);
  top->addWidget(title_, 1);
  for (QPushButton* b : {undo, close, keep_}) top->addWidget(b);
  column->addLayout(top);
  problem_ = new QLabel(this);
  problem_->setObjectName("bad");
  problem_->setContentsMargins(20, 0, 20, 6);
  problem_->setWordWrap(true);
  column->addWidget(problem_);
  auto* middle = new QHBoxLayout;
  middle->setSpacing(0);
  list_ = sectionList(this);
  pages_ = new QStackedWidget(this);
  middle->addWidget(list_);
  middle->addWidget(pages_, 1);
  column->addLayout(middle, 1);
  connect(list_, &QListWidget::currentRowChanged, pages_, &QStackedWidget::setCurrentIndex);
  connect(undo, &QPushButton::clicked, this, [this] { edit(machines_); });
  connect(close, &QPushButton::clicked, this, &ManySheet::closed);
  connect(keep_, &QPushButton::clicked, this, &ManySheet::keep);
}

void ManySheet::edit(std::vector<Id> machines) {
  base_ = records_.shared();
  std::erase_if(machines, [this](Id id) { return !base_->machines.contains(id); });
  machines_ = std::move(machines);
  settings_.clear();
  group_.reset(), host_.reset(), addTag_.reset(), dropTag_.reset();
  schemes_.clear();
  for (const Id m : machines_)
    for (const Endpoint* e : base_->endpointsOf(m)) schemes_.insert(e->scheme());
  title_->setText(tr("%1 together").arg(machineCount(static_cast<int>(machines_.size()))));
  buildPages();
  touched();
}

bool ManySheet::applies(const Setting& s) const {
  return s.protocols.empty() || std::any_of(schemes_.begin(), schemes_.end(),
                                            [&](const std::string& scheme) { return appliesTo(s, scheme); });
}

void ManySheet::buildPages() {
  const int row = std::max(0, list_->currentRow());
  list_->clear();
  while (pages_->count() > 0) {
    QWidget* page = pages_->widget(0);
    pages_->removeWidget(page);
    page->setParent(nullptr);
    page->deleteLater();
  }
  const auto add = [&](const QString& name, QWidget* page) {
    list_->addItem(name);
    pages_->addWidget(page);
  };
  add(tr("Name and place"), pageNames());
  QStringList sections;
  for (const Setting& s : allSettings())
    if (applies(s) && !sections.contains(s.section)) sections << s.section;
  for (const QString& section : sections) add(section, pageSettings(section));
  list_->setCurrentRow(std::min(row, list_->count() - 1));
}

QLineEdit* ManySheet::fieldRow(QVBoxLayout* column, const QString& label, const QString& common, bool mixed) {
  auto* edit = new QLineEdit(mixed ? QString() : common);
  edit->setPlaceholderText(mixed ? tr("mixed") : tr("none"));
  labelled(column, label, edit);
  return edit;
}

QWidget* ManySheet::pageNames() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, tr("Name and place"));
  QStringList groups, hosts, tags;
  for (const Id id : machines_) {
    const Machine& m = base_->machines.at(id);
    QString path;
    for (const Folder* f : base_->pathOf(m.folder))
      path += (path.isEmpty() ? "" : " / ") + QString::fromStdString(f->name);
    if (!groups.contains(path)) groups << path;
    if (const QString host = QString::fromStdString(m.host); !hosts.contains(host)) hosts << host;
    for (const QString& tag : tagsOf(m.tags))
      if (!tags.contains(tag)) tags << tag;
  }
  auto* group = fieldRow(column, tr("Place and group"), groups.value(0), groups.size() > 1);
  group->setObjectName("manyGroup");
  auto* host = fieldRow(column, tr("Runs on host"), hosts.value(0), hosts.size() > 1);
  auto* add = fieldRow(column, tr("Add the tag"), {}, false);
  add->setObjectName("manyAddTag");
  auto* drop = fieldRow(column, tr("Take away the tag"), {}, false);
  auto* hint = new QLabel(
      tags.isEmpty() ? tr("None of them has a tag.") : tr("Tags now: %1").arg(tags.join(", ")), page);
  hint->setObjectName("quiet");
  hint->setWordWrap(true);
  column->addWidget(hint);
  column->addStretch();
  const auto bind = [this](QLineEdit* edit, std::optional<QString>& into) {
    connect(edit, &QLineEdit::textEdited, this, [this, &into](const QString& t) {
      into = t.trimmed();
      touched();
    });
  };
  bind(group, group_), bind(host, host_), bind(add, addTag_), bind(drop, dropTag_);
  return scrolled(page);
}

ManySheet::Common ManySheet::commonOf(const std::string& key) const {
  if (const auto changed = settings_.find(key); changed != settings_.end() && changed->second)
    return {*changed->second, false, static_cast<int>(machines_.size())};
  Common out;
  const bool givenBack = settings_.contains(key);
  for (const Id id : machines_) {
    const Owner owner{OwnerKind::Machine, id};
    SettingChanges back;
    if (givenBack) back[owner][key] = std::nullopt;
    const ResolvedSetting r = base_->resolve(owner, key, &back);
    if (id != machines_.front() && r.value != out.value) out.mixed = true;
    out.value = r.value;
    if (r.setHere) ++out.setHere;
  }
  return out;
}

QWidget* ManySheet::pageSettings(const QString& section) {
  auto* page = new QWidget;
  auto* column = pageLayout(page, section);
  column->setSpacing(6);
  for (const Setting& s : allSettings())
    if (section == s.section && applies(s)) column->addWidget(settingRow(s, page));
  column->addStretch();
  return scrolled(page);
}

QWidget* ManySheet::settingRow(const Setting& s, QWidget* page) {
  auto* line = new QFrame(page);
  line->setObjectName("line");
  line->setStyleSheet("QFrame#line{border-bottom:1px solid " + scheme().line.name() + ";}");
  auto* row = new QHBoxLayout(line);
  row->setContentsMargins(0, 3, 0, 5);
  row->addWidget(makeSettingLabel(s, line));
  const std::string key = s.key;
  const SettingEditor editor =
      makeSettingEditor(s, *base_, commonOf(key).value, line, [this, key](const std::string& v) {
        settings_[key] = v;
        touched();
      });
  row->addWidget(editor.widget);
  auto* state = new QPushButton(line);
  state->setFlat(true);
  state->setObjectName("many:" + QString::fromStdString(key));
  state->setStyleSheet(
      "QPushButton{border:none;padding:2px "
      "8px;text-align:left;}QPushButton:hover{text-decoration:underline;}");
  row->addWidget(state);
  row->addStretch(1);
  const auto refresh = [this, key, editor, state] {
    const Common now = commonOf(key);
    now.mixed ? editor.showMixed() : editor.show(now.value);
    const int all = static_cast<int>(machines_.size());
    state->setText(settings_.contains(key)
                       ? (settings_.at(key) ? tr("for all of them") : tr("inherited again by all"))
                   : now.setHere == 0 ? tr("inherited")
                                      : tr("set on %1 of %2").arg(now.setHere).arg(all));
    state->setToolTip(tr("Click so that the inherited value counts again for all of them"));
  };
  refresh();
  connect(this, &ManySheet::draftChanged, line, refresh);
  connect(state, &QPushButton::clicked, this, [this, key] {
    settings_[key] = std::nullopt;
    touched();
  });
  return line;
}

QString ManySheet::problem() const {
  for (const auto& [key, value] : settings_)
    if (const Setting* s = findSetting(key); s != nullptr && value)
      if (const std::string wrong = problemWith(*s, *value); !wrong.empty())
        return QString::fromUtf8(s->label) + ": " + QString::fromStdString(wrong);
  return {};
}

void ManySheet::touched() {
  summarize();
  const QString wrong = problem();
  const bool any = !settings_.empty() || group_ || host_ || addTag_ || dropTag_;
  problem_->setText(wrong);
  problem_->setVisible(!wrong.isEmpty());
  keep_->setEnabled(any && wrong.isEmpty());
  keep_->setToolTip(any ? wrong : tr("Nothing was changed"));
  emit draftChanged();
}

/// Below each page's name: what will change by it.
void ManySheet::summarize() {
  for (int row = 0; row < list_->count(); ++row) {
    const QString section = list_->item(row)->text();
    int changed = row == 0 ? (group_ ? 1 : 0) + (host_ ? 1 : 0) + (addTag_ ? 1 : 0) + (dropTag_ ? 1 : 0) : 0;
    for (const auto& [key, value] : settings_)
      if (const Setting* s = findSetting(key); s != nullptr && section == s->section) ++changed;
    list_->item(row)->setData(kSummaryRole, changed == 0 ? tr("as it is") : tr("%1 to change").arg(changed));
  }
}

bool ManySheet::keep() {
  if (!problem().isEmpty()) return false;
  const QString count = machineCount(static_cast<int>(machines_.size()));
  const bool done = records_.commit(tr("change %1").arg(count), [&](StoreWriter& w) {
    const Id folder = group_ ? folderNamed(*base_, w, group_->toStdString()) : 0;
    for (const Id id : machines_) {
      Machine m = base_->machines.at(id);
      const Machine before = m;
      if (group_) m.folder = folder;
      if (host_) m.host = host_->toStdString();
      QStringList tags = tagsOf(m.tags);
      if (addTag_ && !addTag_->isEmpty() && !tags.contains(*addTag_)) tags << *addTag_;
      if (dropTag_) tags.removeAll(*dropTag_);
      if (addTag_ || dropTag_) m.tags = tags.join(", ").toStdString();
      if (m.folder != before.folder || m.host != before.host || m.tags != before.tags) w.put(m);
      for (const auto& [key, value] : settings_) w.set({OwnerKind::Machine, id}, key, value);
    }
  });
  if (!done) return false;
  emit said(tr("Kept for %1. Ctrl+Z takes all of it back.").arg(count));
  edit(machines_);
  return true;
}

}  // namespace kw::desktop
