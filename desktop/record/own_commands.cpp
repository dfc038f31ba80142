#include "desktop/record/own_commands.hpp"

#include <QMessageBox>
#include <QProcess>

#include "base/error.hpp"
#include "record/agreed.hpp"

namespace kw::desktop {

OwnCommands::OwnCommands(QWidget* window) : QObject(window), window_(window) {
  ask = [this](const QString& command) {
    QMessageBox box(
        QMessageBox::Question, tr("Run a command of the records"),
        tr("The records name a command that was not run on this desk before:\n\n%1\n\nIt runs as you, "
           "without a shell. Whoever may edit the records may have written it.")
            .arg(command),
        QMessageBox::Cancel, window_);
    auto* run = box.addButton(tr("Run it, now and later"), QMessageBox::AcceptRole);
    box.setDefaultButton(QMessageBox::Cancel);
    box.setTextFormat(Qt::PlainText);
    box.exec();
    return box.clickedButton() == run;
  };
}

bool OwnCommands::agreed(const std::string& line) {
  if (isAgreed(line)) return true;
  if (!ask(QString::fromStdString(line))) return false;
  agreeTo(line);
  return true;
}

void OwnCommands::run(const std::string& line, const Placeholders& values,
                      std::function<void(const QString&)> done) {
  try {
    const std::vector<std::string> words = wordsWith(line, values);
    if (!agreed(line)) return done(tr("It was not run."));
    auto* process = new QProcess(this);
    QStringList rest;
    for (std::size_t i = 1; i < words.size(); ++i) rest << QString::fromStdString(words[i]);
    const QString program = QString::fromStdString(words[0]);
    process->setProcessChannelMode(QProcess::MergedChannels);
    connect(process, &QProcess::errorOccurred, this, [process, program, done](QProcess::ProcessError error) {
      if (error != QProcess::FailedToStart) return;
      process->deleteLater();
      done(tr("%1 cannot be started: %2").arg(program, process->errorString()));
    });
    connect(
        process, &QProcess::finished, this, [process, program, done](int code, QProcess::ExitStatus status) {
          process->deleteLater();
          if (status == QProcess::NormalExit && code == 0) return done({});
          const QString said = QString::fromUtf8(process->readAll()).trimmed().section('\n', -1).left(200);
          done(status == QProcess::CrashExit ? tr("%1 crashed").arg(program)
               : said.isEmpty()              ? tr("%1 ended with code %2").arg(program).arg(code)
                                : tr("%1 ended with code %2: %3").arg(program).arg(code).arg(said));
        });
    process->start(program, rest);
  } catch (const Error& e) {
    done(QString::fromUtf8(e.what()));
  }
}

}  // namespace kw::desktop
