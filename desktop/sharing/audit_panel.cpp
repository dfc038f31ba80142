#include "desktop/sharing/audit_panel.hpp"

#include <QDateTime>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QLocale>
#include <QTableWidget>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

namespace {

constexpr int kAfterTyping = 200;  ///< milliseconds

QString cell(const nlohmann::json& value) {
  return value.is_string() ? QString::fromStdString(value.get<std::string>())
                           : QString::fromStdString(value.dump());
}

QString field(const nlohmann::json& entry, const char* key) {
  const auto found = entry.find(key);
  return found == entry.end() ? QString() : cell(*found);
}

/// What has no column of its own: "look true · until …".
QString more(const nlohmann::json& entry) {
  QStringList out;
  for (const auto& [key, value] : entry.items())
    if (key != "when" && key != "who" && key != "from" && key != "what" && key != "machine" &&
        key != "number")
      out << QString::fromStdString(key) + " " + cell(value);
  return out.join(" · ");
}

QString localTime(const QString& utc) {
  const QDateTime time = QDateTime::fromString(utc, Qt::ISODate);
  return time.isValid() ? QLocale().toString(time.toLocalTime(), "yyyy-MM-dd HH:mm:ss") : utc;
}

}  // namespace

AuditPanel::AuditPanel(QWidget* parent) : QWidget(parent) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(8);
  auto* top = new QHBoxLayout;
  narrow_ = new QLineEdit(this);
  narrow_->setObjectName("auditNarrow");
  narrow_->setPlaceholderText(tr("Narrow: a person, a machine, an address, a word"));
  narrow_->setAccessibleName(tr("Narrow what happened"));
  narrow_->setClearButtonEnabled(true);
  chain_ = new QLabel(this);
  chain_->setObjectName("quiet");
  top->addWidget(narrow_, 1);
  top->addSpacing(12);
  top->addWidget(chain_);
  column->addLayout(top);
  none_ = new QLabel(tr("Nothing like that happened."), this);
  none_->setObjectName("quiet");
  none_->hide();
  column->addWidget(none_);
  table_ = plainTable({tr("When"), tr("Who"), tr("What"), tr("Machine"), tr("From"), tr("More")},
                      tr("What happened"), this);
  const int widths[] = {145, 85, 130, 115, 100};
  for (int c = 0; c < 5; ++c) table_->setColumnWidth(c, widths[c]);
  table_->horizontalHeader()->setStretchLastSection(true);
  column->addWidget(table_, 1);
  typed_.setSingleShot(true);
  typed_.setInterval(kAfterTyping);
  connect(narrow_, &QLineEdit::textChanged, &typed_, qOverload<>(&QTimer::start));
  connect(&typed_, &QTimer::timeout, this, &AuditPanel::wanted);
}

QString AuditPanel::narrow() const { return narrow_->text().trimmed(); }

void AuditPanel::show(const nlohmann::json& audit) {
  if (!audit.is_object() || !audit.contains("entries") || !audit["entries"].is_array()) return;
  const auto& entries = audit["entries"];
  const auto shownCount = static_cast<int>(entries.size());
  if (audit.contains("all")) showChain(audit, shownCount);
  fill(entries, shownCount);
}

void AuditPanel::showChain(const nlohmann::json& audit, int shownCount) {
  const qint64 all = audit.value("all", std::int64_t{0}), wrongAt = audit.value("wrongAt", std::int64_t{0});
  chain_->setText(wrongAt == 0 ? tr("%1 of %2 entries · the chain is whole").arg(shownCount).arg(all)
                               : tr("The chain breaks at entry %1: it was changed there").arg(wrongAt));
  chain_->setStyleSheet(wrongAt == 0 ? QString() : "color: " + scheme().brick.name());
}

void AuditPanel::fill(const nlohmann::json& entries, int shownCount) {
  table_->setRowCount(shownCount);
  for (int row = 0; row < shownCount; ++row) {
    const auto& e = entries[static_cast<std::size_t>(row)];
    const QString cells[] = {localTime(field(e, "when")), field(e, "who"),  field(e, "what"),
                             field(e, "machine"),         field(e, "from"), more(e)};
    for (int c = 0; c < 6; ++c) {
      auto* item = new QTableWidgetItem(cells[c]);
      item->setToolTip(cells[c]);
      table_->setItem(row, c, item);
    }
  }
  table_->setVisible(shownCount > 0);
  none_->setVisible(shownCount == 0);
}

}  // namespace kw::desktop
