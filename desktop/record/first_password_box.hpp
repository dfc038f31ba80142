// A machine's first password, as a cloud shows it: encrypted to one's key.
#pragma once
#include <QWidget>

class QLabel;
class QLineEdit;
class QPlainTextEdit;
class QPushButton;

namespace kw::desktop {

class FirstPasswordBox : public QWidget {
  Q_OBJECT
 public:
  explicit FirstPasswordBox(QWidget* parent);
  void decrypt();

 signals:
  void decrypted(const QString& password);

 private:
  void chooseKey();

  QWidget* body_;
  QPlainTextEdit* blob_;
  QLineEdit *key_, *passphrase_;
  QPushButton* show_;
  QLabel* result_;
  QString password_;
};

}  // namespace kw::desktop
