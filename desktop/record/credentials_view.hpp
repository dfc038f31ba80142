// Sign-ins with a name: made, changed for all that take them, removed.
#pragma once
#include <QTimer>
#include <QWidget>

#include "credential/secret_bundle.hpp"
#include "desktop/model/records.hpp"

class QLabel;
class QLineEdit;
class QPlainTextEdit;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class CredentialsView : public QWidget {
  Q_OBJECT
 public:
  CredentialsView(Records& records, QWidget* parent);
  /// At one of them; empty: at the first.
  void showAt(const QString& name);
  void beginNew();
  bool keep();
  void removeShown();
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  void said(const QString& sentence);
  void closed();

 private:
  void build();
  QWidget* buildForm();
  void refresh();
  void showChosen();
  void fill();
  void takeKeyFile();
  void makePassword();
  void copyPassword();
  void showCode();
  [[nodiscard]] QString problem() const;
  [[nodiscard]] QString expiryWords(const Credential& c) const;

  Records& records_;
  Credential shown_;      ///< id 0: a new one
  SecretBundle secrets_;  ///< as they were kept, with what was changed since
  bool filling_ = false, changed_ = false;
  QTableWidget* table_;
  QLineEdit *name_, *user_, *domain_, *password_, *passphrase_, *codeSecret_, *expires_;
  QPlainTextEdit* notes_;
  QLabel *empty_, *problem_, *used_, *key_, *code_;
  QPushButton *keep_, *remove_, *copy_, *dropKey_;
  class TeamPart* team_;
  QTimer codeTimer_;
};

}  // namespace kw::desktop
