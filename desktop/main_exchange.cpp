// What the window does with connection files: import, export, opening one once.
#include <QFile>
#include <QFileDialog>
#include <QFileInfo>
#include <QPushButton>
#include <QStackedWidget>
#include <QTableWidget>

#include "base/file.hpp"
#include "desktop/exchange_view.hpp"
#include "desktop/main_window.hpp"
#include "desktop/pane.hpp"
#include "desktop/stage.hpp"

namespace kw::desktop {

void MainWindow::importFiles(const QStringList& given) {
  QStringList files = given;
  if (files.isEmpty())
    files = QFileDialog::getOpenFileNames(this, tr("Connection files and tables"), {},
                                          tr("Known files (%1);;All files (*)").arg(exchangePatterns()));
  if (files.isEmpty()) return;
  if (exchange_ == nullptr) {
    exchange_ = new ExchangeView(desk_.records(), centre_);
    centre_->addWidget(exchange_);
    connect(exchange_, &ExchangeView::said, this, &MainWindow::say);
    connect(exchange_, &ExchangeView::closed, this, &MainWindow::showStage);
  }
  exchange_->show(files);
  centre_->setCurrentWidget(exchange_);
  exchange_->table()->setFocus();
}

void MainWindow::exportMachines() {
  const QString file =
      QFileDialog::getSaveFileName(this, tr("Export machines (without passwords)"), "machines.json",
                                   tr("Machines (%1)").arg(exchangePatterns()));
  if (file.isEmpty()) return;
  try {
    const std::string extension = lowered("." + QFileInfo(file).suffix().toStdString());
    for (const exchange::Kind& k : exchange::allKinds()) {
      if (extension != k.extension) continue;
      const std::string text = k.write(exchange::entriesOf(desk_.records().snapshot()));
      writeFileSafely(file.toStdString(), viewOf(text), 0600);
      say(tr("Saved %1, without passwords.").arg(file));
      return;
    }
    say(tr("The name's ending says the kind: one of %1.").arg(exchangePatterns()));
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::openFile(const QString& file) {
  try {
    const exchange::Read read = exchange::readFiles({file.toStdString()});
    if (read.entries.size() != 1 || read.entries[0].ways.empty()) return importFiles({file});
    OpenSession* session = desk_.openOnce(read.entries[0]);
    if (session == nullptr) return;
    connectSession(session);
    lastTime_->hide();
    showStage();
    stage_->show(session);
    say(tr("Opened from %1, once and without keeping it. Nobody vouches for what a file says: compare the "
           "address.")
            .arg(QFileInfo(file).fileName()));
    if (read.entries[0].deleteFile && QFile::remove(file))
      say(tr("%1 asked to be deleted after use, and was.").arg(QFileInfo(file).fileName()));
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

}  // namespace kw::desktop
