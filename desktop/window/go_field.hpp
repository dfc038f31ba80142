// The Go field: part of a name, an address or an action; the best answer is first, and its row says what
// Enter will do.
#pragma once
#include <QFrame>
#include <QLineEdit>
#include <QPointer>
#include <QThreadPool>
#include <QTimer>
#include <functional>
#include <vector>

#include "record/model.hpp"

class QAction;

namespace kw::desktop {

struct GoAnswer {
  enum class Kind { OpenEndpoint, OpenAddress, Action, Sheet, Log } kind = Kind::OpenAddress;
  QString title;  ///< "mist-bench"
  QString does;   ///< "open screen · vnc"
  bool possible = true;
  Id id = 0;  ///< endpoint or machine
  QString address;
  QPointer<QAction> action;
  int line = 0;  ///< of a log, whose file is in `address`
};

class GoPopup;

class GoField : public QLineEdit {
  Q_OBJECT
 public:
  explicit GoField(QWidget* parent = nullptr);
  void setSnapshot(std::shared_ptr<const Snapshot> snapshot);
  /// Looks for text in past logs, on a thread of its own, once typing rests; asked only for three letters and
  /// more.
  std::function<std::vector<GoAnswer>(const QString& text, int most)> searchLogs;
  void setActions(const std::vector<QAction*>& actions) { actions_ = actions; }
  /// What the text means, best first, at most `most`; without what past logs have.
  [[nodiscard]] std::vector<GoAnswer> answers(const QString& text, int most = 9) const;
  [[nodiscard]] QWidget* popup() const;
  /// What the list below the field shows now.
  [[nodiscard]] const std::vector<GoAnswer>& shown() const { return current_; }

 signals:
  void chosen(const kw::desktop::GoAnswer& answer);

 protected:
  void keyPressEvent(QKeyEvent* event) override;
  void focusInEvent(QFocusEvent* event) override;
  void focusOutEvent(QFocusEvent* event) override;
  void paintEvent(QPaintEvent* event) override;

 private:
  friend class GoPopup;
  void refresh();
  /// Asks the logs for what is typed now; what they have comes below the other answers.
  void askLogs();
  void choose(int index);
  void closePopup();

  std::shared_ptr<const Snapshot> snapshot_;
  std::vector<std::pair<std::string, Id>> names_;  ///< lower case, by name
  std::vector<QAction*> actions_;
  std::vector<GoAnswer> current_;
  GoPopup* popup_ = nullptr;
  QTimer typed_;
  quint64 asked_ = 0;  ///< what was asked before is of no use any more
  QThreadPool reader_;
};

}  // namespace kw::desktop
