#include "desktop/model/clip_mime.hpp"

#include <QApplication>
#include <QBuffer>
#include <QClipboard>
#include <QFile>
#include <QImage>
#include <QUrl>
#include <atomic>
#include <future>

#include "session/clip_files.hpp"

namespace kw::desktop {

namespace {

constexpr std::chrono::seconds kPatience{4};
constexpr const char* kFetchedMark = "application/x-kettle-window-fetched";
constexpr const char* kImage = "application/x-qt-image";

const QStringList& namesOf(ClipForm form) {
  static const std::map<ClipForm, QStringList> names = {
      {ClipForm::Text, {"text/plain", "text/plain;charset=utf-8"}},
      {ClipForm::Html, {"text/html"}},
      {ClipForm::Rtf, {"text/rtf", "application/rtf"}},
      {ClipForm::Picture, {"image/png", kImage}},
      {ClipForm::Files, {}}};
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
  DesktopClip(std::set<ClipForm> forms, std::vector<std::filesystem::path> files)
      : forms_(std::move(forms)), files_(std::move(files)), serial_(serialNow()) {}
  [[nodiscard]] std::set<ClipForm> forms() const override { return forms_; }
  void fetch(ClipForm form, Got got) override {
    QMetaObject::invokeMethod(
        qApp,
        [serial = serial_, form, got = std::move(got)] {
          got(serial == serialNow() ? readDesktop(form) : std::nullopt);
        },
        Qt::QueuedConnection);
  }
  void list(Listed listed) override { files_.list(std::move(listed)); }
  void read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) override {
    files_.read(file, from, most, std::move(got));
  }

 private:
  std::set<ClipForm> forms_;
  LocalFiles files_;
  int serial_;
};

std::vector<std::filesystem::path> filesOf(const QMimeData& data) {
  std::vector<std::filesystem::path> out;
  for (const QUrl& url : data.urls())
    if (url.isLocalFile()) out.emplace_back(QFile::encodeName(url.toLocalFile()).toStdString());
  return out;
}

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
  if (data == nullptr || qobject_cast<const ClipMime*>(data) != nullptr || data->hasFormat(kFetchedMark))
    return nullptr;
  std::set<ClipForm> forms;
  if (data->hasText()) forms.insert(ClipForm::Text);
  if (data->hasHtml()) forms.insert(ClipForm::Html);
  if (data->hasFormat("text/rtf") || data->hasFormat("application/rtf")) forms.insert(ClipForm::Rtf);
  if (data->hasImage()) forms.insert(ClipForm::Picture);
  auto files = filesOf(*data);
  // Their paths mean nothing over there.
  if (!files.empty()) forms = {ClipForm::Files};
  return forms.empty() ? nullptr : std::make_shared<DesktopClip>(std::move(forms), std::move(files));
}

QMimeData* fetchedFilesMime(const QStringList& files) {
  auto* out = new QMimeData;
  QList<QUrl> urls;
  for (const QString& f : files) urls << QUrl::fromLocalFile(f);
  out->setUrls(urls);
  out->setData(kFetchedMark, "1");
  return out;
}

}  // namespace kw::desktop
