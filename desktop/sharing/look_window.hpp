// What a visitor of a gateway sees, while a keeper looks in: asked for anew whenever it was shown.
#pragma once
#include <QImage>
#include <QTimer>
#include <QWidget>
#include <memory>
#include <nlohmann/json.hpp>

#include "desktop/text/text_painter.hpp"

class QLabel;

namespace kw::desktop {

/// The visit that is looked at.
struct VisitPlace {
  qint64 way = 0, visit = 0;
  bool operator==(const VisitPlace&) const = default;
};

class LookWindow : public QWidget {
  Q_OBJECT
 public:
  /// `what`: "mist-bench · screen"; `who`: "seed desk".
  LookWindow(VisitPlace place, const QString& what, const QString& who, QWidget* parent);
  [[nodiscard]] VisitPlace place() const { return place_; }
  /// An answer of the gateway; those about another visit are passed over.
  void take(const nlohmann::json& seen);
  /// The gateway is gone, or is there again.
  void connected(bool is);
  [[nodiscard]] const QImage& picture() const { return picture_; }
  [[nodiscard]] const text::Terminal* terminal() const { return terminal_.get(); }
  [[nodiscard]] bool over() const { return over_; }

 signals:
  /// What is seen is wanted, unless it is still `have`.
  void wanted(qint64 have);
  void writeWanted();
  void endWanted();

 protected:
  void keyPressEvent(QKeyEvent* event) override;

 private:
  class Face;
  void showText(const nlohmann::json& text);

  VisitPlace place_;
  QString who_;
  QLabel* state_;
  Face* face_;
  QTimer again_;
  QImage picture_;
  std::unique_ptr<text::Terminal> terminal_;
  qint64 have_ = 0;
  bool over_ = false;
};

}  // namespace kw::desktop
