#include "desktop/sharing/look_window.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/sharing/json_fields.hpp"

namespace kw::desktop {

namespace {

constexpr int kLookAgain = 300;  // milliseconds
constexpr int kMargin = 8;
constexpr double kLargestText = 1.5;

}  // namespace

/// The picture or the text, as large as fits.
class LookWindow::Face : public QWidget {
 public:
  explicit Face(LookWindow* window) : QWidget(window), window_(window) {
    painter_.setFont({}, 10);
    painter_.setScheme(textSchemes().front());
    setAccessibleName(tr("What the visitor sees"));
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter p(this);
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    if (window_->terminal_) return paintText(p);
    p.fillRect(rect(), scheme().field);
    if (window_->picture_.isNull()) {
      p.setPen(scheme().quiet);
      p.drawText(rect(), Qt::AlignCenter, tr("Nothing is shown yet."));
      return;
    }
    const QSize size = window_->picture_.size()
                           .scaled(rect().size(), Qt::KeepAspectRatio)
                           .boundedTo(window_->picture_.size());
    QRect at(QPoint(), size);
    at.moveCenter(rect().center());
    p.drawImage(at, window_->picture_);
  }

 private:
  void paintText(QPainter& p) const {
    p.fillRect(rect(), painter_.scheme().ground);
    const text::TextView view = window_->terminal_->screen();
    const QSize cell = painter_.cell();
    const double across = (width() - 2.0 * kMargin) / (std::max(1, view.columns) * cell.width());
    const double down = (height() - 2.0 * kMargin) / (std::max(1, view.screenRows) * cell.height());
    const double scale = std::min({across, down, kLargestText});
    if (scale <= 0) return;
    p.translate(kMargin, kMargin);
    p.scale(scale, scale);
    for (const text::Row& row : view.rows) {
      painter_.paintRow(p, row, view.columns, *window_->terminal_, view.reverse, {});
      p.translate(0, cell.height());
    }
    if (!view.cursorVisible) return;
    p.translate(0, -cell.height() * static_cast<int>(view.rows.size()));
    const QPoint at(view.cursorColumn * cell.width(),
                    static_cast<int>(view.cursorRow - view.firstRow) * cell.height());
    painter_.paintCursor(p, QRect(at, cell), view.cursorShape, true);
  }
  LookWindow* window_;
  TextPainter painter_;
};

LookWindow::LookWindow(VisitPlace place, const QString& what, const QString& who, QWidget* parent)
    : QWidget(parent, Qt::Window), place_(place), who_(who) {
  setAttribute(Qt::WA_DeleteOnClose);
  setObjectName("lookWindow");
  setWindowTitle(tr("%1, as %2 sees it").arg(what, who));
  setWindowIcon(lineIcon("view", scheme().copper));
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  auto* top = new QHBoxLayout;
  top->setContentsMargins(12, 8, 8, 8);
  top->setSpacing(8);
  auto* title = new QLabel(what, this);
  title->setObjectName("heading");
  state_ = new QLabel(this);
  state_->setObjectName("lookState");
  auto* write = new QPushButton(tr("Write…"), this);
  auto* end = new QPushButton(tr("End this visit"), this);
  top->addWidget(title);
  top->addSpacing(8);
  top->addWidget(state_, 1);
  top->addWidget(write);
  top->addWidget(end);
  column->addLayout(top);
  face_ = new Face(this);
  column->addWidget(face_, 1);
  connect(write, &QPushButton::clicked, this, &LookWindow::writeWanted);
  connect(end, &QPushButton::clicked, this, &LookWindow::endWanted);
  again_.setSingleShot(true);
  again_.setInterval(kLookAgain);
  connect(&again_, &QTimer::timeout, this, [this] { emit wanted(have_); });
  state_->setText(tr("Looking in…"));
  resize(960, 680);
  setFocusPolicy(Qt::StrongFocus);
}

void LookWindow::keyPressEvent(QKeyEvent* event) {
  if (event->key() == Qt::Key_Escape) return void(close());
  QWidget::keyPressEvent(event);
}

void LookWindow::connected(bool is) {
  if (over_) return;
  if (!is) {
    again_.stop();
    state_->setText(tr("The gateway does not answer."));
  } else if (!again_.isActive()) {
    again_.start();
  }
}

void LookWindow::take(const nlohmann::json& seen) {
  if (over_ || VisitPlace{whole(seen, "way"), whole(seen, "visit")} != place_) return;
  if (yes(seen, "over")) {
    over_ = true;
    again_.stop();
    state_->setText(tr("This visit is over."));
    return;
  }
  have_ = whole(seen, "serial");
  state_->setText((yes(seen, "drives") ? tr("%1 drives.") : tr("%1 looks.")).arg(who_) + " " +
                  tr("They were told that you look in."));
  if (const auto jpeg = seen.find("jpeg"); jpeg != seen.end() && jpeg->is_string()) {
    const auto& packed = jpeg->get_ref<const std::string&>();
    const QByteArray bytes =
        QByteArray::fromBase64(QByteArray::fromRawData(packed.data(), static_cast<int>(packed.size())));
    if (const QImage image = QImage::fromData(bytes, "JPEG"); !image.isNull()) picture_ = image;
  }
  if (const auto text = seen.find("text"); text != seen.end() && text->is_object()) showText(*text);
  face_->update();
  again_.start();
}

/// A terminal of this window's own, set to what was seen.
void LookWindow::showText(const nlohmann::json& text) {
  const auto rows = text.find("rows");
  if (rows == text.end() || !rows->is_array() || rows->empty()) return;
  constexpr int kMost = 1000;
  const int columns = static_cast<int>(std::clamp<qint64>(whole(text, "columns"), 2, kMost));
  const int count = std::min(kMost, static_cast<int>(rows->size()));
  terminal_ = std::make_unique<text::Terminal>(count, columns);
  for (int i = 0; i < count; ++i)
    if ((*rows)[static_cast<std::size_t>(i)].is_string()) {
      const std::string line = "\x1b[0m\x1b[" + std::to_string(i + 1) + ";1H" +
                               (*rows)[static_cast<std::size_t>(i)].get<std::string>();
      terminal_->feed(viewOf(line));
    }
  const auto cursor = text.find("cursor");
  std::string last = "\x1b[0m\x1b[?25l";
  if (cursor != text.end() && cursor->is_array() && cursor->size() == 2 && (*cursor)[0].is_number_integer() &&
      (*cursor)[1].is_number_integer())
    last = "\x1b[" + std::to_string((*cursor)[0].get<int>() + 1) + ";" +
           std::to_string((*cursor)[1].get<int>() + 1) + "H";
  terminal_->feed(viewOf(last));
}

}  // namespace kw::desktop
