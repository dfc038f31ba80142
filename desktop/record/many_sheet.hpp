// Several machines edited together: what differs is "mixed" until one value is given for all. One undo.
#pragma once
#include <QWidget>
#include <set>

#include "desktop/model/records.hpp"
#include "record/setting.hpp"

class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;
class QStackedWidget;
class QVBoxLayout;

namespace kw::desktop {

class ManySheet : public QWidget {
  Q_OBJECT
 public:
  ManySheet(Records& records, QWidget* parent);
  void edit(std::vector<Id> machines);
  bool keep();

 signals:
  void said(const QString& sentence);
  void closed();

 private:
  struct Common {
    std::string value;
    bool mixed = false;
    int setHere = 0;  ///< how many machines have it set themselves
  };
  void buildPages();
  QWidget* pageNames();
  QWidget* pageSettings(const QString& section);
  QWidget* settingRow(const Setting& setting, QWidget* page);
  QLineEdit* fieldRow(QVBoxLayout* column, const QString& label, const QString& common, bool mixed);
  [[nodiscard]] Common commonOf(const std::string& key) const;
  [[nodiscard]] bool applies(const Setting& setting) const;
  [[nodiscard]] QString problem() const;
  void touched();
  void summarize();

  Records& records_;
  std::shared_ptr<const Snapshot> base_;
  std::vector<Id> machines_;
  std::set<std::string> schemes_;  ///< of all their ways in
  /// For all of them; nothing: the inherited value counts again.
  std::map<std::string, std::optional<std::string>> settings_;
  std::optional<QString> group_, host_, addTag_, dropTag_;
  QLabel *title_, *problem_;
  QPushButton* keep_;
  QListWidget* list_;
  QStackedWidget* pages_;

 signals:
  void draftChanged();
};

}  // namespace kw::desktop
