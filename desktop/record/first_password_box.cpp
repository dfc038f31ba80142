#include "desktop/record/first_password_box.hpp"

#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QPointer>
#include <QPushButton>
#include <QVBoxLayout>

#include "base/error.hpp"
#include "base/file.hpp"
#include "credential/first_password.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/sheet/sheet_parts.hpp"

namespace kw::desktop {

namespace {
constexpr std::size_t kLargestKey = 64U << 10;
}

FirstPasswordBox::FirstPasswordBox(QWidget* parent)
    : QWidget(parent),
      body_(new QWidget(this)),
      inner_(new QVBoxLayout(body_)),
      blob_(new QPlainTextEdit(body_)),
      key_(new QLineEdit(body_)),
      passphrase_(new QLineEdit(body_)),
      show_(new QPushButton(tr("Hold to see it"), body_)),
      result_(new QLabel(body_)) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 6, 0, 0);
  auto* open = new QPushButton(tr("First password from a cloud…"), this);
  open->setObjectName("firstPassword");
  open->setCheckable(true);
  column->addWidget(open, 0, Qt::AlignLeft);
  column->addWidget(body_);
  body_->hide();
  inner_->setContentsMargins(0, 4, 0, 0);
  blob_->setObjectName("firstBlob");
  blob_->setPlaceholderText(tr("The encrypted password as the cloud shows it: base64, ending with ="));
  blob_->setAccessibleName(tr("Encrypted password"));
  blob_->setMaximumHeight(76);
  blob_->setFont(monoFont(9));
  inner_->addWidget(blob_);
  key_->setObjectName("firstKey");
  key_->setPlaceholderText(tr("the key that was chosen when the machine was made"));
  auto* row = labelled(inner_, tr("Private key file"), key_);
  auto* choose = new QPushButton(tr("Choose…"), body_);
  row->insertWidget(2, choose);
  passphrase_->setObjectName("firstPassphrase");
  passphrase_->setEchoMode(QLineEdit::Password);
  passphrase_->setPlaceholderText(tr("only if the key has one"));
  labelled(inner_, tr("Its passphrase"), passphrase_);
  auto* buttons = new QHBoxLayout;
  auto* go = new QPushButton(tr("Decrypt into the password"), body_);
  go->setObjectName("decryptFirst");
  buttons->addWidget(go);
  buttons->addWidget(show_);
  buttons->addStretch(1);
  inner_->addLayout(buttons);
  show_->hide();
  result_->setWordWrap(true);
  result_->setTextFormat(Qt::PlainText);
  inner_->addWidget(result_);
  connect(open, &QPushButton::toggled, body_, &QWidget::setVisible);
  connect(choose, &QPushButton::clicked, this, &FirstPasswordBox::chooseKey);
  connect(go, &QPushButton::clicked, this, &FirstPasswordBox::decrypt);
  connect(show_, &QPushButton::pressed, this, [this] { result_->setText(password_); });
  connect(show_, &QPushButton::released, this,
          [this] { result_->setText(tr("It is in the password field; Keep keeps it.")); });
}

void FirstPasswordBox::say(const QString& sentence, bool bad) {
  result_->setStyleSheet(bad ? "color:" + scheme().brick.name() : QString());
  result_->setText(sentence);
}

void FirstPasswordBox::offerHost(const QString& host, std::function<void(Told)> ask) {
  auto* fetch = new QPushButton(tr("Ask %1 for it").arg(host), body_);
  fetch->setObjectName("firstFromHost");
  inner_->insertWidget(0, fetch, 0, Qt::AlignLeft);
  connect(fetch, &QPushButton::clicked, this, [this, fetch, host, ask = std::move(ask)] {
    fetch->setEnabled(false);
    say(tr("Asking %1…").arg(host), false);
    ask([box = QPointer<FirstPasswordBox>(this), fetch = QPointer<QPushButton>(fetch)](
            const QString& sealed, const QString& problem) {
      if (box.isNull()) return;
      if (fetch) fetch->setEnabled(true);
      if (!sealed.isEmpty()) box->blob_->setPlainText(sealed);
      box->say(problem.isEmpty() ? tr("Here it is, encrypted: your key opens it.") : problem,
               !problem.isEmpty());
    });
  });
}

void FirstPasswordBox::chooseKey() {
  const QString file = QFileDialog::getOpenFileName(this, tr("Private key"));
  if (!file.isEmpty()) key_->setText(file);
}

void FirstPasswordBox::decrypt() {
  try {
    if (key_->text().trimmed().isEmpty())
      throw Error(ErrorKind::Local, "the private key is missing")
          .withCure("Choose the key that was chosen when the machine was made.");
    const std::string key = textOf(readFile(key_->text().toStdString(), kLargestKey));
    password_ = QString::fromStdString(
        firstPassword(blob_->toPlainText().toStdString(), key, passphrase_->text().toStdString()));
    say(tr("It is in the password field; Keep keeps it."), false);
    show_->show();
    emit decrypted(password_);
  } catch (const Error& e) {
    show_->hide();
    say(QString::fromUtf8(e.what()) + "\n" + QString::fromStdString(e.cure()), true);
  }
}

}  // namespace kw::desktop
