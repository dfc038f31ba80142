// The lamps of a serial line, in a pane's header: RTS CTS DTR DSR DCD RI, lit or not.
#pragma once
#include <QPainter>
#include <QWidget>

#include "desktop/theme.hpp"
#include "session/session.hpp"

namespace kw::desktop {

class LineLamps : public QWidget {
 public:
  explicit LineLamps(QWidget* parent) : QWidget(parent) { setFixedHeight(28); }
  void show(const LineFacts& facts) {
    if (facts == facts_) return;
    facts_ = facts;
    QStringList lit;
    for (const auto& [name, on] : lamps()) lit += QString(name) + (on ? tr(" on") : tr(" off"));
    setToolTip(lit.join(", "));
    setAccessibleName(lit.join(", "));
    updateGeometry();
    update();
  }
  [[nodiscard]] bool any() const { return facts_.hasLamps; }
  [[nodiscard]] QSize sizeHint() const override {
    return {facts_.hasLamps ? static_cast<int>(lamps().size()) * kStep + 4 : 0, 28};
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    p.setFont(windowFont(7));
    const Scheme& s = scheme();
    int x = 2;
    for (const auto& [name, on] : lamps()) {
      // Filled or hollow, so that it is not told by colour alone.
      p.setPen(QPen(on ? s.teal : s.quiet, 1.2));
      p.setBrush(on ? QBrush(s.teal) : QBrush(Qt::NoBrush));
      p.drawRoundedRect(QRectF(x + kStep / 2.0 - 7, 6, 12, 4), 2, 2);
      p.setPen(on ? s.text : s.quiet);
      p.drawText(QRect(x, 11, kStep, 14), Qt::AlignCenter, name);
      x += kStep;
    }
  }

 private:
  static constexpr int kStep = 26;
  [[nodiscard]] std::vector<std::pair<const char*, bool>> lamps() const {
    if (!facts_.hasLamps) return {};
    return {{"RTS", facts_.rts},
            {"CTS", facts_.cts},
            {"DTR", facts_.dtr},
            {"DSR", facts_.dsr},
            {"DCD", facts_.dcd}};
  }
  LineFacts facts_;
};

}  // namespace kw::desktop
