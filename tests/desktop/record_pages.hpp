// What tests of the pages of records share.
#pragma once
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPlainTextEdit>
#include <QScrollBar>
#include <QTableWidget>
#include <fstream>
#include "base/file.hpp"
#include "desktop/pages/exchange_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/record/history_view.hpp"
#include "desktop/record/many_sheet.hpp"
#include "desktop/record/merge_view.hpp"
#include "desktop/record/own_commands.hpp"
#include "desktop/record/setting_editor.hpp"
#include "route/sign_in_source.hpp"
#include "tests/desktop/window_bench.hpp"

namespace kw::test {

/// A second program on the same records.
inline std::unique_ptr<Store> colleague(WindowBench& bench) {
  return openSqliteStore(bench.folder.path / "records.sqlite");
}

inline void toPage(QWidget* sheet, const QString& name) {
  auto* pages = sheet->findChild<QListWidget*>();
  const auto found = pages->findItems(name, Qt::MatchExactly);
  REQUIRE(found.size() == 1);
  pages->setCurrentItem(found.first());
}

inline void pick(QComboBox* box, const QString& text) {
  const int at = box->findText(text);
  REQUIRE(at >= 0);
  box->setCurrentIndex(at);
  emit box->activated(at);
}

inline void typeInto(QLineEdit* edit, const QString& text) {
  edit->clear();
  QTest::keyClicks(edit, text);
}

inline const Machine& machineOf(MainWindow& window, Id id) {
  return window.desk().records().snapshot().machines.at(id);
}

}  // namespace kw::test
