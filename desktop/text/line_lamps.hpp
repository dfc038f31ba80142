// The lamps of a serial line, in a pane's header: RTS CTS DTR DSR DCD RI, lit or not.
#pragma once
#include <QPainter>
#include <QWidget>

#include "desktop/look/theme.hpp"
#include "session/session.hpp"

namespace kw::desktop {

class LineLamps : public QWidget {
 public:
  explicit LineLamps(QWidget* parent) : QWidget(parent) { setFixedHeight(28); }
  void show(const LineFacts& facts) {
    if (facts == facts_) return;
    facts_ = facts;
    QStringList lit;
    for (const auto& [name, on] : lamps()) {
      if (QString(name) == kErrors) continue;
      lit += QString(name) + (on ? tr(" on") : tr(" off"));
    }
    setToolTip(lit.join(", ") + errorsSentence());
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
      const QColor lit = QString(name) == kErrors ? s.brick : s.teal;
      p.setPen(QPen(on ? lit : s.quiet, 1.2));
      p.setBrush(on ? QBrush(lit) : QBrush(Qt::NoBrush));
      p.drawRoundedRect(QRectF(x + kStep / 2.0 - 7, 6, 12, 4), 2, 2);
      p.setPen(on ? s.text : s.quiet);
      p.drawText(QRect(x, 11, kStep, 14), Qt::AlignCenter, name);
      x += kStep;
    }
  }

 private:
  static constexpr int kStep = 26;
  static constexpr const char* kErrors = "ERR";
  [[nodiscard]] std::vector<std::pair<const char*, bool>> lamps() const {
    if (!facts_.hasLamps) return {};
    std::vector<std::pair<const char*, bool>> all{{"RTS", facts_.rts},
                                                  {"CTS", facts_.cts},
                                                  {"DTR", facts_.dtr},
                                                  {"DSR", facts_.dsr},
                                                  {"DCD", facts_.dcd}};
    if (facts_.errors) all.emplace_back(kErrors, wrong() > 0);
    return all;
  }
  [[nodiscard]] std::uint64_t wrong() const {
    return facts_.errors ? facts_.errors->framing + facts_.errors->parity + facts_.errors->overrun : 0;
  }
  [[nodiscard]] QString errorsSentence() const {
    if (!facts_.errors) return {};
    const LineErrors& e = *facts_.errors;
    QString text =
        tr("\nReceived wrong since the line was opened: %1 frames, %2 parities, %3 overruns; %4 breaks")
            .arg(e.framing)
            .arg(e.parity)
            .arg(e.overrun)
            .arg(e.breaks);
    if (e.framing + e.parity > 20) text += tr("\nText is garbage? Session, Text, Try usual line settings");
    return text;
  }
  LineFacts facts_;
};

}  // namespace kw::desktop
