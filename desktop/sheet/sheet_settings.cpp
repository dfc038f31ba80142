// The sheet's pages of settings with their origins.
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
#include "desktop/record/setting_editor.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "line/finder.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"

namespace kw::desktop {

std::vector<std::pair<QString, Owner>> Sheet::owners() const {
  std::vector<std::pair<QString, Owner>> out;
  const auto addFolders = [&](Id folder) {
    const auto path = base_->pathOf(folder);
    for (auto at = path.rbegin(); at != path.rend(); ++at)
      out.emplace_back(
          ((*at)->parent == 0 ? tr("place %1") : tr("group %1")).arg(QString::fromStdString((*at)->name)),
          Owner{OwnerKind::Folder, (*at)->id});
  };
  if (folder_) {
    addFolders(folder_->id);
    return out;
  }
  for (const EndpointRow& way : ways_)
    if (!way.removed)
      out.emplace_back(
          tr("only %1 · %2")
              .arg(QString::fromStdString(way.endpoint.label), QString::fromStdString(way.endpoint.scheme())),
          Owner{OwnerKind::WayIn, way.endpoint.id});
  if (machine_.id != 0) out.emplace_back(tr("the whole machine"), Owner{OwnerKind::Machine, machine_.id});
  addFolders(machine_.folder);
  return out;
}

/// The value as it will be once the draft is kept.
ResolvedSetting Sheet::inForce(const std::string& key) const {
  // A way in that is not kept yet inherits through the draft's own parents.
  if (owner_.kind == OwnerKind::WayIn && owner_.id == 0) {
    if (const auto own = changes_.find(owner_); own != changes_.end())
      if (const auto value = own->second.find(key); value != own->second.end() && value->second)
        return {*value->second, "set here", true};
    const Owner parent =
        machine_.id != 0 ? Owner{OwnerKind::Machine, machine_.id} : Owner{OwnerKind::Folder, machine_.folder};
    return base_->resolve(parent, key, &changes_);
  }
  return base_->resolve(owner_, key, &changes_);
}

void Sheet::setValue(const std::string& key, const std::optional<std::string>& value) {
  changes_[owner_][key] = value;
  touched();
}

QWidget* Sheet::pageSettings(const QString& section) {
  auto* page = new QWidget;
  auto* column = pageLayout(page, section);
  column->setSpacing(6);
  addOwnerBox(column, page);
  addSettingRows(column, page, section);
  column->addStretch();
  return scrolled(page);
}

/// For whom the values of the page are set.
void Sheet::addOwnerBox(QVBoxLayout* column, QWidget* page) {
  auto* owner = new QComboBox(page);
  const auto all = owners();
  for (const auto& [name, o] : all) owner->addItem(name);
  for (std::size_t i = 0; i < all.size(); ++i)
    if (all[i].second == owner_) owner->setCurrentIndex(static_cast<int>(i));
  labelled(column, tr("Set for"), owner)->itemAt(0)->widget()->setFixedWidth(kSettingLabelWidth);
  owner->setFixedWidth(kSettingEditorWidth);
  connect(owner, &QComboBox::activated, this, [this, all](int i) {
    owner_ = all[static_cast<std::size_t>(i)].second;
    QMetaObject::invokeMethod(
        this, [this] { buildPages(); }, Qt::QueuedConnection);
  });
}

void Sheet::addSettingRows(QVBoxLayout* column, QWidget* page, const QString& section) {
  for (const Setting& s : allSettings())
    if (section == s.section && applies(s)) column->addWidget(settingRow(s, page));
  addWhatCannotBe(column, page, section);
}

/// What other ways in have on this page and this one has not, and what none has: said, not hidden.
void Sheet::addWhatCannotBe(QVBoxLayout* column, QWidget* page, const QString& section) {
  QStringList others;
  if (const auto way = draftEndpoint(); way && owner_.kind != OwnerKind::Folder)
    for (const Setting& s : allSettings())
      if (section == s.section && !applies(s) && sharesForm(s, way->scheme())) others << s.label;
  QStringList sentences;
  if (!others.isEmpty()) sentences << tr("Not for this way in: %1.").arg(others.join(", "));
  if (const std::string none = notThere(section.toStdString()); !none.empty())
    sentences << QString::fromStdString(none);
  if (sentences.isEmpty()) return;
  auto* note = new QLabel(sentences.join("\n"), page);
  note->setObjectName("quiet");
  note->setWordWrap(true);
  note->setContentsMargins(0, 8, 0, 0);
  column->addWidget(note);
}

/// Label, editor, and where the value comes from.
QWidget* Sheet::settingRow(const Setting& s, QWidget* page) {
  auto* line = new QFrame(page);
  line->setStyleSheet("QFrame#line{border-bottom:1px solid " + scheme().line.name() + ";}");
  line->setObjectName("line");
  auto* row = new QHBoxLayout(line);
  row->setContentsMargins(0, 3, 0, 5);
  row->addWidget(makeSettingLabel(s, line));
  const std::string key = s.key;
  const SettingEditor editor = makeSettingEditor(s, *base_, inForce(key).value, line,
                                                 [this, key](const std::string& v) { setValue(key, v); });
  row->addWidget(editor.widget);
  auto* origin = new QPushButton(line);
  origin->setFlat(true);
  origin->setObjectName("origin:" + QString::fromStdString(key));
  row->addWidget(origin);
  row->addStretch(1);
  const auto refresh = [this, key, show = editor.show, origin] {
    const ResolvedSetting r = inForce(key);
    show(r.value);
    origin->setText(r.trouble.empty()
                        ? QString::fromStdString(r.origin)
                        : tr("%1 · a stored value is passed over").arg(QString::fromStdString(r.origin)));
    origin->setToolTip(!r.trouble.empty() ? QString::fromStdString(r.trouble)
                       : r.setHere        ? tr("Click to give it back, so that the inherited value counts")
                                          : tr("Click to set it here"));
    origin->setStyleSheet(QString("QPushButton{border:none;padding:2px "
                                  "8px;text-align:left;color:%1;}QPushButton:hover{text-decoration:"
                                  "underline;}QPushButton:focus{text-decoration:underline;}")
                              .arg((r.setHere ? scheme().copper : scheme().quiet).name()));
  };
  refresh();
  connect(this, &Sheet::draftChanged, origin, refresh);
  connect(origin, &QPushButton::clicked, this, [this, key] {
    const ResolvedSetting r = inForce(key);
    setValue(key, r.setHere ? std::nullopt : std::optional(r.value));
  });
  return line;
}

}  // namespace kw::desktop
