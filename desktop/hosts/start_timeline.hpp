// A start as a line of steps: what was done when, what is waited for, and how long it usually takes.
#pragma once
#include <QWidget>

#include "host/starting.hpp"

namespace kw::desktop {

class StartTimeline : public QWidget {
  Q_OBJECT
 public:
  explicit StartTimeline(QWidget* parent);
  /// `usual`: seconds a start of this machine took lately; 0 when none is known.
  void show(const host::StartView& view, int usual);
  [[nodiscard]] QSize sizeHint() const override;
  [[nodiscard]] bool hasHeightForWidth() const override { return true; }
  [[nodiscard]] int heightForWidth(int width) const override;
  /// "0:41"
  static QString clockWords(std::chrono::nanoseconds time);

 protected:
  void paintEvent(QPaintEvent* event) override;

 private:
  host::StartView view_;
  int usual_ = 0;
  std::chrono::steady_clock::time_point shownAt_;
};

}  // namespace kw::desktop
