// What the window remembers from one start to the next.
#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QJsonArray>
#include <QJsonDocument>
#include <QLabel>
#include <QLocale>
#include <QMenu>
#include <QMessageBox>
#include <QPushButton>
#include <QScreen>
#include <QSplitter>
#include <QStackedWidget>
#include <QStandardPaths>
#include <QToolButton>
#include <QVBoxLayout>
#include "base/file.hpp"
#include "desktop/app/vault_guard.hpp"
#include "desktop/files/files_panel.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "picture/png.hpp"
#include "text/log_writer.hpp"

namespace kw::desktop {

void MainWindow::save() {
  QJsonObject state;
  state["geometry"] = QString::fromLatin1(saveGeometry().toBase64());
  state["split"] = QString::fromLatin1(split_->saveState().toBase64());
  state["side"] = side_->isVisible();
  state["scheme"] = static_cast<int>(schemeChoice());
  state["ownScheme"] = schemeChoice() == SchemeChoice::Own ? scheme().name : QString();
  if (sharing_ != nullptr) gateAddress_ = sharing_->address(), gateAccount_ = sharing_->account();
  state["gateAddress"] = gateAddress_;
  state["gateAccount"] = gateAccount_;
  state["spoutEdge"] = spoutEdge_;
  state["spoutShare"] = spoutShare_;
  state["groupBy"] = static_cast<int>(roster_->groupBy());
  state["open"] = stage_->sessions().empty() ? lastTimeOpen_ : stage_->remembered();
  state["reach"] = desk_.reach().remembered();
  state["lockMinutes"] =
      static_cast<int>(std::chrono::duration_cast<std::chrono::minutes>(guard_->idle()).count());
  try {
    std::filesystem::create_directories(stateFolder());
    writeFileSafely(stateFolder() / "window.json", viewOf(QJsonDocument(state).toJson().toStdString()));
  } catch (const std::exception&) {
    // A full disk must not keep the program from ending; only the arrangement of the window is lost.
  }
}

/// The free area of a display, without panels and without what a window manager draws around a window, whose
/// size nobody knows before it is there.
void MainWindow::fitToScreen() {
  const QScreen* s = screen() != nullptr ? screen() : QGuiApplication::primaryScreen();
  if (s == nullptr || isMaximized() || isFullScreen()) return;
  constexpr int kFrame = 8, kTitle = 40;
  const QRect free = s->availableGeometry().adjusted(kFrame, kTitle, -kFrame, -kFrame);
  if (width() > free.width() || height() > free.height())
    resize(std::min(width(), free.width()), std::min(height(), free.height()));
  const QRect now(pos(), size());
  if (!free.contains(now))
    move(std::clamp(now.x(), free.left(), std::max(free.left(), free.right() - width() + 1)),
         std::clamp(now.y(), free.top(), std::max(free.top(), free.bottom() - height() + 1)));
}

void MainWindow::restore() {
  QJsonObject state;
  try {
    state =
        QJsonDocument::fromJson(QByteArray::fromStdString(textOf(readFile(stateFolder() / "window.json"))))
            .object();
  } catch (const Error&) {
    return;  // first start
  }
  restoreGeometry(QByteArray::fromBase64(state["geometry"].toString().toLatin1()));
  fitToScreen();
  split_->restoreState(QByteArray::fromBase64(state["split"].toString().toLatin1()));
  side_->setVisible(state["side"].toBool(true));
  gateAddress_ = state["gateAddress"].toString();
  gateAccount_ = state["gateAccount"].toString();
  spoutEdge_ = state["spoutEdge"].toInt(1);
  spoutShare_ = state["spoutShare"].toDouble(0.3);
  const int by = state["groupBy"].toInt();
  if (by > 0 && by < groupButton_->menu()->actions().size())
    groupButton_->menu()->actions().at(by)->trigger();
  desk_.reach().restore(state["reach"].toObject());
  guard_->setIdle(std::chrono::minutes(std::clamp(state["lockMinutes"].toInt(), 0, 24 * 60)));
  lastTimeOpen_ = state["open"].toObject();
}

namespace {
int countEndpoints(const QJsonValue& node) {
  int count = node["endpoint"].toDouble() > 0 ? 1 : 0;
  for (const auto& child : node["children"].toArray()) count += countEndpoints(child);
  return count;
}
}  // namespace

void MainWindow::offerLastTime() {
  const int count =
      countEndpoints(lastTimeOpen_["tree"]) + static_cast<int>(lastTimeOpen_["strip"].toArray().size());
  lastTime_->setText(count == 1 ? tr("Open the screen from last time")
                                : tr("Open the %1 screens from last time").arg(count));
  lastTime_->setVisible(count > 0);
}

void MainWindow::reopenLastTime() {
  lastTime_->hide();
  stage_->restore(lastTimeOpen_, [this](Id endpoint) {
    const bool fresh = desk_.sessionOf(endpoint) == nullptr;
    OpenSession* s = desk_.open(endpoint);
    if (s != nullptr && fresh) connectSession(s);
    return s;
  });
}

}  // namespace kw::desktop
