#include "desktop/pages/colours_view.hpp"

#include <QColorDialog>
#include <QCoreApplication>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QPushButton>
#include <QToolButton>

#include "base/error.hpp"
#include "desktop/text/text_painter.hpp"
#include "text/terminal.hpp"

namespace kw::desktop {

namespace {

/// Text with every colour in it, as a machine of the demo garden would say it.
std::string sampleText() {
  std::string s =
      "mist-bench login: \x1b[1mduty\x1b[0m\r\n"
      "\x1b[32mduty@mist-bench\x1b[0m:\x1b[34m/var/log\x1b[0m$ tail mist.log\r\n"
      "08:14:02 valve 3 \x1b[32mopen\x1b[0m   pressure 2.1 bar\r\n"
      "08:14:40 valve 4 \x1b[33mslow\x1b[0m   answered after \x1b[33m900 ms\x1b[0m\r\n"
      "08:15:11 pump \x1b[1;31mno answer\x1b[0m   \x1b[36mnext try in 5 s\x1b[0m  \x1b[35m#14\x1b[0m\r\n\r\n";
  for (const int base : {30, 90}) {
    for (int i = 0; i < 8; ++i) s += "\x1b[" + std::to_string(base + i) + "m colour " + "\x1b[0m";
    s += "\r\n";
    for (int i = 0; i < 8; ++i) s += "\x1b[" + std::to_string(base + 10 + i) + "m        \x1b[0m";
    s += "\r\n";
  }
  return s + "chosen and found text, \x1b[4mlinks\x1b[0m, the cursor: ";
}

}  // namespace

class ColoursPreview : public QWidget {
 public:
  explicit ColoursPreview(QWidget* parent) : QWidget(parent), terminal_(11, 68) {
    setMinimumHeight(230);
    setAccessibleName(tr("Preview"));
    terminal_.echo(sampleText());
    painter_.setFont({}, 10);
  }
  void show(const TextScheme& s) {
    text_ = true;
    painter_.setScheme(s);
    update();
  }
  void show(const Scheme& s) {
    text_ = false;
    scheme_ = s;
    update();
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    text_ ? paintText(p) : paintWindow(p);
  }

 private:
  void paintText(QPainter& p) {
    p.fillRect(rect(), painter_.scheme().ground);
    const text::TextView v = terminal_.screen();
    const QSize cell = painter_.cell();
    for (std::size_t r = 0; r < v.rows.size(); ++r) {
      TextPainter::Marks marks;
      if (r == 10) marks.selectTo = 6, marks.finds = {{11, 16}};
      p.save();
      p.translate(8, 6 + static_cast<int>(r) * cell.height());
      painter_.paintRow(p, v.rows[r], v.columns, terminal_, false, marks);
      p.restore();
    }
    painter_.paintCursor(
        p,
        QRect(8 + v.cursorColumn * cell.width(),
              6 + static_cast<int>(v.cursorRow - v.screenTop) * cell.height(), cell.width(), cell.height()),
        text::CursorShape::Block, true);
  }

  /// A small window: a panel with two rows, a field, buttons and the three states.
  void paintWindow(QPainter& p) {
    const Scheme& s = scheme_;
    p.fillRect(rect(), s.ground);
    const QRect panel(12, 12, 220, height() - 24);
    p.fillRect(panel, s.panel);
    p.fillRect(QRect(12, 52, 220, 46), s.raised);
    const auto say = [&](int x, int y, const QColor& c, const QString& words, QFont font) {
      p.setFont(font);
      p.setPen(c);
      p.drawText(x, y, words);
    };
    say(24, 36, s.quiet, tr("Glasshouses"), windowFont(9));
    say(36, 71, s.text, "fern-desk", windowFont(10, QFont::DemiBold));
    say(36, 88, s.quiet, tr("answers in 4 ms"), windowFont(8.5));
    p.fillRect(QRect(12, 52, 3, 46), s.copper);
    say(36, 121, s.text, "orchid-kiosk", windowFont(10, QFont::DemiBold));
    say(36, 138, s.brick, tr("refused"), windowFont(8.5));
    const QRect field(250, 16, std::max(120, width() - 270), 34);
    p.setPen(s.copper);
    p.setBrush(s.field);
    p.drawRoundedRect(field, 6, 6);
    say(262, 38, s.text, tr("Go to a machine or an address"), windowFont(10));
    int y = 84;
    const std::pair<QColor, QString> states[] = {
        {s.teal, tr("good, sealed")}, {s.amber, tr("waiting, plain")}, {s.brick, tr("broken")}};
    for (const auto& [c, words] : states) {
      p.setPen(Qt::NoPen);
      p.setBrush(c);
      p.drawEllipse(QRect(254, y - 10, 11, 11));
      say(276, y, c, words, windowFont(10));
      y += 26;
    }
    p.setPen(s.line);
    p.drawLine(250, y - 8, width() - 20, y - 8);
    p.setPen(s.copper);
    p.setBrush(Qt::NoBrush);
    p.drawRoundedRect(QRect(250, y + 4, 110, 30), 5, 5);
    say(278, y + 24, s.copper, tr("Connect"), windowFont(10));
    p.setPen(s.line);
    p.drawRoundedRect(QRect(372, y + 4, 110, 30), 5, 5);
    say(402, y + 24, s.text, tr("Cancel"), windowFont(10));
  }

  bool text_ = true;
  TextPainter painter_;
  text::Terminal terminal_;
  Scheme scheme_;
};

ColoursView::ColoursView(QWidget* parent) : QWidget(parent) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Colours"), this);
  heading->setObjectName("heading");
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(heading, 1);
  top->addWidget(close);
  column->addLayout(top);
  auto* row = new QHBoxLayout;
  row->setSpacing(18);
  column->addLayout(row, 1);

  auto* left = new QVBoxLayout;
  left->setSpacing(8);
  list_ = new QListWidget(this);
  list_->setFixedWidth(190);
  list_->setFrameShape(QFrame::NoFrame);
  list_->setStyleSheet("QListWidget::item{padding:3px 4px;}");
  list_->setAccessibleName(tr("Colour schemes"));
  left->addWidget(list_, 1);
  copy_ = new QPushButton(tr("Own one from this"), this);
  copy_->setObjectName("copyScheme");
  copy_->setProperty("own", true);
  remove_ = new QPushButton(tr("Remove"), this);
  remove_->setObjectName("removeScheme");
  back_ = new QPushButton(tr("Put back"), this);
  back_->hide();
  for (QPushButton* b : {copy_, remove_, back_}) left->addWidget(b);
  row->addLayout(left);

  auto* right = new QVBoxLayout;
  right->setSpacing(10);
  auto* line = new QHBoxLayout;
  name_ = new QLineEdit(this);
  name_->setObjectName("schemeName");
  name_->setAccessibleName(tr("Name of the scheme"));
  name_->setMaximumWidth(260);
  use_ = new QPushButton(tr("Use it for the window"), this);
  line->addWidget(name_);
  line->addWidget(use_);
  line->addStretch(1);
  right->addLayout(line);
  fields_ = new QWidget(this);
  grid_ = new QGridLayout(fields_);
  grid_->setContentsMargins(0, 0, 0, 0);
  grid_->setHorizontalSpacing(8);
  grid_->setVerticalSpacing(4);
  right->addWidget(fields_, 0, Qt::AlignTop);
  remark_ = new QLabel(this);
  remark_->setWordWrap(true);
  right->addWidget(remark_);
  preview_ = new ColoursPreview(this);
  right->addWidget(preview_);
  right->addStretch(1);
  row->addLayout(right, 1);

  connect(list_, &QListWidget::currentRowChanged, this, &ColoursView::show);
  connect(name_, &QLineEdit::editingFinished, this, [this] { rename(name_->text().trimmed()); });
  connect(copy_, &QPushButton::clicked, this, &ColoursView::copyChosen);
  connect(remove_, &QPushButton::clicked, this, &ColoursView::removeChosen);
  connect(back_, &QPushButton::clicked, this, &ColoursView::putBack);
  connect(use_, &QPushButton::clicked, this, [this] { emit windowSchemeWanted(chosen_.name()); });
  connect(close, &QPushButton::clicked, this, &ColoursView::closed);
  refreshList();
  choose(textSchemes().front().name, false);
}

void ColoursView::refreshList() {
  const QSignalBlocker quiet(list_);
  list_->clear();
  rows_.clear();
  const auto heading = [this](const QString& words) {
    auto* item = new QListWidgetItem(words, list_);
    item->setFlags(Qt::NoItemFlags);
    rows_.emplace_back();
  };
  const auto scheme = [this](Chosen c) {
    new QListWidgetItem("   " + c.name() + (c.own >= 0 ? tr("  · own") : QString()), list_);
    rows_.push_back(std::move(c));
  };
  const OwnColours& own = OwnColours::all();
  heading(tr("Text"));
  for (const TextScheme& s : textSchemes()) scheme({false, -1, s, {}});
  for (std::size_t i = 0; i < own.text.size(); ++i) scheme({false, static_cast<int>(i), own.text[i], {}});
  heading(tr("Window"));
  for (const Scheme& s : {eveningScheme(), morningScheme()}) scheme({true, -1, {}, s});
  for (std::size_t i = 0; i < own.window.size(); ++i) scheme({true, static_cast<int>(i), {}, own.window[i]});
}

void ColoursView::choose(const QString& name, bool window) {
  for (std::size_t i = 0; i < rows_.size(); ++i)
    if (rows_[i].name() == name && rows_[i].window == window) {
      const QSignalBlocker quiet(list_);
      list_->setCurrentRow(static_cast<int>(i));
      return show(static_cast<int>(i));
    }
}

void ColoursView::show(int row) {
  if (row < 0 || rows_[static_cast<std::size_t>(row)].name().isEmpty()) return;
  chosen_ = rows_[static_cast<std::size_t>(row)];
  const bool own = chosen_.own >= 0;
  name_->setText(chosen_.name());
  name_->setReadOnly(!own);
  name_->setToolTip(own ? QString() : tr("Shipped schemes stay as they are; make an own one from this."));
  remove_->setEnabled(own);
  remove_->setToolTip(own ? QString() : tr("Shipped schemes cannot be removed."));
  use_->setVisible(chosen_.window);
  showFields();
}

template <typename S>
void ColoursView::addFields(S& scheme, const std::vector<ColourPart<S>>& parts) {
  const bool own = chosen_.own >= 0;
  constexpr int kAcross = 2;
  int i = 0;
  for (const auto& part : parts) {
    // The sixteen named ones begin a row, so that each stands beside its bright one.
    if (QLatin1String(part.name) == "black" && i % kAcross != 0) ++i;
    const QString name = QCoreApplication::translate("Colours", part.name);
    auto* label = new QLabel(name, fields_);
    label->setObjectName("quiet");
    auto* swatch = new QToolButton(fields_);
    swatch->setFixedSize(30, 22);
    swatch->setAccessibleName(tr("Choose the colour: %1").arg(name));
    auto* value = new QLineEdit(part.of(scheme).name(), fields_);
    value->setObjectName("colour:" + QString::fromLatin1(part.name));
    value->setAccessibleName(name);
    value->setFont(monoFont(8.5));
    value->setFixedWidth(84);
    value->setStyleSheet("QLineEdit{padding:2px 7px;}");
    label->setMinimumWidth(100);
    value->setReadOnly(!own);
    swatch->setEnabled(own);
    const auto paint = [swatch](const QColor& c) {
      swatch->setStyleSheet(
          QString("QToolButton{background:%1;border:1px solid %2;border-radius:4px;}"
                  "QToolButton:focus{border:2px solid %3;}")
              .arg(c.name(), kw::desktop::scheme().line.name(), kw::desktop::scheme().copper.name()));
    };
    paint(part.of(scheme));
    connect(value, &QLineEdit::textEdited, this, [this, &scheme, part, paint](const QString& words) {
      const QColor c(words.trimmed());
      if (!c.isValid() || words.trimmed().size() < 4) return;
      part.of(scheme) = c;
      paint(c);
      keep();
    });
    connect(swatch, &QToolButton::clicked, this, [this, &scheme, part, paint, value, name] {
      const QColor c = QColorDialog::getColor(part.of(scheme), this, name, QColorDialog::DontUseNativeDialog);
      if (!c.isValid()) return;
      part.of(scheme) = c;
      value->setText(c.name());
      paint(c);
      keep();
    });
    const int r = i / kAcross, c = i % kAcross * 4;
    grid_->addWidget(label, r, c);
    grid_->addWidget(swatch, r, c + 1);
    grid_->addWidget(value, r, c + 2);
    grid_->setColumnMinimumWidth(c + 3, 22);
    ++i;
  }
  grid_->setColumnStretch(kAcross * 4, 1);
}

void ColoursView::showFields() {
  while (QLayoutItem* item = grid_->takeAt(0)) {
    item->widget()->hide();
    item->widget()->setObjectName({});  // gone for whoever looks for it, though deleted only later
    item->widget()->deleteLater();
    delete item;
  }
  if (chosen_.window)
    addFields(chosen_.scheme, partsOfWindow());
  else
    addFields(chosen_.text, partsOfText());
  showRemark();
}

void ColoursView::showRemark() {
  chosen_.window ? preview_->show(chosen_.scheme) : preview_->show(chosen_.text);
  QStringList weak;
  const auto look = [&weak](const QString& what, const QColor& a, const QColor& b) {
    if (const double c = contrast(a, b); c < 4.5) weak += tr("%1 %2:1").arg(what).arg(c, 0, 'f', 1);
  };
  if (chosen_.window) {
    const Scheme& s = chosen_.scheme;
    look(tr("text on ground"), s.text, s.ground);
    look(tr("text in fields"), s.text, s.field);
    look(tr("quiet text on panels"), s.quiet, s.panel);
    look(tr("focus on ground"), s.copper, s.ground);
    look(tr("broken on panels"), s.brick, s.panel);
  } else {
    look(tr("text on ground"), chosen_.text.text, chosen_.text.ground);
    look(tr("text on what is chosen"), chosen_.text.text, chosen_.text.selection);
  }
  remark_->setText(weak.isEmpty() ? tr("Easy to read: contrast is 4.5:1 or more where it matters.")
                                  : tr("Hard to read, below 4.5:1: %1").arg(weak.join(", ")));
  remark_->setObjectName(weak.isEmpty() ? "quiet" : "bad");
  remark_->setStyleSheet(QString("color:%1;").arg((weak.isEmpty() ? scheme().quiet : scheme().brick).name()));
}

void ColoursView::keep() {
  if (chosen_.own < 0) return;
  OwnColours& own = OwnColours::all();
  const auto i = static_cast<std::size_t>(chosen_.own);
  if (chosen_.window)
    own.window[i] = chosen_.scheme;
  else
    own.text[i] = chosen_.text;
  try {
    own.save();
  } catch (const std::exception& e) {
    emit said(tr("The colours could not be kept: %1").arg(QString::fromUtf8(e.what())));
  }
  const int row = list_->currentRow();
  refreshList();
  const QSignalBlocker quiet(list_);
  list_->setCurrentRow(row);
  showRemark();
  emit changed();
}

void ColoursView::rename(const QString& name) {
  if (chosen_.own < 0 || name.isEmpty() || name == chosen_.name()) return;
  const QString free = OwnColours::all().freeName(name.left(60));
  (chosen_.window ? chosen_.scheme.name : chosen_.text.name) = free;
  name_->setText(free);
  keep();
}

void ColoursView::copyChosen() {
  OwnColours& own = OwnColours::all();
  const QString name = own.freeName(tr("My %1").arg(chosen_.name()));
  Chosen fresh = chosen_;
  (fresh.window ? fresh.scheme.name : fresh.text.name) = name;
  fresh.own = static_cast<int>(fresh.window ? own.window.size() : own.text.size());
  if (fresh.window)
    own.window.push_back(fresh.scheme);
  else
    own.text.push_back(fresh.text);
  chosen_ = fresh;
  keep();
  choose(name, fresh.window);
  name_->setFocus();
  name_->selectAll();
}

void ColoursView::removeChosen() {
  if (chosen_.own < 0) return;
  OwnColours& own = OwnColours::all();
  removed_ = chosen_;
  if (chosen_.window)
    own.window.erase(own.window.begin() + chosen_.own);
  else
    own.text.erase(own.text.begin() + chosen_.own);
  const bool window = chosen_.window;
  chosen_.own = -1;
  own.save();
  refreshList();
  choose(window ? eveningScheme().name : textSchemes().front().name, window);
  back_->setText(tr("Put “%1” back").arg(removed_->name()));
  back_->show();
  emit changed();
}

void ColoursView::putBack() {
  if (!removed_) return;
  OwnColours& own = OwnColours::all();
  chosen_ = *std::exchange(removed_, std::nullopt);
  chosen_.own = static_cast<int>(chosen_.window ? own.window.size() : own.text.size());
  if (chosen_.window)
    own.window.push_back(chosen_.scheme);
  else
    own.text.push_back(chosen_.text);
  back_->hide();
  const QString name = chosen_.name();
  const bool window = chosen_.window;
  keep();
  choose(name, window);
}

}  // namespace kw::desktop
