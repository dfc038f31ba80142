#include "desktop/stage/story_card.hpp"

#include <QCheckBox>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "desktop/hosts/start_timeline.hpp"
#include "desktop/look/theme.hpp"

namespace kw::desktop {

StoryCard::StoryCard(QWidget* parent) : QFrame(parent), layout_(new QVBoxLayout(this)) {
  setObjectName("card");
  layout_->setContentsMargins(20, 16, 20, 16);
  hide();
}

void StoryCard::setSession(OpenSession* session) {
  session_ = session;
  shown_.clear();
  refresh();
}

void StoryCard::reset(const QString& key) {
  if (body_ != nullptr) {
    // One of its own buttons may be what brought us here, so it goes only when the event is over.
    body_->setParent(nullptr);
    body_->deleteLater();
  }
  moving_ = nullptr;
  buttons_ = nullptr;
  timeline_ = nullptr;
  shown_ = key;
  body_ = new QWidget(this);
  bodyLayout_ = new QVBoxLayout(body_);
  bodyLayout_->setContentsMargins(0, 0, 0, 0);
  bodyLayout_->setSpacing(8);
  body_->hide();  // until it is filled: a layout leaves out children that are not shown yet
  layout_->addWidget(body_);
}

int StoryCard::heightFor(int width) const {
  return layout_->hasHeightForWidth() ? layout_->totalHeightForWidth(width)
                                      : layout_->totalSizeHint().height();
}

QLabel* StoryCard::addText(const QString& text, const char* role) {
  auto* label = new QLabel(text, body_);
  label->setWordWrap(true);
  label->setTextFormat(Qt::PlainText);
  if (role != nullptr) label->setObjectName(role);
  bodyLayout_->addWidget(label);
  return label;
}

QPushButton* StoryCard::addButton(const QString& text, bool own) {
  if (buttons_ == nullptr) {
    buttons_ = new QWidget(body_);
    auto* row = new QHBoxLayout(buttons_);
    row->setContentsMargins(0, 6, 0, 0);
    row->addStretch();
    bodyLayout_->addWidget(buttons_);
  }
  auto* button = new QPushButton(text, buttons_);
  button->setProperty("own", own);
  button->setAutoDefault(true);
  buttons_->layout()->addWidget(button);
  return button;
}

void StoryCard::refresh() {
  if (!session_) {
    hide();
    return;
  }
  const SessionStatus& status = session_->status();
  if (const host::StartView* start = session_->starting()) {
    showStart(*start);
  } else if (const auto& question = session_->question()) {
    showQuestion(*question);
  } else if (status.stage == SessionStage::Waiting ||
             (status.stage == SessionStage::Ended && status.problem)) {
    showTrouble();
  } else if (status.stage == SessionStage::Connecting || status.stage == SessionStage::SigningIn) {
    showProgress();
  } else if (status.stage == SessionStage::Live && !session_->hasPicture()) {
    showProgress();
  } else {
    shown_.clear();
    hide();
    return;
  }
  show();
  raise();
  body_->show();
  layout_->activate();
  emit fitted();
}

void StoryCard::showProgress() {
  const SessionStatus& status = session_->status();
  const QString key = "progress" + QString::number(static_cast<int>(status.stage));
  if (shown_ != key) {
    reset(key);
    addText(session_->machine(), "heading");
    moving_ = addText({});
    auto* stop = addButton(tr("Stop"), false);
    connect(stop, &QPushButton::clicked, this, &StoryCard::endWanted);
  }
  QString sentence = QString::fromStdString(status.sentence);
  if (status.stage == SessionStage::Live) sentence = tr("waiting for the first picture");
  moving_->setText(sentence + QStringLiteral(", %1:%2")
                                  .arg(session_->secondsInStage() / 60)
                                  .arg(session_->secondsInStage() % 60, 2, 10, QChar('0')));
}

void StoryCard::showStart(const host::StartView& view) {
  const QString key = view.failure ? QStringLiteral("start failed") : QStringLiteral("start");
  if (shown_ != key) {
    reset(key);
    addText(view.failure ? tr("%1 did not come up").arg(session_->machine())
                         : tr("%1 is on its way").arg(session_->machine()),
            "heading");
    moving_ = addText({}, "quiet");
    timeline_ = new StartTimeline(body_);
    bodyLayout_->addWidget(timeline_);
    if (view.failure) {
      addText(QString::fromStdString(view.failure->detail()), "bad");
      if (const std::string cure = view.failure->cure(); !cure.empty())
        addText(QString::fromStdString(cure), "quiet");
    } else {
      auto* look = addButton(tr("Look now"), false);
      connect(look, &QPushButton::clicked, this, [this] {
        if (session_) session_->lookNow();
      });
    }
    if (hasConsole && hasConsole()) {
      auto* console = addButton(tr("Its console meanwhile"), false);
      console->setObjectName("consoleMeanwhile");
      connect(console, &QPushButton::clicked, this, &StoryCard::consoleWanted);
    }
    auto* stop = addButton(view.failure ? tr("Put away") : tr("Stop waiting"), true);
    stop->setObjectName("stopWaiting");
    connect(stop, &QPushButton::clicked, this, &StoryCard::endWanted);
  }
  const int seconds = session_->secondsInStage();
  const QString usual = session_->usualStart > 0
                            ? tr("usually %1 on this machine")
                                  .arg(StartTimeline::clockWords(std::chrono::seconds(session_->usualStart)))
                            : tr("first start from here");
  moving_->setText(view.over ? tr("after %1").arg(StartTimeline::clockWords(view.took))
                             : StartTimeline::clockWords(std::chrono::seconds(seconds)) + " · " + usual);
  timeline_->show(view, session_->usualStart);
}

void StoryCard::showTrouble() {
  const SessionStatus& status = session_->status();
  const bool waiting = status.stage == SessionStage::Waiting;
  const QString key =
      "trouble" + QString::fromStdString(status.sentence) + QString::number(static_cast<int>(status.stage));
  if (shown_ != key) {
    reset(key);
    addText(waiting ? tr("%1 is not reached").arg(session_->machine())
                    : tr("%1: the session is over").arg(session_->machine()),
            "heading");
    addText(QString::fromStdString(status.sentence), "bad");
    if (!status.cure.empty()) addText(QString::fromStdString(status.cure), "quiet");
    if (waiting) moving_ = addText({});
    auto* why = addButton(tr("Look why"), false);
    why->setObjectName("lookWhy");
    connect(why, &QPushButton::clicked, this, &StoryCard::whyWanted);
    auto* again = addButton(waiting ? tr("Try now") : tr("Connect again"), true);
    connect(again, &QPushButton::clicked, this, [this] {
      if (session_) session_->session().retry();
    });
    auto* end = addButton(waiting ? tr("Stop waiting") : tr("Put away"), false);
    connect(end, &QPushButton::clicked, this, &StoryCard::endWanted);
  }
  if (moving_ != nullptr)
    moving_->setText(
        tr("attempt %1 · next try in %2 s").arg(status.attempt).arg(session_->secondsToNextTry()));
}

void StoryCard::showQuestion(const Question& question) {
  const QString key = "question" + QString::fromStdString(question.text) + (question.again ? "again" : "") +
                      QString::number(session_->status().attempt);
  if (shown_ == key) return;
  reset(key);
  if (question.kind == Question::Kind::Trust) return showTrust(question);
  if (question.kind == Question::Kind::Unsealed) return showUnsealed(question);
  showPassword(question);
}

/// Where an answer goes that is to be kept: beside the way in, or into what others share.
QString StoryCard::keepWords(const Question& question) const {
  if (question.credential.empty()) return tr("Keep it, sealed, on this desk");
  const int users = session_->credentialUsers ? session_->credentialUsers(question.credential) : 0;
  const QString name = QString::fromStdString(question.credential);
  return users > 1 ? tr("Keep it in “%1”, for all %2 ways in that take it").arg(name).arg(users)
                   : tr("Keep it in “%1”").arg(name);
}

void StoryCard::showPassword(const Question& question) {
  addText(QString::fromStdString(question.text), "heading");
  if (question.again)
    addText(question.refused.empty()
                ? tr("The last one was not taken. Try again.")
                : tr("The last one was not taken: %1.").arg(QString::fromStdString(question.refused)),
            "bad");
  QLineEdit* user = nullptr;
  if (question.kind == Question::Kind::UserAndPassword) {
    user = new QLineEdit(body_);
    user->setPlaceholderText(tr("Name"));
    user->setAccessibleName(tr("Name"));
    user->setText(QString::fromStdString(question.user));
    bodyLayout_->addWidget(user);
  }
  auto* password = new QLineEdit(body_);
  password->setObjectName("password");
  const bool seen = question.kind == Question::Kind::Text;
  password->setEchoMode(seen ? QLineEdit::Normal : QLineEdit::Password);
  password->setPlaceholderText(seen ? tr("Answer") : tr("Password"));
  password->setAccessibleName(seen ? tr("Answer") : tr("Password"));
  bodyLayout_->addWidget(password);
  if (!question.account.empty()) addText(QString::fromStdString(question.account), "quiet");
  if (!question.hint.empty()) addText(QString::fromStdString(question.hint), "quiet");
  auto* keep = new QCheckBox(keepWords(question), body_);
  keep->setObjectName("keepAnswer");
  keep->setVisible(session_->endpoint() != 0);
  bodyLayout_->addWidget(keep);
  auto* stop = addButton(tr("Stop"), false);
  connect(stop, &QPushButton::clicked, this, &StoryCard::endWanted);
  auto* go = addButton(tr("Sign in"), true);
  go->setObjectName("signIn");
  const auto answer = [this, user, password, keep] {
    if (!session_) return;
    Answer given;
    given.accepted = true;
    if (user != nullptr) given.user = user->text().toStdString();
    given.password = password->text().toStdString();
    given.remember = keep->isChecked();
    password->clear();
    session_->answer(given);
  };
  connect(go, &QPushButton::clicked, this, answer);
  connect(password, &QLineEdit::returnPressed, this, answer);
  (user != nullptr && user->text().isEmpty() ? user : password)->setFocus();
}

/// A line that was sealed before and is not now: going on is possible, stopping is what Enter does.
void StoryCard::showUnsealed(const Question& question) {
  addText(QString::fromStdString(question.text), "heading");
  addText(tr("Somebody may be in between, or the host was set up anew. Nothing was sent yet."), "bad");
  addText(QString::fromStdString(question.hint), "quiet");
  auto* stop = addButton(tr("Stop here"), true);
  stop->setObjectName("stopHere");
  auto* on = addButton(tr("Go on in clear, this once"), false);
  on->setObjectName("goOnPlain");
  for (const bool accepted : {false, true})
    connect(accepted ? on : stop, &QPushButton::clicked, this, [this, accepted] {
      if (!session_) return;
      Answer given;
      given.accepted = accepted;
      session_->answer(given);
    });
  stop->setFocus();
}

void StoryCard::showTrust(const Question& question) {
  const PeerCertificate& c = question.certificate;
  addText(QString::fromStdString(question.text), "heading");
  const bool changed = !question.pinned.empty();
  if (changed)
    addText(tr("Somebody may be listening in, or the host was set up anew. Nothing was sent yet."), "bad");
  else
    addText(c.problem.empty()
                ? tr("Compare it with what the host's owner says before you go on.")
                : tr("No known authority vouches for it: %1.").arg(QString::fromStdString(c.problem)),
            "quiet");
  auto* facts = new QWidget(body_);
  auto* grid = new QGridLayout(facts);
  grid->setContentsMargins(0, 0, 0, 0);
  grid->setHorizontalSpacing(14);
  grid->setColumnStretch(1, 1);
  const auto fact = [&](const QString& what, const std::string& value, bool mono = false) {
    if (value.empty()) return;
    const int row = grid->rowCount();
    auto* name = new QLabel(what, facts);
    name->setObjectName("quiet");
    name->setAlignment(Qt::AlignTop);
    auto* text = new QLabel(QString::fromStdString(value), facts);
    text->setTextFormat(Qt::PlainText);
    text->setTextInteractionFlags(Qt::TextSelectableByMouse);
    text->setWordWrap(true);
    if (mono) {
      text->setFont(monoFont(8));
      QString parts = QString::fromStdString(value);
      if (parts.size() > 48) parts.insert(48, '\n');
      text->setText(parts);
    }
    grid->addWidget(name, row, 0);
    grid->addWidget(text, row, 1);
  };
  fact(tr("shown by"), c.subject);
  fact(tr("issued by"), c.issuer);
  fact(tr("good from"), c.notBefore);
  fact(tr("good until"), c.notAfter);
  fact(tr("SHA-256"), c.sha256, true);
  fact(tr("trusted before"), question.pinned, true);
  bodyLayout_->addWidget(facts);
  const auto reply = [this](bool accepted, bool remember) {
    return [this, accepted, remember] {
      if (!session_) return;
      Answer given;
      given.accepted = accepted;
      given.remember = remember;
      session_->answer(given);
    };
  };
  connect(addButton(tr("Refuse"), !changed ? false : true), &QPushButton::clicked, this, reply(false, false));
  connect(addButton(tr("This once"), false), &QPushButton::clicked, this, reply(true, false));
  auto* keep = addButton(changed ? tr("Trust the new one") : tr("From now on"), !changed);
  keep->setObjectName("trustKeep");
  connect(keep, &QPushButton::clicked, this, reply(true, true));
}

}  // namespace kw::desktop
