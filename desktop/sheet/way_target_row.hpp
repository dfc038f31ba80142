// Below an address that may name a machine on its host: which of the two it leads to, and whose account signs
// in there. Hidden for other addresses. The address itself stays what is kept; this row reads and writes it.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QWidget>

namespace kw::desktop {

class WayTargetRow : public QWidget {
  Q_OBJECT
 public:
  explicit WayTargetRow(QLineEdit* address);
  [[nodiscard]] QComboBox* choice() const { return choice_; }
  [[nodiscard]] QLineEdit* id() const { return id_; }

 protected:
  void resizeEvent(QResizeEvent*) override { fitHint(); }

 private:
  void say(const char* hint);
  /// A layout inside of a layout does not ask a wrapped text how high it is.
  void fitHint();
  void read();
  void write();
  QLineEdit* address_;
  QComboBox* choice_;
  QLineEdit* id_;
  QLabel* hint_;
  bool writing_ = false;
};

}  // namespace kw::desktop
