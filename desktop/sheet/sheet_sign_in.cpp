// The sheet's page of signing in: where it comes from, what is kept, a machine's first password.
#include <QCheckBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/app/counts.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/record/first_password_box.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "host/adopt.hpp"
#include "record/catalogue.hpp"
#include "route/sign_in_source.hpp"

namespace kw::desktop {

Id Sheet::signInWay() const {
  if (owner_.kind == OwnerKind::WayIn) return owner_.id;
  return ways_.empty() ? 0 : ways_[currentWay_].endpoint.id;
}

QString Sheet::signInWords() const {
  const std::string from = inForce("signin.from").value;
  if (from.starts_with(kNamedSignIn)) return QString::fromStdString(from.substr(std::strlen(kNamedSignIn)));
  return from == "ask"       ? tr("asked each time")
         : from == "command" ? tr("a command")
                             : tr("kept here, or asked");
}

QWidget* Sheet::pageSignIn() {
  auto* page = new QWidget;
  auto* column = pageLayout(page, kSignInSection);
  column->setSpacing(6);
  addOwnerBox(column, page);
  const std::string from = inForce("signin.from").value;
  for (const Setting& s : allSettings())
    if (std::string_view(s.section) == kSignInSection && applies(s) &&
        (from == "command" || std::string_view(s.key) != "signin.command"))
      column->addWidget(settingRow(s, page));
  column->addSpacing(8);
  if (from.starts_with(kNamedSignIn))
    addNamedSignIn(column, page, QString::fromStdString(from.substr(std::strlen(kNamedSignIn))));
  else if (from == "kept")
    addKeptPassword(column, page);
  column->addStretch();
  // Another source wants another page below it.
  connect(this, &Sheet::draftChanged, page, [this, from] {
    if (inForce("signin.from").value != from)
      QMetaObject::invokeMethod(
          this, [this] { buildPages(); }, Qt::QueuedConnection);
  });
  return scrolled(page);
}

void Sheet::addNamedSignIn(QVBoxLayout* column, QWidget* page, const QString& name) {
  const Credential* c = base_->credentialNamed(name.toStdString());
  auto* words = new QLabel(page);
  words->setWordWrap(true);
  words->setTextFormat(Qt::PlainText);
  column->addWidget(words);
  if (c == nullptr) {
    words->setText(tr("There is no credential “%1” any more: opening will say so.").arg(name));
    words->setObjectName("bad");
    return;
  }
  const int users = usersOfCredential(*base_, c->name);
  words->setText(tr("Signs in as %1 with “%2”, which serves %3. Changed once, it is changed for all of them.")
                     .arg(c->user.empty() ? tr("whoever the address says") : QString::fromStdString(c->user),
                          name, wayCount(users)));
  auto* change = new QPushButton(tr("Change “%1”…").arg(name), page);
  column->addWidget(change, 0, Qt::AlignLeft);
  connect(change, &QPushButton::clicked, this, [this, name] { emit credentialWanted(name); });
}

void Sheet::addKeptPassword(QVBoxLayout* column, QWidget* page) {
  const Id way = signInWay();
  const Endpoint* endpoint = nullptr;
  for (const EndpointRow& row : ways_)
    if (row.endpoint.id == way) endpoint = &row.endpoint;
  const WayKind* kind = endpoint == nullptr ? nullptr : findWayKind(endpoint->scheme());
  bool kept = false;
  try {
    kept = way != 0 && records_.store().secret({OwnerKind::WayIn, way}).has_value();
  } catch (const Error&) {
    kept = false;
  }
  QString account;
  try {
    if (endpoint != nullptr) account = QString::fromStdString(accountWords(parseAddress(endpoint->address)));
  } catch (const Error&) {
    account.clear();  // told of on the page of ways in
  }
  auto* state = new QLabel(kept ? tr("A password is kept for this way in, sealed with this desk's vault key.")
                                : tr("No password is kept; it is asked for in the pane."),
                           page);
  state->setWordWrap(true);
  column->addWidget(state);
  auto* password = new QLineEdit(page);
  password->setObjectName("keptPassword");
  password->setEchoMode(QLineEdit::Password);
  password->setPlaceholderText(kept ? tr("a new one replaces it") : tr("leave empty to be asked"));
  labelled(column, tr("Password"), password);
  auto* hint = new QLabel(account, page);
  hint->setObjectName("quiet");
  hint->setWordWrap(true);
  column->addWidget(hint);
  auto* forget = new QCheckBox(tr("Forget the kept password"), page);
  forget->setEnabled(kept);
  column->addWidget(forget);
  const int counts = kind == nullptr ? 0 : kind->passwordCounts;
  connect(password, &QLineEdit::textChanged, this, [this, hint, account, counts](const QString& t) {
    const bool tooLong = counts > 0 && t.size() > counts;
    hint->setText(
        tooLong ? tr("Where a plain password is asked for, only its first %1 characters count.").arg(counts)
                : account);
    hint->setStyleSheet(tooLong ? "color:" + scheme().amber.name() : QString());
    newPassword_ = t.isEmpty() ? std::nullopt : std::optional(t);
    touched();
  });
  connect(forget, &QCheckBox::toggled, this, [this](bool on) { forgetPassword_ = on, touched(); });
  if (endpoint == nullptr || account.isEmpty() || !asksOwnAccount(parseAddress(endpoint->address))) return;
  auto* first = new FirstPasswordBox(page);
  column->addWidget(first);
  if (askHostForFirst && machine_.id != 0 && !machine_.host.empty() &&
      !host::idOnHost(*base_, machine_.id).empty())
    first->offerHost(QString::fromStdString(machine_.host),
                     [this](FirstPasswordBox::Told told) { askHostForFirst(machine_.id, std::move(told)); });
  connect(first, &FirstPasswordBox::decrypted, password, &QLineEdit::setText);
}

}  // namespace kw::desktop
