#include "desktop/record/setting_editor.hpp"

#include <QComboBox>
#include <QLineEdit>

#include "desktop/look/own_colours.hpp"

namespace kw::desktop {

namespace {

/// What a Choice offers here besides what is declared: what people made.
void addOwnChoices(const Setting& s, const Snapshot& records, std::vector<std::string>& values) {
  if (std::string_view(s.ownPrefix) == kNamedSignIn)
    for (const auto& [id, c] : records.credentials) values.push_back(kNamedSignIn + c.name);
  if (std::string_view(s.key) == "text.scheme")
    for (const TextScheme& own : OwnColours::all().text) values.push_back(own.key.toStdString());
}

SettingEditor choiceEditor(const Setting& s, const Snapshot& records, const std::string& now, QWidget* parent,
                           std::function<void(const std::string&)> edited) {
  std::vector<std::string> values;
  if (s.type == SettingType::Switch) {
    values = {"on", "off"};
  } else {
    for (const SettingChoice& c : s.choices) values.emplace_back(c.value);
    addOwnChoices(s, records, values);
    if (!now.empty() && std::find(values.begin(), values.end(), now) == values.end()) values.push_back(now);
  }
  auto* box = new QComboBox(parent);
  for (const std::string& v : values) box->addItem(QString::fromStdString(labelOf(s, v)));
  QObject::connect(box, &QComboBox::activated, parent, [values, edited = std::move(edited)](int i) {
    edited(values[static_cast<std::size_t>(i)]);
  });
  return {box,
          [box, values](const std::string& v) {
            for (std::size_t i = 0; i < values.size(); ++i)
              if (values[i] == v) box->setCurrentIndex(static_cast<int>(i));
          },
          [box] {
            box->setPlaceholderText(QObject::tr("mixed"));
            box->setCurrentIndex(-1);
          }};
}

SettingEditor lineEditor(const Setting& s, QWidget* parent, std::function<void(const std::string&)> edited) {
  auto* edit = new QLineEdit(parent);
  const QString room =
      s.type == SettingType::Whole
          ? QObject::tr("%1 to %2 %3").arg(s.least).arg(s.most).arg(QString::fromUtf8(s.unit))
          : QString();
  edit->setPlaceholderText(room);
  QObject::connect(edit, &QLineEdit::textEdited, parent,
                   [edited = std::move(edited)](const QString& t) { edited(t.trimmed().toStdString()); });
  return {edit,
          [edit, room](const std::string& v) {
            edit->setPlaceholderText(room);
            if (edit->text().trimmed().toStdString() == v) return;
            edit->setText(QString::fromStdString(v));
            edit->setCursorPosition(0);  // of a long one the beginning is seen
          },
          [edit] {
            edit->clear();
            edit->setPlaceholderText(QObject::tr("mixed"));
          }};
}

}  // namespace

QLabel* makeSettingLabel(const Setting& s, QWidget* parent) {
  auto* label = new QLabel(QString::fromUtf8(s.label), parent);
  label->setFixedWidth(kSettingLabelWidth);
  label->setWordWrap(true);
  label->setToolTip(QString::fromUtf8(s.help));
  return label;
}

SettingEditor makeSettingEditor(const Setting& s, const Snapshot& records, const std::string& now,
                                QWidget* parent, std::function<void(const std::string&)> edited) {
  const bool chosen = s.type == SettingType::Choice || s.type == SettingType::Switch;
  SettingEditor out = chosen ? choiceEditor(s, records, now, parent, std::move(edited))
                             : lineEditor(s, parent, std::move(edited));
  out.widget->setObjectName("setting:" + QString::fromUtf8(s.key));
  out.widget->setAccessibleName(QString::fromUtf8(s.label));
  out.widget->setToolTip(QString::fromUtf8(s.help));
  out.widget->setFixedWidth(kSettingEditorWidth);
  return out;
}

}  // namespace kw::desktop
