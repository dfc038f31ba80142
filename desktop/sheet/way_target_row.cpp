#include "desktop/sheet/way_target_row.hpp"

#include <QHBoxLayout>
#include <QVBoxLayout>
#include <optional>

#include "base/error.hpp"
#include "record/address.hpp"
#include "record/catalogue.hpp"

namespace kw::desktop {

namespace {

constexpr int kIndent = 126;  ///< below the address, not below its name

std::optional<Address> addressIn(const QLineEdit* field) {
  try {
    return parseAddress(field->text().toStdString());
  } catch (const Error&) {  // still being typed
    return std::nullopt;
  }
}

}  // namespace

WayTargetRow::WayTargetRow(QLineEdit* address)
    : address_(address), choice_(new QComboBox), id_(new QLineEdit), hint_(new QLabel) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(kIndent, 0, 0, 4);
  column->setSpacing(4);
  auto* row = new QHBoxLayout;
  choice_->setObjectName("wayTarget");
  choice_->setAccessibleName(tr("What the address leads to"));
  id_->setObjectName("wayTargetId");
  row->addWidget(choice_);
  row->addWidget(id_, 1);
  hint_->setObjectName("quiet");
  hint_->setWordWrap(true);
  column->addLayout(row);
  column->addWidget(hint_);
  connect(choice_, &QComboBox::activated, this, [this](int which) {
    id_->setVisible(which == 1);
    which == 1 ? id_->setFocus() : id_->clear();
    write();
  });
  connect(id_, &QLineEdit::textEdited, this, &WayTargetRow::write);
  connect(address_, &QLineEdit::textChanged, this, &WayTargetRow::read);
  read();
}

void WayTargetRow::say(const char* hint) {
  hint_->setText(tr(hint));
  fitHint();
}

void WayTargetRow::fitHint() {
  const int height = hint_->heightForWidth(width() - kIndent);
  if (height > 0) hint_->setFixedHeight(height);
}

void WayTargetRow::read() {
  if (writing_) return;
  const auto a = addressIn(address_);
  const WayTarget* target = a ? findWayTarget(a->scheme) : nullptr;
  setVisible(target != nullptr);
  if (target == nullptr) return;
  if (choice_->count() == 0) choice_->addItems({tr(target->without), tr(target->with)});
  const auto named = a->options.find(target->option);
  const bool with = named != a->options.end();
  choice_->setCurrentIndex(with ? 1 : 0);
  id_->setVisible(with);
  id_->setPlaceholderText(tr(target->prompt));
  id_->setAccessibleName(tr(target->prompt));
  if (with) id_->setText(QString::fromStdString(named->second));
  say(with ? target->withHint : target->withoutHint);
}

/// The port follows the choice, unless somebody chose one of their own.
void WayTargetRow::write() {
  auto a = addressIn(address_);
  const WayTarget* target = a ? findWayTarget(a->scheme) : nullptr;
  if (target == nullptr) return;
  const bool with = choice_->currentIndex() == 1;
  const int plain = usualPort(a->scheme);
  if (with) {
    a->options[target->option] = id_->text().trimmed().toStdString();
    if (a->port == plain) a->port = target->port;
  } else {
    a->options.erase(target->option);
    if (a->port == target->port) a->port = plain;
  }
  say(with ? target->withHint : target->withoutHint);
  writing_ = true;
  address_->setText(QString::fromStdString(a->uri()));
  writing_ = false;
}

}  // namespace kw::desktop
