#include "desktop/window/go_field.hpp"

#include <QAction>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>

#include "desktop/look/theme.hpp"
#include "record/address.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

namespace {
constexpr int kRowHeight = 34, kMostAnswers = 9, kMostFromLogs = 4;
constexpr auto kTypingRests = std::chrono::milliseconds(150);

/// Not found by looking into logs: an address is meant.
bool looksLikeAddress(const QString& text) {
  return text.contains(':') || text.contains('/') || (text.contains('.') && !text.contains(' '));
}
}  // namespace

/// The list below the field. Never takes the focus.
class GoPopup : public QFrame {
 public:
  explicit GoPopup(GoField* field) : QFrame(field->window()), field_(field) {
    setFocusPolicy(Qt::NoFocus);
    setMouseTracking(true);
    setAccessibleName(GoField::tr("Answers"));
    hide();
  }
  void fill(const std::vector<GoAnswer>& answers) {
    answers_ = answers;
    current = 0;
    const QPoint at = field_->mapTo(field_->window(), QPoint(0, field_->height() + 3));
    setGeometry(at.x(), at.y(), field_->width(), static_cast<int>(answers.size()) * kRowHeight + 10);
    setVisible(!answers.empty());
    raise();
    update();
  }
  int current = 0;

 protected:
  void paintEvent(QPaintEvent*) override {
    const Scheme& s = scheme();
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(s.line);
    p.setBrush(s.raised);
    p.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6);
    for (std::size_t i = 0; i < answers_.size(); ++i) {
      const GoAnswer& a = answers_[i];
      const QRect row(5, 5 + static_cast<int>(i) * kRowHeight, width() - 10, kRowHeight);
      const bool chosen = static_cast<int>(i) == current;
      if (chosen) {
        QColor tint = s.copper;
        tint.setAlpha(60);
        p.setPen(Qt::NoPen);
        p.setBrush(tint);
        p.drawRoundedRect(row, 5, 5);
        p.fillRect(row.left(), row.top() + 5, 3, row.height() - 10, s.copper);
      }
      p.setFont(windowFont(10, QFont::DemiBold));
      const QString does = chosen && a.possible ? GoField::tr("Enter: %1").arg(a.does) : a.does;
      const int half = row.width() / 2;
      p.setPen(a.possible ? s.text : s.quiet);
      p.drawText(row.adjusted(12, 0, -half, 0), Qt::AlignVCenter,
                 p.fontMetrics().elidedText(a.title, Qt::ElideMiddle, half - 20));
      p.setFont(windowFont(9));
      p.setPen(chosen && a.possible ? s.copper : s.quiet);
      p.drawText(row.adjusted(half - 60, 0, -12, 0), Qt::AlignVCenter | Qt::AlignRight,
                 p.fontMetrics().elidedText(does, Qt::ElideRight, half + 40));
    }
  }
  void mouseMoveEvent(QMouseEvent* e) override {
    current = std::clamp(static_cast<int>((e->position().y() - 5) / kRowHeight), 0,
                         static_cast<int>(answers_.size()) - 1);
    update();
  }
  void mousePressEvent(QMouseEvent*) override { field_->choose(current); }

 private:
  GoField* field_;
  std::vector<GoAnswer> answers_;
};

GoField::GoField(QWidget* parent) : QLineEdit(parent) {
  setPlaceholderText(tr("Go to a machine, an address or an action"));
  setAccessibleName(tr("Go to a machine, an address or an action"));
  setMinimumHeight(34);
  connect(this, &QLineEdit::textChanged, this, &GoField::refresh);
  typed_.setSingleShot(true);
  typed_.setInterval(kTypingRests);
  connect(&typed_, &QTimer::timeout, this, &GoField::askLogs);
  reader_.setMaxThreadCount(1);
}

QWidget* GoField::popup() const { return popup_; }

void GoField::setSnapshot(std::shared_ptr<const Snapshot> snapshot) {
  snapshot_ = std::move(snapshot);
  names_.clear();
  names_.reserve(snapshot_->machines.size());
  for (const auto& [id, m] : snapshot_->machines) names_.emplace_back(lowered(m.name), id);
  std::sort(names_.begin(), names_.end());
}

std::vector<GoAnswer> GoField::answers(const QString& input, int most) const {
  std::vector<GoAnswer> out;
  const std::string text = lowered(input.trimmed().toStdString());
  if (text.empty()) return out;
  const auto addMachine = [&](Id id) {
    if (static_cast<int>(out.size()) >= most) return;
    const Machine& m = snapshot_->machines.at(id);
    for (const Endpoint* e : snapshot_->endpointsOf(id)) {
      GoAnswer a;
      a.kind = GoAnswer::Kind::OpenEndpoint;
      a.id = e->id;
      a.title = QString::fromStdString(m.name);
      a.possible = canOpen(e->scheme());
      const QString scheme = QString::fromStdString(e->scheme());
      a.does = a.possible ? tr("open %1 · %2").arg(QString::fromStdString(e->label), scheme)
                          : tr("no engine for %1 yet").arg(scheme);
      if (a.possible) {
        out.push_back(a);
        return;
      }
    }
    GoAnswer a;
    a.kind = GoAnswer::Kind::Sheet;
    a.id = id;
    a.title = QString::fromStdString(m.name);
    a.does = tr("edit the sheet");
    out.push_back(a);
  };
  // Names that begin with the text, then names that hold it, then actions, then the text as an address.
  std::vector<Id> inside;
  for (const auto& [name, id] : names_) {
    const auto at = name.find(text);
    if (at == 0)
      addMachine(id);
    else if (at != std::string::npos && static_cast<int>(inside.size()) < most)
      inside.push_back(id);
    if (static_cast<int>(out.size()) >= most) break;
  }
  GoAnswer address;
  bool isAddress = false;
  try {
    const Address parsed = parseAddress(input.toStdString());
    isAddress = input.contains(':') || input.contains('.') || input.startsWith('/');
    address.kind = GoAnswer::Kind::OpenAddress;
    address.address = QString::fromStdString(parsed.uri());
    address.title = QString::fromStdString(parsed.forPeople());
    address.possible = canOpen(parsed.scheme);
    address.does = address.possible ? tr("connect by %1").arg(QString::fromStdString(parsed.scheme))
                                    : tr("no engine for %1 yet").arg(QString::fromStdString(parsed.scheme));
  } catch (const Error& e) {
    if (input.contains("://")) {
      isAddress = true;
      address.title = input;
      address.possible = false;
      address.does = QString::fromStdString(e.detail());
    }
  }
  if (isAddress) out.insert(out.begin(), address);
  for (Id id : inside) addMachine(id);
  for (QAction* action : actions_) {
    if (static_cast<int>(out.size()) >= most) break;
    const QString name = action->text().remove('&').remove("…");
    if (!name.toLower().contains(QString::fromStdString(text))) continue;
    GoAnswer a;
    a.kind = GoAnswer::Kind::Action;
    a.action = action;
    a.title = name;
    a.possible = action->isEnabled();
    const QString why = action->property("why").toString();
    a.does = a.possible
                 ? (action->shortcut().isEmpty() ? tr("do it")
                                                 : action->shortcut().toString(QKeySequence::NativeText))
             : why.isEmpty() ? tr("not possible now")
                             : why;
    out.push_back(a);
  }
  if (!isAddress && !address.address.isEmpty() && static_cast<int>(out.size()) < most &&
      input.trimmed().indexOf(' ') < 0)
    out.push_back(address);
  return out;
}

void GoField::askLogs() {
  const QString words = text().trimmed();
  const int room = kMostAnswers - static_cast<int>(current_.size());
  if (!searchLogs || room <= 0 || words.size() < 3 || looksLikeAddress(words)) return;
  const quint64 mine = ++asked_;
  reader_.start([this, mine, words, search = searchLogs, most = std::min(room, kMostFromLogs)] {
    auto found = search(words, most);
    // The field waits for this thread before it goes.
    QMetaObject::invokeMethod(
        this,
        [this, mine, found = std::move(found)] {
          if (mine != asked_ || found.empty() || popup_ == nullptr) return;
          const int chosen = popup_->current;
          current_.insert(current_.end(), found.begin(), found.end());
          popup_->fill(current_);
          popup_->current = chosen;
        },
        Qt::QueuedConnection);
  });
}

void GoField::refresh() {
  if (popup_ == nullptr) popup_ = new GoPopup(this);
  const bool asked = snapshot_ && window()->focusWidget() == this;
  current_ = asked ? answers(text(), kMostAnswers) : std::vector<GoAnswer>();
  popup_->fill(current_);
  ++asked_;
  if (asked)
    typed_.start();
  else
    typed_.stop();
}

void GoField::choose(int index) {
  if (index < 0 || index >= static_cast<int>(current_.size())) return;
  const GoAnswer answer = current_[static_cast<std::size_t>(index)];
  if (!answer.possible) return;
  clear();
  closePopup();
  emit chosen(answer);
}

void GoField::closePopup() {
  ++asked_;
  typed_.stop();
  current_.clear();
  if (popup_ != nullptr) popup_->hide();
}

void GoField::keyPressEvent(QKeyEvent* event) {
  const bool open = popup_ != nullptr && popup_->isVisible();
  switch (event->key()) {
    case Qt::Key_Down:
    case Qt::Key_Up:
      if (open) {
        const int count = static_cast<int>(current_.size());
        popup_->current = (popup_->current + (event->key() == Qt::Key_Down ? 1 : count - 1)) % count;
        popup_->update();
      }
      return;
    case Qt::Key_Return:
    case Qt::Key_Enter:
      if (open) choose(popup_->current);
      return;
    case Qt::Key_Escape:
      clear();
      closePopup();
      return;
    default: QLineEdit::keyPressEvent(event);
  }
}

void GoField::focusInEvent(QFocusEvent* event) {
  QLineEdit::focusInEvent(event);
  refresh();
}

void GoField::focusOutEvent(QFocusEvent* event) {
  QLineEdit::focusOutEvent(event);
  closePopup();
}

void GoField::paintEvent(QPaintEvent* event) {
  QLineEdit::paintEvent(event);
  if (!text().isEmpty()) return;
  QPainter p(this);
  p.setFont(monoFont(8));
  p.setPen(scheme().quiet);
  p.drawText(rect().adjusted(0, 0, -14, 0), Qt::AlignVCenter | Qt::AlignRight, "Ctrl+G");
}

}  // namespace kw::desktop
