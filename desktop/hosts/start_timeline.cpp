#include "desktop/hosts/start_timeline.hpp"

#include <QPainter>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kStep = 46, kText = 28, kTime = 44, kBar = 26;

State glyphOf(host::StepState state) {
  switch (state) {
    case host::StepState::Done: return State::Answering;
    case host::StepState::Now: return State::Starting;
    case host::StepState::Failed: return State::Trouble;
    case host::StepState::Ahead: break;
  }
  return State::NeverReached;
}
}  // namespace

StartTimeline::StartTimeline(QWidget* parent) : QWidget(parent) {
  setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
}

QString StartTimeline::clockWords(std::chrono::nanoseconds time) {
  const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(time).count();
  return QString("%1:%2").arg(seconds / 60).arg(seconds % 60, 2, 10, QChar('0'));
}

void StartTimeline::show(const host::StartView& view, int usual) {
  const bool grown = view.steps.size() != view_.steps.size();
  view_ = view;
  // What follows the waiting is shown as ahead from the beginning.
  if (!view_.failure) {
    view_.steps.push_back({"sign in", "", host::StepState::Ahead, {}});
    view_.steps.push_back({"picture", "", host::StepState::Ahead, {}});
  }
  usual_ = usual;
  shownAt_ = std::chrono::steady_clock::now();
  QString spoken;
  for (const host::StartStep& s : view_.steps)
    if (s.state == host::StepState::Now || s.state == host::StepState::Failed)
      spoken = QString::fromStdString(s.what + ", " + s.remark);
  setAccessibleName(tr("The start: %1").arg(spoken));
  if (grown) updateGeometry();
  update();
}

int StartTimeline::heightForWidth(int) const {
  return static_cast<int>(view_.steps.size()) * kStep + (usual_ > 0 ? kBar : 0);
}
QSize StartTimeline::sizeHint() const { return {380, heightForWidth(380)}; }

void StartTimeline::paintEvent(QPaintEvent*) {
  QPainter p(this);
  const Scheme& s = scheme();
  int y = 0;
  for (std::size_t i = 0; i < view_.steps.size(); ++i) {
    const host::StartStep& step = view_.steps[i];
    const QPointF centre(9, y + 12);
    if (i + 1 < view_.steps.size())
      drawPipe(p, QPointF(9, y + 21), kStep - 18,
               step.state == host::StepState::Done  ? Pipe::Sealed
               : step.state == host::StepState::Now ? Pipe::Plain
                                                    : Pipe::Untried);
    drawState(p, centre, 13, glyphOf(step.state));
    const QColor ink = step.state == host::StepState::Now      ? s.amber
                       : step.state == host::StepState::Failed ? s.brick
                       : step.state == host::StepState::Ahead  ? s.quiet
                                                               : s.text;
    const int room = width() - kText - kTime - 6;
    p.setFont(windowFont(10));
    p.setPen(ink);
    p.drawText(QRect(kText, y + 2, room, 20), Qt::AlignVCenter,
               p.fontMetrics().elidedText(QString::fromStdString(step.what), Qt::ElideRight, room));
    p.setFont(windowFont(8.5));
    p.setPen(s.quiet);
    p.drawText(
        QRect(kText, y + 21, width() - kText, 18), Qt::AlignVCenter,
        p.fontMetrics().elidedText(QString::fromStdString(step.remark), Qt::ElideRight, width() - kText));
    if (step.state == host::StepState::Done || step.state == host::StepState::Failed) {
      p.setFont(windowFont(9));
      p.drawText(QRect(width() - kTime, y + 2, kTime, 20), Qt::AlignVCenter | Qt::AlignRight,
                 clockWords(step.at));
    }
    y += kStep;
  }
  if (usual_ <= 0) return;
  const auto now = view_.over ? view_.took : view_.took + (std::chrono::steady_clock::now() - shownAt_);
  const double share = std::min(1.0, std::chrono::duration<double>(now).count() / usual_);
  const QRectF bar(0, y + 10, width(), 4);
  p.setRenderHint(QPainter::Antialiasing);
  p.setPen(Qt::NoPen);
  p.setBrush(s.line);
  p.drawRoundedRect(bar, 2, 2);
  p.setBrush(s.amber);
  p.drawRoundedRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), 2, 2);
}

}  // namespace kw::desktop
