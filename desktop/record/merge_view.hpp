// Two people changed one record: theirs and mine side by side, each field chosen.
#pragma once
#include <QWidget>

#include "record/merge.hpp"

class QLabel;
class QTableWidget;

namespace kw::desktop {

class MergeView : public QWidget {
  Q_OBJECT
 public:
  explicit MergeView(QWidget* parent);
  /// `who` changed it last; empty when that is not known.
  void show(const QString& name, const QString& who, std::vector<MergeField> fields);
  [[nodiscard]] const std::vector<MergeField>& fields() const { return fields_; }
  [[nodiscard]] QTableWidget* table() const { return table_; }
  void choose(int row, bool mine);

 signals:
  void keepWanted();
  void theirsWanted();
  void backWanted();

 private:
  void showRow(int row);

  std::vector<MergeField> fields_;
  QLabel *heading_, *hint_;
  QTableWidget* table_;
};

}  // namespace kw::desktop
