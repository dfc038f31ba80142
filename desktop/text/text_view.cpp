#include "desktop/text/text_view.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QPainter>
#include <QProgressBar>
#include <QPushButton>
#include <QScrollBar>
#include <QToolButton>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kRowsPerLook = 20'000;  // a few milliseconds
constexpr std::size_t kMostFinds = 100'000;
}  // namespace

/// Where in everything that is kept the finds are, beside the scroll bar.
class FindMarks : public QWidget {
 public:
  explicit FindMarks(QWidget* parent) : QWidget(parent) { setFixedWidth(4); }
  void set(const std::vector<text::TextFind>* finds, std::int64_t first, std::int64_t last) {
    finds_ = finds, first_ = first, last_ = std::max(first + 1, last);
    update();
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter p(this);
    p.fillRect(rect(), scheme().panel);
    if (finds_ == nullptr) return;
    int before = -1;
    for (const text::TextFind& f : *finds_) {
      const int y = static_cast<int>(static_cast<double>(f.row - first_) /
                                     static_cast<double>(last_ - first_) * (height() - 2));
      if (y == before) continue;
      before = y;
      p.fillRect(0, y, width(), 2, scheme().copper);
    }
  }

 private:
  const std::vector<text::TextFind>* finds_ = nullptr;
  std::int64_t first_ = 0, last_ = 1;
};

TextView::TextView(QWidget* parent) : QWidget(parent) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  auto* row = new QHBoxLayout;
  row->setSpacing(0);
  canvas_ = new TextCanvas(this);
  bar_ = new QScrollBar(Qt::Vertical, this);
  bar_->setAccessibleName(tr("Earlier text"));
  marks_ = new FindMarks(this);
  row->addWidget(canvas_, 1);
  row->addWidget(marks_);
  row->addWidget(bar_);
  column->addLayout(row, 1);
  buildFindBar();
  buildPasteBar();
  buildTransferBar();
  for (QWidget* b : {findBar_, pasteBar_, transferBar_}) {
    column->addWidget(b);
    b->hide();
  }
  marks_->hide();
  setFocusProxy(canvas_);
  connect(canvas_, &TextCanvas::scrolled, this, &TextView::refreshScrollBar);
  connect(canvas_, &TextCanvas::pasteWanted, this, &TextView::paste);
  connect(canvas_, &TextCanvas::findWanted, this, &TextView::openFind);
  connect(bar_, &QScrollBar::valueChanged, this, [this](int value) {
    if (!settingBar_) canvas_->scrollTo(canvas_->oldestRow() + value);
  });
  findTimer_.setInterval(0);
  connect(&findTimer_, &QTimer::timeout, this, &TextView::findMore);
}

text::Terminal* TextView::terminal() const {
  TextConsole* console = session_ ? session_->text() : nullptr;
  return console != nullptr ? &console->terminal() : nullptr;
}

void TextView::setSession(OpenSession* session) {
  if (session_) session_->disconnect(this);
  session_ = session != nullptr && session->text() != nullptr ? session : nullptr;
  closeFind();
  pasteBar_->hide();
  canvas_->setSession(session_);
  if (session_) connect(session_, &OpenSession::transferChanged, this, &TextView::showTransfer);
  transferBar_->hide();
  refreshScrollBar();
}

void TextView::refreshScrollBar() {
  settingBar_ = true;
  const auto range = static_cast<int>(canvas_->lastFirstRow() - canvas_->oldestRow());
  bar_->setRange(0, range);
  bar_->setPageStep(canvas_->rowsShown());
  bar_->setValue(static_cast<int>(canvas_->firstRow() - canvas_->oldestRow()));
  bar_->setVisible(range > 0);
  settingBar_ = false;
  if (findBar_->isVisible())
    marks_->set(&finds_, canvas_->oldestRow(), canvas_->lastFirstRow() + canvas_->rowsShown());
}

namespace {

QWidget* newBar(QWidget* parent, QHBoxLayout** row) {
  auto* bar = new QWidget(parent);
  bar->setObjectName("paneBar");
  bar->setAutoFillBackground(true);
  *row = new QHBoxLayout(bar);
  (*row)->setContentsMargins(8, 4, 6, 4);
  (*row)->setSpacing(6);
  return bar;
}

}  // namespace

void TextView::buildFindBar() {
  QHBoxLayout* row = nullptr;
  findBar_ = newBar(this, &row);
  findField_ = new QLineEdit(findBar_);
  findField_->setPlaceholderText(tr("Find in this text; capitals count when you type one"));
  findField_->setAccessibleName(tr("Find in this text"));
  findField_->installEventFilter(this);
  findCount_ = new QLabel(findBar_);
  findCount_->setObjectName("quiet");
  findCount_->setMinimumWidth(90);
  row->addWidget(findField_, 1);
  row->addWidget(findCount_);
  const std::tuple<QString, QString, std::function<void()>> buttons[] = {
      {tr("earlier"), tr("The one before (Shift+Enter)"), [this] { findNext(-1); }},
      {tr("later"), tr("The next one (Enter)"), [this] { findNext(1); }},
      {tr("close"), tr("Close (Esc)"), [this] { closeFind(); }}};
  for (const auto& [text, tip, act] : buttons) {
    auto* b = new QToolButton(findBar_);
    b->setText(text);
    b->setToolTip(tip);
    connect(b, &QToolButton::clicked, this, act);
    row->addWidget(b);
  }
  connect(findField_, &QLineEdit::textChanged, this, &TextView::beginFind);
}

bool TextView::eventFilter(QObject* watched, QEvent* event) {
  if (watched == findField_ && event->type() == QEvent::KeyPress) {
    auto* key = static_cast<QKeyEvent*>(event);
    if (key->key() == Qt::Key_Escape) {
      closeFind();
      return true;
    }
    if (key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter) {
      findNext(key->modifiers() & Qt::ShiftModifier ? -1 : 1);
      return true;
    }
  }
  return QWidget::eventFilter(watched, event);
}

void TextView::openFind() {
  findBar_->show();
  marks_->show();
  findField_->setFocus();
  findField_->selectAll();
  if (const QString chosen = canvas_->selectedText(); !chosen.isEmpty() && !chosen.contains('\n'))
    findField_->setText(chosen);
  beginFind();
}

void TextView::closeFind() {
  const bool had = findField_->hasFocus();
  findTimer_.stop();
  finds_.clear();
  currentFind_ = -1;
  canvas_->setFinds(finds_, -1);
  findBar_->hide();
  marks_->hide();
  if (had) canvas_->setFocus();
}

void TextView::beginFind() {
  finds_.clear();
  currentFind_ = -1;
  findFrom_ = 0;
  if (terminal() == nullptr || findField_->text().isEmpty()) {
    findTimer_.stop();
    showFinds();
    return;
  }
  findTimer_.start();
  findMore();
}

/// A slice at a time, so that typing goes on while a million rows are looked through.
void TextView::findMore() {
  text::Terminal* t = terminal();
  if (t == nullptr) return findTimer_.stop();
  const std::int64_t next = t->find(findField_->text().toStdString(), findFrom_, kRowsPerLook, finds_);
  const bool over = next <= findFrom_ || next >= canvas_->lastFirstRow() + canvas_->rowsShown() ||
                    finds_.size() >= kMostFinds;
  findFrom_ = next;
  if (over) {
    findTimer_.stop();
    // The newest find before the end of what is in sight is the one that is meant most often.
    const std::int64_t end = canvas_->firstRow() + canvas_->rowsShown();
    for (std::size_t i = 0; i < finds_.size(); ++i)
      if (finds_[i].row < end) currentFind_ = static_cast<int>(i);
    if (currentFind_ < 0 && !finds_.empty()) currentFind_ = 0;
    if (currentFind_ >= 0) canvas_->showRow(finds_[static_cast<std::size_t>(currentFind_)].row);
  }
  showFinds();
}

void TextView::showFinds() {
  QString count;
  if (!findField_->text().isEmpty()) {
    const auto n = static_cast<int>(finds_.size());
    count = n == 0              ? (findTimer_.isActive() ? tr("looking…") : tr("not found"))
            : currentFind_ >= 0 ? tr("%1 of %2").arg(currentFind_ + 1).arg(n)
                                : tr("%1 so far").arg(n);
  }
  findCount_->setText(count);
  canvas_->setFinds(finds_, currentFind_);
  refreshScrollBar();
}

void TextView::findNext(int step) {
  if (finds_.empty()) return;
  const int n = static_cast<int>(finds_.size());
  currentFind_ = ((currentFind_ + step) % n + n) % n;
  canvas_->showRow(finds_[static_cast<std::size_t>(currentFind_)].row);
  showFinds();
}

void TextView::buildPasteBar() {
  QHBoxLayout* row = nullptr;
  pasteBar_ = newBar(this, &row);
  pasteText_ = new QLabel(pasteBar_);
  pasteText_->setTextFormat(Qt::PlainText);
  row->addWidget(pasteText_, 1);
  const auto button = [&](const QString& text, bool own) {
    auto* b = new QPushButton(text, pasteBar_);
    b->setProperty("own", own);
    row->addWidget(b);
    return b;
  };
  auto* no = button(tr("Do not paste"), false);
  pasteFirst_ = button(tr("First line only"), false);
  pasteAll_ = button(tr("Paste"), true);
  pasteAll_->setObjectName("pasteAll");
  const auto finish = [this](const QString& text) {
    pasteBar_->hide();
    canvas_->setFocus();
    if (session_ && !text.isEmpty()) session_->text()->paste(text.toStdString());
  };
  connect(no, &QPushButton::clicked, this, [finish] { finish({}); });
  connect(pasteFirst_, &QPushButton::clicked, this,
          [this, finish] { finish(toPaste_.section('\n', 0, 0).remove('\r')); });
  connect(pasteAll_, &QPushButton::clicked, this, [this, finish] { finish(toPaste_); });
}

void TextView::paste(const QString& text) {
  if (!session_ || text.isEmpty() || session_->viewOnly()) return;
  const QString trimmed = text.endsWith('\n') ? text.chopped(1) : text;
  const auto lines = trimmed.count('\n') + 1;
  if (lines < 2 || !session_->shown.warnsOfPaste) {
    session_->text()->paste(text.toStdString());
    return;
  }
  toPaste_ = text;
  const QString begin = trimmed.section('\n', 0, 0).simplified().left(40);
  pasteText_->setText(tr("Paste %1 lines, beginning “%2”? Each line end is an Enter.").arg(lines).arg(begin));
  pasteBar_->show();
  pasteAll_->setFocus();
}

void TextView::buildTransferBar() {
  QHBoxLayout* row = nullptr;
  transferBar_ = newBar(this, &row);
  transferText_ = new QLabel(transferBar_);
  transferText_->setTextFormat(Qt::PlainText);
  progress_ = new QProgressBar(transferBar_);
  progress_->setFixedWidth(160);
  progress_->setTextVisible(false);
  cancel_ = new QPushButton(tr("Cancel"), transferBar_);
  row->addWidget(transferText_, 1);
  row->addWidget(progress_);
  row->addWidget(cancel_);
  connect(cancel_, &QPushButton::clicked, this, [this] {
    if (session_ && !session_->transfer().finished)
      session_->text()->cancelTransfer();
    else
      transferBar_->hide();
  });
}

void TextView::showTransfer() {
  const TransferFacts& f = session_->transfer();
  transferBar_->setVisible(!f.what.empty());
  QString text = QString::fromStdString(f.finished ? f.outcome : f.what);
  if (!f.finished && f.total > 0) text += tr(", %1 of %2").arg(f.done).arg(f.total);
  transferText_->setText(text);
  transferText_->setObjectName(f.failed ? "bad" : "");
  transferText_->style()->polish(transferText_);
  progress_->setRange(0, f.total > 0 ? 1000 : 0);
  if (f.total > 0)
    progress_->setValue(static_cast<int>(static_cast<double>(f.done) / static_cast<double>(f.total) * 1000));
  progress_->setVisible(!f.finished);
  cancel_->setText(f.finished ? tr("Close") : tr("Cancel"));
}

}  // namespace kw::desktop
