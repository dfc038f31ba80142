// The centre: panes in a tree of splits, and below them the strip of the sessions that do not fit.
#pragma once
#include <QJsonObject>
#include <QPointer>
#include <QWidget>
#include <vector>

#include "desktop/model/open_session.hpp"

class QSplitter;
class QVBoxLayout;

namespace kw::desktop {

class Pane;
class Strip;

class Stage : public QWidget {
  Q_OBJECT
 public:
  explicit Stage(QWidget* parent = nullptr);

  /// Shows a session in the focused or a free pane; what stood there goes to the strip.
  void show(OpenSession* session);
  /// Takes a session off the stage (it has ended or moved away).
  void remove(OpenSession* session);
  [[nodiscard]] const std::vector<OpenSession*>& sessions() const { return sessions_; }
  [[nodiscard]] OpenSession* sessionOf(Id endpoint) const;

  /// One, two or four panes, all of the same size.
  void arrange(int panes);
  [[nodiscard]] std::vector<Pane*> panes() const;
  [[nodiscard]] Pane* focusedPane() const { return focused_; }
  [[nodiscard]] OpenSession* focusedSession() const;
  [[nodiscard]] Strip* strip() const { return strip_; }
  void focusNextPane(int step);
  /// Splits a pane: `session` appears at the given edge. Edge 0 puts it into the pane itself.
  void drop(Pane* pane, OpenSession* session, int edge);
  void closePane(Pane* pane);

  /// The tree of splits with the ways in that its panes show, and the strip's.
  [[nodiscard]] QJsonObject remembered() const;
  /// Makes the remembered tree; `sessionFor` opens a way in (may return null).
  void restore(const QJsonObject& tree, const std::function<OpenSession*(Id)>& sessionFor);

  /// Whether the machine of a session has a console besides it.
  std::function<bool(OpenSession*)> hasConsole;

 signals:
  void focusChanged();
  void endWanted(kw::desktop::OpenSession* session);
  void consoleWanted(kw::desktop::OpenSession* session);
  void whyWanted(kw::desktop::OpenSession* session);
  void fullScreenWanted(kw::desktop::OpenSession* session);
  void releaseChordPressed(kw::desktop::OpenSession* session);
  void keysMenuWanted(kw::desktop::OpenSession* session, QPoint at);
  void screensMenuWanted(kw::desktop::OpenSession* session, QPoint at);
  void viewMenuWanted(kw::desktop::OpenSession* session, QPoint at);

 private:
  void adopt(OpenSession* session);
  Pane* makePane();
  void focusPane(Pane* pane);
  void refreshStrip();
  void clearTree();
  [[nodiscard]] bool onStage(const OpenSession* session) const;
  [[nodiscard]] QJsonObject rememberNode(QWidget* node) const;
  QWidget* restoreNode(const QJsonObject& node, const std::function<OpenSession*(Id)>& sessionFor);
  void setRoot(QWidget* root);

  QVBoxLayout* column_;
  QWidget* tree_;
  QWidget* root_ = nullptr;
  Strip* strip_;
  QPointer<Pane> focused_;
  std::vector<OpenSession*> sessions_;
};

}  // namespace kw::desktop
