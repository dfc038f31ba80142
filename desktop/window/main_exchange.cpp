// What the window does with connection files: import, export, opening one once.
#include <QApplication>
#include <QClipboard>
#include <QFile>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QPushButton>
#include <QStackedWidget>
#include <QTableWidget>

#include "base/file.hpp"
#include "credential/sealed_file.hpp"
#include "desktop/pages/exchange_view.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"

namespace kw::desktop {

void MainWindow::importFiles(const QStringList& given) {
  QStringList files = given;
  if (files.isEmpty())
    files = QFileDialog::getOpenFileNames(this, tr("Connection files and tables"), {},
                                          tr("Known files (%1);;All files (*)").arg(exchangePatterns()));
  if (files.isEmpty()) return;
  showExchange();
  exchange_->show(files);
}

void MainWindow::showExchange() {
  if (exchange_ == nullptr) {
    exchange_ = new ExchangeView(desk_.records(), centre_);
    centre_->addWidget(exchange_);
    connect(exchange_, &ExchangeView::said, this, &MainWindow::say);
    connect(exchange_, &ExchangeView::closed, this, &MainWindow::showStage);
  }
  centre_->setCurrentWidget(exchange_);
  exchange_->table()->setFocus();
}

/// Rows of a spreadsheet on the clipboard become machines, after the same preview as files.
void MainWindow::pasteMachines() {
  const QString text = QApplication::clipboard()->text();
  if (text.trimmed().isEmpty()) return say(tr("There is no text on the clipboard."));
  showExchange();
  exchange_->showCells(text);
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
      bool given = false;
      const QString passphrase = QInputDialog::getText(
          this, tr("Export machines"), tr("A passphrase seals the file (empty: it stays readable):"),
          QLineEdit::Password, {}, &given);
      if (!given) return;
      std::string text = k.write(exchange::entriesOf(desk_.records().snapshot()));
      if (!passphrase.isEmpty()) text = sealedText(text, passphrase.toStdString());
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
