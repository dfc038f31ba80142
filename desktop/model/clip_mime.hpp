// The desktop's clipboard and a machine's, joined without fetching: what was copied on one side is read when
// somebody pastes it on the other.
#pragma once
#include <QMimeData>

#include "base/clip.hpp"

namespace kw::desktop {

/// What a machine has, as the desktop's programs ask for it. Reading waits for the machine, a few seconds at
/// most; after one that gave nothing in time nothing is asked any more.
class ClipMime : public QMimeData {
  Q_OBJECT
 public:
  explicit ClipMime(std::shared_ptr<Clip> clip) : clip_(std::move(clip)) {}
  [[nodiscard]] QStringList formats() const override;
  [[nodiscard]] bool hasFormat(const QString& name) const override { return formats().contains(name); }

 protected:
  [[nodiscard]] QVariant retrieveData(const QString& name, QMetaType type) const override;

 private:
  [[nodiscard]] std::optional<Bytes> fetched(ClipForm form) const;
  std::shared_ptr<Clip> clip_;
  mutable std::map<ClipForm, std::optional<Bytes>> had_;
  mutable bool gaveUp_ = false;
};

/// What the desktop's clipboard has now; nothing when a machine of ours put it there, or there is nothing we
/// can carry. Interface thread.
std::shared_ptr<Clip> clipOfDesktop();

/// For files of a machine that are here now: they are not offered to a machine again.
QMimeData* fetchedFilesMime(const QStringList& files);

}  // namespace kw::desktop
