// A text pane's inside: the canvas, its scroll bar with the marks of finds, and small bars below for finding,
// for pasting several lines, and for what is on its way over the line.
#pragma once
#include <QWidget>

#include "desktop/text/text_canvas.hpp"

class QLabel;
class QLineEdit;
class QProgressBar;
class QPushButton;
class QScrollBar;
class QToolButton;

namespace kw::desktop {

class FindMarks;

class TextView : public QWidget {
  Q_OBJECT
 public:
  explicit TextView(QWidget* parent = nullptr);
  void setSession(OpenSession* session);
  [[nodiscard]] TextCanvas* canvas() const { return canvas_; }
  void openFind();
  void closeFind();
  void findNext(int step);
  [[nodiscard]] int findCount() const { return static_cast<int>(finds_.size()); }
  /// Asks first when there are several lines and the machine's sheet says so.
  void paste(const QString& text);
  [[nodiscard]] QWidget* pasteBar() const { return pasteBar_; }
  [[nodiscard]] QLineEdit* findField() const { return findField_; }

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void buildFindBar();
  void buildPasteBar();
  void buildTransferBar();
  void refreshScrollBar();
  void beginFind();
  void findMore();
  void showFinds();
  void showTransfer();
  [[nodiscard]] text::Terminal* terminal() const;

  QPointer<OpenSession> session_;
  TextCanvas* canvas_;
  QScrollBar* bar_;
  FindMarks* marks_;
  QWidget *findBar_, *pasteBar_, *transferBar_;
  QLineEdit* findField_;
  QLabel *findCount_, *pasteText_, *transferText_;
  QProgressBar* progress_;
  QPushButton *pasteAll_, *pasteFirst_, *cancel_;
  QString toPaste_;
  std::vector<text::TextFind> finds_;
  int currentFind_ = -1;
  std::int64_t findFrom_ = 0;
  QTimer findTimer_;
  bool settingBar_ = false;
};

}  // namespace kw::desktop
