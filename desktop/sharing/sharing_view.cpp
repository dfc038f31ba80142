#include "desktop/sharing/sharing_view.hpp"

#include <QDateTime>
#include <QFrame>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>
#include <mutex>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"
#include "desktop/sharing/audit_panel.hpp"
#include "desktop/sharing/json_fields.hpp"
#include "desktop/sharing/look_window.hpp"
#include "desktop/sharing/pass_panel.hpp"

namespace kw::desktop {

namespace {

constexpr int kVisit = Qt::UserRole, kWay = Qt::UserRole + 1;

}  // namespace

/// Outlives the page for what is still under way.
struct SharingView::Channel {
  std::mutex mutex;
  SharingView* target = nullptr;
  static void call(const std::shared_ptr<Channel>& channel, std::function<void(SharingView&)> what) {
    const std::lock_guard held(channel->mutex);
    if (channel->target == nullptr) return;
    QMetaObject::invokeMethod(
        channel->target, [target = channel->target, what = std::move(what)] { what(*target); },
        Qt::QueuedConnection);
  }
};

SharingView::SharingView(Desk& desk, QWidget* parent)
    : QWidget(parent), desk_(desk), channel_(std::make_shared<Channel>()) {
  channel_->target = this;
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* title = new QLabel(tr("Sharing"), this);
  title->setObjectName("title");
  state_ = new QLabel(this);
  state_->setObjectName("quiet");
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(title);
  top->addSpacing(8);
  top->addWidget(state_, 1);
  happened_ = new QPushButton(tr("What happened"), this);
  happened_->setObjectName("whatHappened");
  happened_->setCheckable(true);
  top->addWidget(happened_);
  top->addWidget(close);
  column->addLayout(top);

  signIn_ = new QFrame(this);
  signIn_->setObjectName("card");
  auto* form = new QVBoxLayout(signIn_);
  form->setContentsMargins(16, 12, 16, 12);
  auto* hint = new QLabel(tr("A gateway lets people reach machines with nothing but a browser. Sign in to "
                             "see who is there, and to make passes."),
                          signIn_);
  hint->setWordWrap(true);
  form->addWidget(hint);
  auto* row = new QHBoxLayout;
  const auto field = [&](const QString& name, const QString& object, int width) {
    auto* edit = new QLineEdit(signIn_);
    edit->setPlaceholderText(name);
    edit->setAccessibleName(name);
    edit->setObjectName(object);
    if (width > 0) edit->setFixedWidth(width);
    row->addWidget(edit);
    return edit;
  };
  address_ = field(tr("Gateway, host:port"), "gateAddress", 0);
  user_ = field(tr("Name"), "gateUser", 120);
  password_ = field(tr("Password"), "gatePassword", 150);
  password_->setEchoMode(QLineEdit::Password);
  code_ = field(tr("Code, if any"), "gateCode", 100);
  auto* go = new QPushButton(tr("Sign in"), signIn_);
  go->setObjectName("gateSignIn");
  go->setProperty("own", true);
  row->addWidget(go);
  form->addLayout(row);
  trouble_ = new QLabel(signIn_);
  trouble_->setObjectName("bad");
  trouble_->setWordWrap(true);
  trouble_->hide();
  form->addWidget(trouble_);
  column->addWidget(signIn_);

  trust_ = new QFrame(this);
  trust_->setObjectName("card");
  auto* trustColumn = new QVBoxLayout(trust_);
  trustColumn->setContentsMargins(16, 12, 16, 12);
  trustText_ = new QLabel(trust_);
  trustText_->setWordWrap(true);
  trustText_->setTextInteractionFlags(Qt::TextSelectableByMouse);
  trustColumn->addWidget(trustText_);
  auto* trustRow = new QHBoxLayout;
  trustRow->addStretch(1);
  auto* refuse = new QPushButton(tr("Refuse"), trust_);
  trustIt_ = new QPushButton(tr("From now on"), trust_);
  trustIt_->setObjectName("gateTrust");
  trustRow->addWidget(refuse);
  trustRow->addWidget(trustIt_);
  trustColumn->addLayout(trustRow);
  trust_->hide();
  column->addWidget(trust_);
  connect(refuse, &QPushButton::clicked, trust_, &QWidget::hide);

  body_ = new QFrame(this);
  auto* body = new QVBoxLayout(body_);
  body->setContentsMargins(0, 0, 0, 0);
  body->setSpacing(8);
  const auto heading = [&](const QString& words, const QList<QPushButton*>& buttons) {
    auto* line = new QHBoxLayout;
    auto* label = new QLabel(words, body_);
    label->setObjectName("heading");
    line->addWidget(label, 1);
    for (QPushButton* button : buttons) line->addWidget(button);
    body->addLayout(line);
  };
  endVisit_ = new QPushButton(tr("End this visit"), body_);
  endVisit_->setObjectName("endVisit");
  write_ = new QPushButton(tr("Write…"), body_);
  write_->setObjectName("writeTo");
  lookIn_ = new QPushButton(tr("Look in"), body_);
  lookIn_->setObjectName("lookIn");
  heading(tr("Visits now"), {lookIn_, write_, endVisit_});
  noVisits_ = new QLabel(tr("Nobody is connected through this gateway."), body_);
  noVisits_->setObjectName("quiet");
  body->addWidget(noVisits_);
  visits_ = plainTable({tr("Machine"), tr("Who"), tr("May"), tr("Since"), tr("From")}, tr("Visits"), body_);
  visits_->setColumnWidth(0, 190);
  visits_->setColumnWidth(1, 150);
  body->addWidget(visits_, 1);
  passes_ = new PassPanel(body_);
  body->addWidget(passes_, 1);
  column->addWidget(body_, 1);
  audit_ = new AuditPanel(this);
  column->addWidget(audit_, 1);
  column->addStretch(0);
  connect(audit_, &AuditPanel::wanted, this, &SharingView::askAudit);
  connect(happened_, &QPushButton::toggled, this, [this](bool on) {
    happened_->setText(on ? tr("Visits and passes") : tr("What happened"));
    if (on) askAudit();
    refresh();
  });
  connect(close, &QPushButton::clicked, this, &SharingView::closed);
  connect(go, &QPushButton::clicked, this, &SharingView::signIn);
  for (QLineEdit* e : {password_, code_}) connect(e, &QLineEdit::returnPressed, this, &SharingView::signIn);
  connect(passes_, &PassPanel::asks, this, [this](const nlohmann::json& message) {
    if (client_) client_->send(message);
  });
  const auto withChosen = [this](void (SharingView::*what)(const Chosen&)) {
    return [this, what] {
      if (const auto chosen = chosenVisit()) (this->*what)(*chosen);
    };
  };
  connect(endVisit_, &QPushButton::clicked, this, withChosen(&SharingView::endVisit));
  connect(write_, &QPushButton::clicked, this, withChosen(&SharingView::writeTo));
  connect(lookIn_, &QPushButton::clicked, this, withChosen(&SharingView::lookInto));
  connect(visits_, &QTableWidget::itemActivated, lookIn_, &QPushButton::click);
  connect(visits_, &QTableWidget::itemSelectionChanged, this, &SharingView::allowForVisits);
  view_.stage = gate::ClientStage::Lost;
  refresh();
}

SharingView::~SharingView() {
  {
    const std::lock_guard held(channel_->mutex);
    channel_->target = nullptr;
  }
  if (client_) client_->stop();
}

QString SharingView::address() const { return address_->text(); }
QString SharingView::account() const { return user_->text(); }
void SharingView::useAddress(const QString& address, const QString& account) {
  address_->setText(address);
  user_->setText(account);
}

void SharingView::signIn() {
  gate::ClientPlan plan;
  try {
    QString typed = address_->text().trimmed();
    if (typed.startsWith("https://")) typed = typed.mid(8);
    while (typed.endsWith('/')) typed.chop(1);
    if (!typed.contains(':')) typed += ":8443";
    const Address at = parseAddress("tcp://" + typed.toStdString());
    plan.host = at.host;
    plan.port = at.port;
  } catch (const Error& e) {
    trouble_->setText(QString::fromUtf8(e.what()));
    trouble_->show();
    return;
  }
  plan.user = user_->text().toStdString();
  plan.password = password_->text().toStdString();
  plan.code = code_->text().toStdString();
  const auto trust = trustIn(desk_.tools().store);
  const std::string peer = "gate " + plan.host + ":" + std::to_string(plan.port);
  plan.decide = [channel = channel_, trust, peer](PeerCertificate c) -> Task<bool> {
    const auto pinned = trust->pinned(peer);
    if (c.vouched && !pinned) co_return true;
    if (pinned && *pinned == c.sha256) co_return true;
    Channel::call(channel, [c, peer, pinned](SharingView& v) {
      v.askTrust(c, QString::fromStdString(peer), QString::fromStdString(pinned.value_or("")));
    });
    co_return false;
  };
  if (client_) client_->stop();
  view_ = {};
  trouble_->hide();
  trust_->hide();
  client_ = std::make_shared<gate::GateClient>(
      desk_.runtime().strand(), std::move(plan), [channel = channel_](const gate::ClientView& view) {
        Channel::call(channel, [view](SharingView& v) { v.take(view); });
      });
  client_->start();
  refresh();
}

/// Nothing of the name or password was sent yet: the certificate comes first.
void SharingView::askTrust(const PeerCertificate& c, const QString& peer, const QString& pinned) {
  trustText_->setText(
      (pinned.isEmpty() ? tr("No known authority vouches for this gateway. Compare its fingerprint with what "
                             "its keeper says; nothing was sent yet.")
                        : tr("This gateway shows another certificate than the one that was trusted. Somebody "
                             "may be listening in, or it was set up anew; nothing was sent yet.")) +
      "\n\n" + QString::fromStdString(c.sha256));
  trustIt_->disconnect();
  connect(trustIt_, &QPushButton::clicked, this, [this, peer = peer.toStdString(), sha = c.sha256] {
    try {
      desk_.records().store().pin(peer, sha);
    } catch (const Error& e) {
      emit said(QString::fromUtf8(e.what()));
      return;
    }
    trust_->hide();
    signIn();
  });
  trust_->show();
}

void SharingView::take(const gate::ClientView& view) {
  if (looking_ && view.seen) looking_->take(*view.seen);
  if (looking_ && view.stage != view_.stage) looking_->connected(view.stage == gate::ClientStage::SignedIn);
  // An answer about a picture changes nothing of the lists.
  if (view.seen) return;
  const bool newPass = !view.passPath.empty() && view.passPath != view_.passPath;
  view_ = view;
  if (!view.said.empty()) emit said(QString::fromStdString(view.said));
  if (newPass) {
    QString at = address_->text().trimmed();
    if (!at.startsWith("https://")) at = "https://" + at;
    while (at.endsWith('/')) at.chop(1);
    passes_->showLink(at + QString::fromStdString(view.passPath));
    emit said(tr("The pass's link is on the clipboard. It is shown this once."));
  }
  refresh();
}

void SharingView::refresh() {
  const bool in = view_.stage == gate::ClientStage::SignedIn && view_.me.is_object();
  signIn_->setVisible(!in);
  const bool keeper = in && text(view_.me, "role") == "keeper";
  happened_->setVisible(in);
  happened_->setEnabled(keeper);
  happened_->setToolTip(keeper ? QString() : tr("Only a keeper of the gateway reads it."));
  const bool history = keeper && happened_->isChecked();
  body_->setVisible(in && !history);
  audit_->setVisible(history);
  if (history) audit_->show(view_.audit);
  if (in) {
    password_->clear();
    code_->clear();
    state_->setText(tr("%1 · https://%2 · signed in as %3")
                        .arg(text(view_.me, "gate"), address_->text(), text(view_.me, "name")));
    showVisits();
    passes_->showPasses(view_.passes);
    return;
  }
  state_->setText(client_ && view_.stage == gate::ClientStage::Connecting ? tr("signing in…") : QString());
  if (!view_.sentence.empty() && !trust_->isVisible()) {
    trouble_->setText(QString::fromStdString(view_.sentence));
    trouble_->show();
  }
}

QStringList SharingView::visitorsOf(Id machine) const {
  QStringList out;
  const Snapshot& s = desk_.records().snapshot();
  for (const auto& m : view_.machines) {
    if (!m.is_object() || !m.contains("ways") || !m["ways"].is_array()) continue;
    for (const auto& w : m["ways"]) {
      const auto way = s.endpoints.find(whole(w, "id"));
      if (way == s.endpoints.end() || way->second.machine != machine) continue;
      if (!w.contains("visits") || !w["visits"].is_array()) continue;
      for (const auto& v : w["visits"])
        out << (yes(v, "drives") ? tr("%1 drives, since %2") : tr("%1 looks, since %2"))
                   .arg(text(v, "who"), QDateTime::fromSecsSinceEpoch(whole(v, "since")).toString("HH:mm"));
    }
  }
  return out;
}

void SharingView::showVisits() {
  emit visitsChanged();
  const qint64 chosen = visits_->selectedItems().isEmpty()
                            ? 0
                            : visits_->item(visits_->currentRow(), 0)->data(kVisit).toLongLong();
  const qint64 chosenWay = chosen == 0 ? 0 : visits_->item(visits_->currentRow(), 0)->data(kWay).toLongLong();
  const QSignalBlocker quiet(visits_);
  visits_->setRowCount(0);
  passes_->showWays(view_.machines);
  for (const auto& m : view_.machines) {
    if (!m.is_object() || !m.contains("ways") || !m["ways"].is_array()) continue;
    for (const auto& w : m["ways"]) {
      if (!w.contains("visits") || !w["visits"].is_array()) continue;
      for (const auto& v : w["visits"]) {
        const int row = visits_->rowCount();
        visits_->insertRow(row);
        const QString since = QDateTime::fromSecsSinceEpoch(whole(v, "since")).toString("HH:mm");
        const QString cells[] = {text(m, "name") + " · " + text(w, "label"),
                                 text(v, "who") + (yes(v, "pass") ? tr(" (pass)") : QString()),
                                 yes(v, "drives") ? tr("drives") : tr("looks"), since, text(v, "from")};
        for (int c = 0; c < 5; ++c) visits_->setItem(row, c, new QTableWidgetItem(cells[c]));
        visits_->item(row, 2)->setForeground(yes(v, "drives") ? scheme().copper : scheme().teal);
        visits_->item(row, 0)->setData(kVisit, whole(v, "visit"));
        visits_->item(row, 0)->setData(kWay, whole(w, "id"));
        if (whole(v, "visit") == chosen && whole(w, "id") == chosenWay) visits_->selectRow(row);
      }
    }
  }
  visits_->setVisible(visits_->rowCount() > 0);
  noVisits_->setVisible(visits_->rowCount() == 0);
  allowForVisits();
}

void SharingView::allowForVisits() {
  const bool chosen = !visits_->selectedItems().isEmpty();
  const QString first = chosen ? QString() : tr("Choose a visit first.");
  endVisit_->setEnabled(chosen);
  endVisit_->setToolTip(first);
  const bool keeper = text(view_.me, "role") == "keeper";
  write_->setEnabled(chosen && keeper);
  write_->setToolTip(keeper ? first : tr("Only a keeper of the gateway writes to visitors."));
  lookIn_->setEnabled(chosen && keeper);
  lookIn_->setToolTip(keeper ? first : tr("Only a keeper of the gateway looks in."));
}

std::optional<SharingView::Chosen> SharingView::chosenVisit() const {
  if (!client_ || visits_->selectedItems().isEmpty()) return std::nullopt;
  const int row = visits_->currentRow();
  const QTableWidgetItem* first = visits_->item(row, 0);
  return Chosen{first->data(kWay).toLongLong(), first->data(kVisit).toLongLong(), first->text(),
                visits_->item(row, 1)->text()};
}

void SharingView::endVisit(const Chosen& visit) {
  if (client_) client_->send({{"endVisit", {{"way", visit.way}, {"visit", visit.visit}}}});
}

/// Words that stay on the visitor's page until they are read.
void SharingView::writeTo(const Chosen& visit) {
  QWidget* over = looking_ && looking_->isActiveWindow() ? static_cast<QWidget*>(looking_) : this;
  auto* dialog = new QInputDialog(over);
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setObjectName("writeDialog");
  dialog->setWindowTitle(tr("Write to %1").arg(visit.who));
  dialog->setLabelText(tr("It stays on their page until it is read, and is kept in the audit."));
  dialog->setOkButtonText(tr("Send"));
  dialog->resize(420, dialog->sizeHint().height());
  connect(dialog, &QInputDialog::textValueSelected, this, [this, visit](const QString& words) {
    if (client_ && !words.trimmed().isEmpty())
      client_->send(
          {{"write", {{"way", visit.way}, {"visit", visit.visit}, {"text", words.trimmed().toStdString()}}}});
  });
  dialog->open();
}

/// One at a time: whoever is chosen next takes the place of the one before.
void SharingView::lookInto(const Chosen& visit) {
  if (looking_) looking_->close();
  auto* look = new LookWindow({visit.way, visit.visit}, visit.what, visit.who, this);
  looking_ = look;
  const auto ask = [this, visit](qint64 have) {
    if (client_) client_->send({{"lookIn", {{"way", visit.way}, {"visit", visit.visit}, {"have", have}}}});
  };
  connect(look, &LookWindow::wanted, this, ask);
  connect(look, &LookWindow::writeWanted, this, [this, visit] { writeTo(visit); });
  connect(look, &LookWindow::endWanted, this, [this, visit] { endVisit(visit); });
  look->show();
  ask(0);
}

LookWindow* SharingView::lookWindow() const { return looking_; }

void SharingView::sharePass(Id endpoint) {
  passes_->wants(endpoint);
  if (view_.stage == gate::ClientStage::SignedIn) passes_->focusForm();
}

void SharingView::askAudit() {
  if (client_) client_->send({{"audit", {{"narrow", audit_->narrow().toStdString()}}}});
}

QTableWidget* SharingView::passes() const { return passes_->table(); }

}  // namespace kw::desktop
