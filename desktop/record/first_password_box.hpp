// A machine's first password, as a cloud shows it: encrypted to one's key.
#pragma once
#include <QWidget>
#include <functional>

class QLabel;
class QLineEdit;
class QPlainTextEdit;
class QPushButton;
class QVBoxLayout;

namespace kw::desktop {

class FirstPasswordBox : public QWidget {
  Q_OBJECT
 public:
  /// What a host keeps, encrypted, or why it cannot be had.
  using Told = std::function<void(const QString& sealed, const QString& problem)>;
  explicit FirstPasswordBox(QWidget* parent);
  /// Offers to fetch it from the machine's host. `ask` calls what it is given later, or never.
  void offerHost(const QString& host, std::function<void(Told)> ask);
  void decrypt();

 signals:
  void decrypted(const QString& password);

 private:
  void chooseKey();
  void say(const QString& sentence, bool bad);

  QWidget* body_;
  QVBoxLayout* inner_;
  QPlainTextEdit* blob_;
  QLineEdit *key_, *passphrase_;
  QPushButton* show_;
  QLabel* result_;
  QString password_;
};

}  // namespace kw::desktop
