// Plays one session's sound through Qt Multimedia.
#pragma once
#include <QAudioSink>
#include <QByteArray>
#include <memory>

#include "session/session.hpp"

namespace kw::desktop {

class Sound {
 public:
  explicit Sound(SoundForm form);
  ~Sound();
  /// What does not fit into half a second of buffer is dropped, so that sound never lags behind the picture.
  void play(const QByteArray& samples);
  void setMuted(bool muted);
  /// False when this desk has no output device.
  [[nodiscard]] bool available() const { return device_ != nullptr; }

 private:
  std::unique_ptr<QAudioSink> sink_;
  QIODevice* device_ = nullptr;
};

}  // namespace kw::desktop
