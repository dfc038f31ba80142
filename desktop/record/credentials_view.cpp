#include "desktop/record/credentials_view.hpp"

#include <QApplication>
#include <QClipboard>
#include <QDate>
#include <QDateTime>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>

#include "base/file.hpp"
#include "credential/first_password.hpp"
#include "credential/one_time_code.hpp"
#include "desktop/app/counts.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"
#include "desktop/record/team_part.hpp"
#include "desktop/sheet/sheet_parts.hpp"
#include "route/sign_in_source.hpp"

namespace kw::desktop {

namespace {

enum Column { kName, kUser, kHolds, kUsers, kExpires };
constexpr std::size_t kLargestKey = 64U << 10;
constexpr int kClipboardSeconds = 20;
constexpr int kSoonDays = 14;

QString holdsWords(const SecretBundle& s) {
  QStringList out;
  if (!s.password.empty()) out << CredentialsView::tr("password");
  if (!s.key.empty()) out << CredentialsView::tr("key");
  if (!s.codeSecret.empty()) out << CredentialsView::tr("code");
  return out.isEmpty() ? CredentialsView::tr("nothing yet") : out.join(", ");
}

}  // namespace

CredentialsView::CredentialsView(Records& records, QWidget* parent)
    : QWidget(parent),
      records_(records),
      table_(plainTable({tr("Name"), tr("Signs in as"), tr("Holds"), tr("Ways in"), tr("Expires")},
                        tr("Credentials"), this)) {
  build();
  connect(&records_, &Records::changed, this, [this] {
    if (isVisible() && !changed_) refresh();
  });
  codeTimer_.setInterval(1000);
  connect(&codeTimer_, &QTimer::timeout, this, &CredentialsView::showCode);
}

void CredentialsView::build() {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Credentials"), this);
  heading->setObjectName("heading");
  auto* fresh = new QPushButton(tr("New"), this);
  fresh->setObjectName("newCredential");
  remove_ = new QPushButton(tr("Remove"), this);
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(heading, 1);
  for (QPushButton* b : {fresh, remove_, close}) top->addWidget(b);
  column->addLayout(top);
  empty_ = new QLabel(
      tr("A credential has a name and serves any number of machines: choose it on a sheet's page "
         "Sign-in, for a way in, a machine, a group or a place. Changed here once, it is changed for "
         "all. Its secrets lie sealed with this desk's vault key; in a team's records they are given to "
         "whom you choose."),
      this);
  empty_->setWordWrap(true);
  empty_->setObjectName("quiet");
  column->addWidget(empty_);
  auto* split = new QSplitter(Qt::Horizontal, this);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  table_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  table_->setMinimumWidth(470);
  split->addWidget(table_);
  split->addWidget(buildForm());
  split->setStretchFactor(0, 3);
  split->setStretchFactor(1, 2);
  split->setChildrenCollapsible(false);
  column->addWidget(split, 1);
  connect(table_, &QTableWidget::itemSelectionChanged, this, &CredentialsView::showChosen);
  connect(fresh, &QPushButton::clicked, this, &CredentialsView::beginNew);
  connect(remove_, &QPushButton::clicked, this, &CredentialsView::removeShown);
  connect(close, &QPushButton::clicked, this, &CredentialsView::closed);
}

QWidget* CredentialsView::buildForm() {
  auto* form = new QWidget(this);
  auto* fields = new QWidget(form);
  auto* column = new QVBoxLayout(fields);
  column->setContentsMargins(16, 0, 8, 0);
  column->setSpacing(7);
  const auto field = [&](const char* id, const QString& label, const QString& hint, bool secret) {
    auto* edit = new QLineEdit(form);
    edit->setObjectName(id);
    edit->setPlaceholderText(hint);
    if (secret) edit->setEchoMode(QLineEdit::Password);
    labelled(column, label, edit, 220);
    connect(edit, &QLineEdit::textEdited, this, [this] {
      changed_ = true;
      fill();
    });
    return edit;
  };
  name_ = field("credentialName", tr("Name"), tr("duty at night"), false);
  user_ = field("credentialUser", tr("Signs in as"), tr("empty: whoever the address says"), false);
  domain_ = field("credentialDomain", tr("Domain"), tr("where accounts have one"), false);
  password_ = field("credentialPassword", tr("Password"), {}, true);
  auto* passwords = new QHBoxLayout;
  passwords->addSpacing(156);
  auto* make = new QPushButton(tr("Make one"), form);
  make->setToolTip(tr("Twenty letters, digits and signs, none of which looks like another"));
  copy_ = new QPushButton(tr("Copy for %1 s").arg(kClipboardSeconds), form);
  passwords->addWidget(make);
  passwords->addWidget(copy_);
  passwords->addStretch(1);
  column->addLayout(passwords);
  auto* keys = new QHBoxLayout;
  key_ = new QLabel(form);
  auto* keyFile = new QPushButton(tr("Take a key file…"), form);
  dropKey_ = new QPushButton(tr("Drop it"), form);
  auto* keyLabel = new QLabel(tr("SSH key"), form);
  keyLabel->setFixedWidth(150);
  keys->addWidget(keyLabel);
  for (QWidget* w :
       {static_cast<QWidget*>(key_), static_cast<QWidget*>(keyFile), static_cast<QWidget*>(dropKey_)})
    keys->addWidget(w);
  keys->addStretch(1);
  column->addLayout(keys);
  passphrase_ = field("credentialPassphrase", tr("The key's passphrase"), {}, true);
  codeSecret_ = field("credentialCode", tr("Second factor"), tr("its secret, or otpauth://totp/…"), true);
  auto* codes = new QHBoxLayout;
  code_ = new QLabel(form);
  code_->setObjectName("credentialCodeNow");
  code_->setFont(monoFont(11));
  code_->setIndent(156);
  code_->setTextInteractionFlags(Qt::TextSelectableByMouse);
  codes->addWidget(code_, 1);
  column->addLayout(codes);
  expires_ = field("credentialExpires", tr("To be changed by"), tr("2027-03-01"), false);
  notes_ = new QPlainTextEdit(form);
  notes_->setMaximumHeight(64);
  labelled(column, tr("Notes"), notes_, 220);
  team_ = new TeamPart(records_, form);
  column->addWidget(team_);
  connect(team_, &TeamPart::said, this, &CredentialsView::said);
  connect(team_, &TeamPart::edited, this, [this] {
    changed_ = true;
    fill();
  });
  used_ = new QLabel(form);
  used_->setObjectName("quiet");
  used_->setWordWrap(true);
  used_->setTextFormat(Qt::PlainText);
  column->addWidget(used_);
  column->addStretch(1);
  auto* area = new QScrollArea(form);
  area->setWidgetResizable(true);
  area->setFrameShape(QFrame::NoFrame);
  area->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  area->setWidget(fields);
  auto* whole = new QVBoxLayout(form);
  whole->setContentsMargins(0, 0, 0, 0);
  whole->addWidget(area, 1);
  problem_ = new QLabel(form);
  problem_->setObjectName("bad");
  problem_->setWordWrap(true);
  whole->addWidget(problem_);
  keep_ = new QPushButton(tr("Keep"), form);
  keep_->setObjectName("keepCredential");
  keep_->setProperty("own", true);
  whole->addWidget(keep_, 0, Qt::AlignRight);
  connect(notes_, &QPlainTextEdit::textChanged, this, [this] {
    if (filling_) return;
    changed_ = true;
    fill();
  });
  connect(make, &QPushButton::clicked, this, &CredentialsView::makePassword);
  connect(copy_, &QPushButton::clicked, this, &CredentialsView::copyPassword);
  connect(keyFile, &QPushButton::clicked, this, &CredentialsView::takeKeyFile);
  connect(dropKey_, &QPushButton::clicked, this, [this] {
    secrets_.key.clear();
    changed_ = true;
    fill();
  });
  connect(keep_, &QPushButton::clicked, this, &CredentialsView::keep);
  return form;
}

void CredentialsView::showAt(const QString& name) {
  changed_ = false;
  refresh();
  for (int row = 0; row < table_->rowCount(); ++row)
    if (name.isEmpty() || table_->item(row, kName)->text() == name) {
      table_->selectRow(row);
      showChosen();
      table_->setFocus();
      return;
    }
  beginNew();
}

void CredentialsView::refresh() {
  const Snapshot& s = records_.snapshot();
  std::vector<const Credential*> all;
  for (const auto& [id, c] : s.credentials) all.push_back(&c);
  std::sort(all.begin(), all.end(),
            [](const Credential* a, const Credential* b) { return a->name < b->name; });
  const QSignalBlocker quiet(table_);
  table_->setRowCount(static_cast<int>(all.size()));
  for (int row = 0; row < table_->rowCount(); ++row) {
    const Credential& c = *all[static_cast<std::size_t>(row)];
    const auto secrets = keptBundle(records_.tools(), c.id).value_or(SecretBundle{});
    const QString cells[] = {QString::fromStdString(c.name), QString::fromStdString(c.user),
                             holdsWords(secrets), QString::number(usersOfCredential(s, c.name)),
                             expiryWords(c)};
    for (int at = 0; at < 5; ++at) table_->setItem(row, at, new QTableWidgetItem(cells[at]));
    table_->item(row, kName)->setData(Qt::UserRole, static_cast<qlonglong>(c.id));
    if (!c.expires.empty() && QDate::currentDate().daysTo(QDate::fromString(QString::fromStdString(c.expires),
                                                                            Qt::ISODate)) <= kSoonDays)
      table_->item(row, kExpires)->setForeground(scheme().amber);
    if (c.id == shown_.id) table_->selectRow(row);
  }
  table_->resizeColumnsToContents();
  table_->setColumnWidth(kName, std::max(table_->columnWidth(kName), 130));
}

QString CredentialsView::expiryWords(const Credential& c) const {
  if (c.expires.empty()) return tr("never");
  const auto days =
      QDate::currentDate().daysTo(QDate::fromString(QString::fromStdString(c.expires), Qt::ISODate));
  if (days < 0) return tr("%1 · over").arg(QString::fromStdString(c.expires));
  if (days <= kSoonDays) return tr("%1 · in %2 d").arg(QString::fromStdString(c.expires)).arg(days);
  return QString::fromStdString(c.expires);
}

void CredentialsView::showChosen() {
  const int row = table_->currentRow();
  if (row < 0) return;
  const auto found =
      records_.snapshot().credentials.find(table_->item(row, kName)->data(Qt::UserRole).toLongLong());
  if (found == records_.snapshot().credentials.end()) return;
  shown_ = found->second;
  secrets_ = keptBundle(records_.tools(), shown_.id).value_or(SecretBundle{});
  changed_ = false;
  filling_ = true;
  name_->setText(QString::fromStdString(shown_.name));
  user_->setText(QString::fromStdString(shown_.user));
  domain_->setText(QString::fromStdString(shown_.domain));
  expires_->setText(QString::fromStdString(shown_.expires));
  notes_->setPlainText(QString::fromStdString(shown_.notes));
  for (QLineEdit* e : {password_, passphrase_, codeSecret_}) e->clear();
  team_->showFor(shown_.id);
  filling_ = false;
  fill();
}

void CredentialsView::beginNew() {
  table_->clearSelection();
  table_->setCurrentCell(-1, -1);
  shown_ = {};
  secrets_ = {};
  changed_ = false;
  filling_ = true;
  for (QLineEdit* e : {name_, user_, domain_, password_, passphrase_, codeSecret_, expires_}) e->clear();
  notes_->clear();
  team_->showFor(0);
  filling_ = false;
  fill();
  name_->setFocus();
}

/// What follows from what is in the form.
void CredentialsView::fill() {
  if (filling_) return;
  const auto kept = [](const Secret& secret, const QString& none) {
    return secret.empty() ? none : tr("kept; a new one replaces it");
  };
  password_->setPlaceholderText(kept(secrets_.password, tr("none")));
  passphrase_->setPlaceholderText(kept(secrets_.passphrase, tr("only if the key has one")));
  codeSecret_->setPlaceholderText(kept(secrets_.codeSecret, tr("its secret, or otpauth://totp/…")));
  key_->setText(secrets_.key.empty() ? tr("none") : tr("kept inside"));
  dropKey_->setVisible(!secrets_.key.empty());
  copy_->setEnabled(!secrets_.password.empty());
  copy_->setToolTip(copy_->isEnabled() ? QString() : tr("No password is kept"));
  remove_->setEnabled(shown_.id != 0);
  const int users = shown_.id == 0 ? 0 : usersOfCredential(records_.snapshot(), shown_.name);
  used_->setText(shown_.id == 0 ? QString()
                 : users == 0   ? tr("It serves no way in yet.")
                                : tr("It serves %1.").arg(wayCount(users)));
  const QString wrong = problem();
  problem_->setText(changed_ ? wrong : QString());
  keep_->setEnabled(changed_ && wrong.isEmpty());
  keep_->setToolTip(!changed_ ? tr("Nothing was changed") : wrong);
  secrets_.codeSecret.empty() ? codeTimer_.stop() : codeTimer_.start();
  showCode();
}

QString CredentialsView::problem() const {
  const std::string name = name_->text().trimmed().toStdString();
  if (name.empty()) return tr("It needs a name.");
  if (const Credential* other = records_.snapshot().credentialNamed(name);
      other != nullptr && other->id != shown_.id)
    return tr("Another credential has this name.");
  if (!expires_->text().trimmed().isEmpty() &&
      !QDate::fromString(expires_->text().trimmed(), Qt::ISODate).isValid())
    return tr("A day is written 2027-03-01.");
  if (!codeSecret_->text().isEmpty() && !codeSecretFrom(codeSecret_->text().trimmed().toStdString()))
    return tr("The second factor's secret is base32 text, or an address that begins with otpauth://totp/.");
  if (const auto& vault = records_.tools().vault; !vault || !vault->isOpen())
    return tr("Kept passwords are locked: unlock them first (Tools).");
  return {};
}

void CredentialsView::showCode() {
  code_->setVisible(!secrets_.codeSecret.empty());
  if (secrets_.codeSecret.empty() || !isVisible()) {
    code_->clear();
    return;
  }
  const auto now = QDateTime::currentSecsSinceEpoch();
  const QString code = QString::fromStdString(timeCode(secrets_.codeSecret, now));
  code_->setText(tr("%1 %2 · %3 s").arg(code.left(3), code.mid(3)).arg(codeSecondsLeft(now)));
}

bool CredentialsView::keep() {
  if (!problem().isEmpty()) return false;
  Credential c = shown_;
  c.name = name_->text().trimmed().toStdString();
  c.user = user_->text().trimmed().toStdString();
  c.domain = domain_->text().trimmed().toStdString();
  c.expires = expires_->text().trimmed().toStdString();
  c.notes = notes_->toPlainText().toStdString();
  SecretBundle secrets = secrets_;
  if (!password_->text().isEmpty()) {
    secrets.password = password_->text().toStdString();
    secrets.use = SecretUse::Unknown;
    if (c.expires == shown_.expires) c.expires = expiryAfterChange(c);
  }
  if (!passphrase_->text().isEmpty()) secrets.passphrase = passphrase_->text().toStdString();
  if (!codeSecret_->text().isEmpty())
    secrets.codeSecret = *codeSecretFrom(codeSecret_->text().trimmed().toStdString());
  const QString name = QString::fromStdString(c.name);
  if (!records_.commit((c.id == 0 ? tr("add credential %1") : tr("change credential %1")).arg(name),
                       [&c](StoreWriter& w) { w.put(c); }))
    return false;
  shown_ = c;
  try {
    // Whoever loses it is not given what is new.
    const std::vector<std::string> losers = team_->losers();
    const SecretBundle before = keptBundle(records_.tools(), c.id).value_or(SecretBundle{});
    if (!losers.empty()) team_->share();
    keepBundle(records_.tools(), c.id, secrets);
    team_->share();
    if (!losers.empty() && isStillKnown(before, secrets)) {
      markToBeChanged(records_.store(), c, losers);
      records_.reload();
    }
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return false;
  }
  changed_ = false;
  showAt(name);
  const int users = usersOfCredential(records_.snapshot(), c.name);
  emit said(users == 0 ? tr("Kept %1.").arg(name) : tr("Kept %1, for %2.").arg(name, wayCount(users)));
  return true;
}

void CredentialsView::removeShown() {
  if (shown_.id == 0) return;
  const Id id = shown_.id;
  const QString name = QString::fromStdString(shown_.name);
  const int users = usersOfCredential(records_.snapshot(), shown_.name);
  if (users > 0) {
    emit said(tr("%1 serves %2: choose another for them first.").arg(name, wayCount(users)));
    return;
  }
  if (!records_.commit(tr("remove credential %1").arg(name),
                       [id](StoreWriter& w) { w.removeCredential(id); }))
    return;
  shown_ = {};
  changed_ = false;
  showAt({});
  emit said(tr("Removed %1 with its secrets. Ctrl+Z brings the name back, not the secrets.").arg(name));
}

void CredentialsView::makePassword() {
  password_->setText(QString::fromStdString(newPassword({})));
  changed_ = true;
  fill();
}

void CredentialsView::copyPassword() {
  const QString text = QString::fromUtf8(secrets_.password.c_str());
  QApplication::clipboard()->setText(text);
  emit said(tr("The password is on the clipboard for %1 s.").arg(kClipboardSeconds));
  QTimer::singleShot(kClipboardSeconds * 1000, qApp, [text] {
    if (QApplication::clipboard()->text() == text) QApplication::clipboard()->clear();
  });
}

void CredentialsView::takeKeyFile() {
  const QString file = QFileDialog::getOpenFileName(this, tr("Private key"));
  if (file.isEmpty()) return;
  try {
    const std::string text = textOf(readFile(file.toStdString(), kLargestKey));
    if (text.find("PRIVATE KEY") == std::string::npos)
      throw Error(ErrorKind::Local, "this is no private key", file.toStdString());
    secrets_.key = text;
    changed_ = true;
    fill();
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
  }
}

}  // namespace kw::desktop
