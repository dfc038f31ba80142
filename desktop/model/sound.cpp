#include "desktop/model/sound.hpp"

#include <QAudioFormat>
#include <QMediaDevices>

namespace kw::desktop {

Sound::Sound(SoundForm form) {
  const QAudioDevice output = QMediaDevices::defaultAudioOutput();
  if (output.isNull()) return;
  QAudioFormat format;
  format.setSampleRate(form.rate);
  format.setChannelCount(form.channels);
  format.setSampleFormat(QAudioFormat::Int16);
  sink_ = std::make_unique<QAudioSink>(output, format);
  sink_->setBufferSize(format.bytesForDuration(500'000));
  device_ = sink_->start();
}

Sound::~Sound() {
  if (sink_) sink_->stop();
}

void Sound::play(const QByteArray& samples) {
  if (device_ == nullptr) return;
  device_->write(samples.left(sink_->bytesFree()));
}

void Sound::setMuted(bool muted) {
  if (sink_) sink_->setVolume(muted ? 0 : 1);
}

}  // namespace kw::desktop
