// The page where colour schemes are looked at and own ones are made, with a preview that follows every
// change.
#pragma once
#include <QWidget>
#include <functional>
#include <optional>

#include "desktop/look/own_colours.hpp"

class QGridLayout;
class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace kw::desktop {

class ColoursPreview;

class ColoursView : public QWidget {
  Q_OBJECT
 public:
  explicit ColoursView(QWidget* parent = nullptr);
  /// Chooses a scheme by its name.
  void choose(const QString& name, bool window);
  [[nodiscard]] QListWidget* list() const { return list_; }

 signals:
  /// An own scheme is different now; whoever shows it must look again.
  void changed();
  /// "Use it for the window".
  void windowSchemeWanted(const QString& name);
  void said(const QString& sentence);
  void closed();

 private:
  struct Chosen {
    bool window = false;
    int own = -1;  ///< index into the own schemes; -1: a shipped one
    TextScheme text;
    Scheme scheme;
    [[nodiscard]] QString name() const { return window ? scheme.name : text.name; }
  };
  void refreshList();
  void show(int row);
  void showFields();
  void rename(const QString& name);
  void copyChosen();
  void removeChosen();
  void putBack();
  /// Takes the changed scheme into the own ones, shows it and keeps it on disk.
  void keep();
  void showRemark();
  template <typename S>
  void addFields(S& scheme, const std::vector<ColourPart<S>>& parts);

  QListWidget* list_;
  QLineEdit* name_;
  QLabel* remark_;
  QWidget* fields_;
  QGridLayout* grid_;
  QPushButton *copy_, *remove_, *back_, *use_;
  ColoursPreview* preview_;
  Chosen chosen_;
  std::vector<Chosen> rows_;  ///< what the list shows; headings have an empty name
  std::optional<Chosen> removed_;
};

}  // namespace kw::desktop
