#include "desktop/files/clip_fetch.hpp"

#include <QFile>
#include <QLabel>
#include <QLocale>
#include <QProgressBar>
#include <QPushButton>
#include <QVBoxLayout>

#include "base/error.hpp"
#include "base/runtime.hpp"

namespace kw::desktop {

namespace {
constexpr int kSteps = 1000;
}  // namespace

ClipFetch::ClipFetch(const Executor& strand, std::shared_ptr<Clip> clip, const QString& machine,
                     const QString& folder, QWidget* parent)
    : QWidget(parent, Qt::Window), mailbox_(std::make_shared<Mailbox<ClipFetch>>(this)), machine_(machine) {
  setAttribute(Qt::WA_DeleteOnClose);
  setWindowTitle(tr("Files from %1").arg(machine));
  auto* column = new QVBoxLayout(this);
  what_ = new QLabel(tr("Asking %1 what was copied…").arg(machine), this);
  what_->setTextFormat(Qt::PlainText);
  what_->setMinimumWidth(380);
  bar_ = new QProgressBar(this);
  bar_->setRange(0, 0);
  auto* stop = new QPushButton(tr("Stop"), this);
  stop->setObjectName("stopFetching");
  column->addWidget(what_);
  column->addWidget(bar_);
  column->addWidget(stop, 0, Qt::AlignRight);
  connect(stop, &QPushButton::clicked, this, &QWidget::close);
  tick_.setInterval(100);
  connect(&tick_, &QTimer::timeout, this, [this] { show(*saving_); });
  tick_.start();
  const auto saved = std::make_shared<QStringList>();
  const std::filesystem::path into = QFile::encodeName(folder).toStdString();
  spawn(
      strand,
      [clip = std::move(clip), into, saving = saving_, saved]() -> Task<void> {
        const auto files = co_await saveClipFiles(clip, into, saving);
        for (const auto& f : files) *saved << QFile::decodeName(f.c_str());
      },
      [mailbox = mailbox_, saved](std::exception_ptr failure) {
        const QString why = failure ? QString::fromStdString(messageOf(failure)) : QString();
        mailbox->put([saved, why](ClipFetch& f) { f.over(*saved, why); });
      });
  QWidget::show();
}

ClipFetch::~ClipFetch() {
  saving_->stop = true;
  mailbox_->close();
}

void ClipFetch::show(const ClipSaving& saving) {
  if (saving.files == 0) return;
  const QLocale locale;
  what_->setText(tr("File %1 of %2 · %3 of %4")
                     .arg(saving.file.load())
                     .arg(saving.files.load())
                     .arg(locale.formattedDataSize(static_cast<qint64>(saving.done.load())),
                          locale.formattedDataSize(static_cast<qint64>(saving.total.load()))));
  if (saving.total == 0) return;
  bar_->setRange(0, kSteps);
  bar_->setValue(static_cast<int>(std::min<double>(
      kSteps, static_cast<double>(saving.done) * kSteps / static_cast<double>(saving.total))));
}

void ClipFetch::over(const QStringList& saved, const QString& failure) {
  failure.isEmpty() ? emit fetched(saved) : emit failed(tr("Files from %1: %2").arg(machine_, failure));
  close();
}

}  // namespace kw::desktop
