// One declared setting as a field to edit, as every sheet shows it.
#pragma once
#include <QLabel>
#include <QWidget>
#include <functional>

#include "record/model.hpp"
#include "record/setting.hpp"

namespace kw::desktop {

constexpr int kSettingLabelWidth = 150, kSettingEditorWidth = 260;

/// Its name, in as many lines as it needs, with what it does as a tip.
QLabel* makeSettingLabel(const Setting& setting, QWidget* parent);

struct SettingEditor {
  QWidget* widget;
  /// Puts a value into it, without calling `edited`.
  std::function<void(const std::string&)> show;
  /// For several owners that differ: shows nothing chosen, and says "mixed".
  std::function<void()> showMixed;
};

/// `now` is the value in force; one that this desk does not know stays a choice. `edited` is called with
/// every value that a person gives.
SettingEditor makeSettingEditor(const Setting& setting, const Snapshot& records, const std::string& now,
                                QWidget* parent, std::function<void(const std::string&)> edited);

}  // namespace kw::desktop
