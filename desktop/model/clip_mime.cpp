#include "desktop/model/clip_mime.hpp"

#include <QApplication>
#include <QBuffer>
#include <QClipboard>
#include <QImage>
#include <atomic>
#include <future>

namespace kw::desktop {

namespace {

constexpr std::chrono::seconds kPatience{4};
constexpr const char* kImage = "application/x-qt-image";

const QStringList& namesOf(ClipForm form) {
  static const std::map<ClipForm, QStringList> names = {
      {ClipForm::Text, {"text/plain", "text/plain;charset=utf-8"}},
      {ClipForm::Html, {"text/html"}},
      {ClipForm::Rtf, {"text/rtf", "application/rtf"}},
      {ClipForm::Picture, {"image/png", kImage}}};
  return names.at(form);
}

QByteArray qBytes(const Bytes& b) {
  return {reinterpret_cast<const char*>(b.data()), static_cast<qsizetype>(b.size())};
}
Bytes bytesOf(const QByteArray& b) { return {b.begin(), b.end()}; }

/// Counts what was copied on this desktop, so that an old offer is not answered with something newer.
int serialNow() {
  static std::atomic<int> serial{0};
  static const bool watching = [] {
    QObject::connect(QApplication::clipboard(), &QClipboard::dataChanged, qApp, [] { ++serial; });
    return true;
  }();
  (void)watching;
  return serial;
}

std::optional<Bytes> readDesktop(ClipForm form) {
  const QMimeData* data = QApplication::clipboard()->mimeData();
  if (data == nullptr) return std::nullopt;
  if (form == ClipForm::Text && data->hasText()) return bytesOf(data->text().toUtf8());
  if (form == ClipForm::Html && data->hasHtml()) return bytesOf(data->html().toUtf8());
  if (form == ClipForm::Rtf)
    for (const QString& name : namesOf(form))
      if (data->hasFormat(name)) return bytesOf(data->data(name));
  if (form != ClipForm::Picture || !data->hasImage()) return std::nullopt;
  QBuffer png;
  png.open(QIODevice::WriteOnly);
  if (!qvariant_cast<QImage>(data->imageData()).save(&png, "PNG")) return std::nullopt;
  return bytesOf(png.data());
}

class DesktopClip : public Clip {
 public:
  explicit DesktopClip(std::set<ClipForm> forms) : forms_(std::move(forms)), serial_(serialNow()) {}
  [[nodiscard]] std::set<ClipForm> forms() const override { return forms_; }
  void fetch(ClipForm form, Got got) override {
    QMetaObject::invokeMethod(
        qApp,
        [serial = serial_, form, got = std::move(got)] {
          got(serial == serialNow() ? readDesktop(form) : std::nullopt);
        },
        Qt::QueuedConnection);
  }

 private:
  std::set<ClipForm> forms_;
  int serial_;
};

}  // namespace

QStringList ClipMime::formats() const {
  QStringList out;
  for (const ClipForm form : clip_->forms()) out += namesOf(form);
  return out;
}

std::optional<Bytes> ClipMime::fetched(ClipForm form) const {
  if (const auto found = had_.find(form); found != had_.end()) return found->second;
  if (gaveUp_) return std::nullopt;
  auto answer = std::make_shared<std::promise<std::optional<Bytes>>>();
  auto coming = answer->get_future();
  clip_->fetch(form, [answer](std::optional<Bytes> content) { answer->set_value(std::move(content)); });
  if (coming.wait_for(kPatience) != std::future_status::ready) {
    gaveUp_ = true;
    return std::nullopt;
  }
  return had_[form] = coming.get();
}

QVariant ClipMime::retrieveData(const QString& name, QMetaType) const {
  for (const ClipForm form : clip_->forms()) {
    if (!namesOf(form).contains(name)) continue;
    const auto content = fetched(form);
    if (!content) return {};
    if (name == kImage) return QImage::fromData(qBytes(*content), "PNG");
    if (form == ClipForm::Text || form == ClipForm::Html) return QString::fromUtf8(qBytes(*content));
    return qBytes(*content);
  }
  return {};
}

std::shared_ptr<Clip> clipOfDesktop() {
  const QMimeData* data = QApplication::clipboard()->mimeData();
  if (data == nullptr || qobject_cast<const ClipMime*>(data) != nullptr) return nullptr;
  std::set<ClipForm> forms;
  if (data->hasText()) forms.insert(ClipForm::Text);
  if (data->hasHtml()) forms.insert(ClipForm::Html);
  if (data->hasFormat("text/rtf") || data->hasFormat("application/rtf")) forms.insert(ClipForm::Rtf);
  if (data->hasImage()) forms.insert(ClipForm::Picture);
  return forms.empty() ? nullptr : std::make_shared<DesktopClip>(std::move(forms));
}

}  // namespace kw::desktop
