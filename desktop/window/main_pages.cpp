// The pages that take the stage's place: sheets, journal, trusted peers, what is brought in.
#include "desktop/window/main_window.hpp"

#include <QLineEdit>
#include <QStackedWidget>

#include "desktop/hosts/hosts.hpp"
#include "desktop/pages/import_view.hpp"
#include "desktop/pages/journal_view.hpp"
#include "desktop/pages/trust_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"

namespace kw::desktop {

Sheet* MainWindow::sheet() {
  if (sheet_ != nullptr) return sheet_;
  sheet_ = new Sheet(desk_.records(), centre_);
  centre_->addWidget(sheet_);
  sheet_->askHostForFirst = [this](Id machine, auto told) {
    desk_.hosts().firstPassword(machine, std::move(told));
  };
  connect(sheet_, &Sheet::closed, this, &MainWindow::showStage);
  connect(sheet_, &Sheet::openWanted, this, &MainWindow::openEndpoint);
  connect(sheet_, &Sheet::credentialWanted, this, &MainWindow::showCredentials);
  connect(sheet_, &Sheet::draftChanged, this, &MainWindow::refreshSide);
  connect(sheet_, &Sheet::folderKept, this, [this] { say(tr("Kept.")); });
  connect(sheet_, &Sheet::kept, this, [this](Id m) {
    roster_->select(m);
    say(tr("Kept."));
  });
  return sheet_;
}

void MainWindow::showTrusted() {
  if (trusted_ == nullptr) {
    trusted_ = new TrustView(desk_.records().store(), centre_);
    centre_->addWidget(trusted_);
    connect(trusted_, &TrustView::said, this, &MainWindow::say);
    connect(trusted_, &TrustView::closed, this, &MainWindow::showStage);
  }
  try {
    trusted_->refresh();
    centre_->setCurrentWidget(trusted_);
    trusted_->table()->setFocus();
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::showImport() {
  if (import_ == nullptr) {
    import_ = new ImportView(desk_.records(), centre_);
    centre_->addWidget(import_);
    connect(import_, &ImportView::said, this, &MainWindow::say);
    connect(import_, &ImportView::closed, this, &MainWindow::showStage);
  }
  import_->look();
  centre_->setCurrentWidget(import_);
  import_->table()->setFocus();
}

void MainWindow::showJournal() {
  if (journal_ == nullptr) {
    journal_ = new JournalView(centre_);
    centre_->addWidget(journal_);
    connect(journal_, &JournalView::logWanted, this, [this](const QString& file) { showLog(file, 0); });
    connect(journal_, &JournalView::closed, this, &MainWindow::showStage);
    connect(&desk_, &Desk::journalChanged, journal_, [this] {
      if (centre_->currentWidget() == journal_) refreshJournal();
    });
  }
  refreshJournal();
  centre_->setCurrentWidget(journal_);
  journal_->list()->setFocus();
}

void MainWindow::refreshJournal() {
  constexpr int kMostEntries = 2000;
  try {
    QSet<QString> open;
    for (const OpenSession* session : desk_.sessions()) open << QString::fromStdString(session->visit());
    journal_->showVisits(visitsOf(desk_.records().store().journal(kMostEntries)), open);
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::editMachine(Id machine, const QString& address) {
  sheet()->edit(machine, address);
  if (machine != 0) roster_->select(machine);
  centre_->setCurrentWidget(sheet());
  if (machine == 0)
    if (auto* name = sheet()->findChild<QLineEdit*>("machineName")) name->setFocus();
  refreshSide();
}

void MainWindow::editGroup(Id folder, Id parent) {
  sheet()->editFolder(folder, parent);
  centre_->setCurrentWidget(sheet());
  if (auto* name = sheet()->findChild<QLineEdit*>("machineName"); name != nullptr && folder == 0)
    name->setFocus();
  refreshSide();
}

}  // namespace kw::desktop
