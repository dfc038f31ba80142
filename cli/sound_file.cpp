#include "cli/sound_file.hpp"

#include "base/little.hpp"

namespace kw::cli {

SoundFile::SoundFile(const std::string& file) : file_(file), out_(file, std::ios::binary | std::ios::trunc) {
  writeHead();
  check();
}

SoundFile::~SoundFile() {
  out_.seekp(0);
  writeHead();
}

void SoundFile::check() {
  const std::lock_guard held(mutex_);
  out_.flush();
  if (!out_) throw Error(ErrorKind::Local, "the sound cannot be written", file_);
}

/// With the length so far; written anew at the end.
void SoundFile::writeHead() {
  const SoundForm form = form_.value_or(SoundForm{});
  const unsigned frame = static_cast<unsigned>(form.channels) * 2;
  const auto rate = static_cast<std::uint32_t>(form.rate);
  LittleWriter h;
  h.text("RIFF").u32(36 + bytes_).text("WAVEfmt ").u32(16).u16(1).u16(static_cast<unsigned>(form.channels));
  h.u32(rate).u32(rate * frame).u16(frame).u16(16).text("data").u32(bytes_);
  out_.write(reinterpret_cast<const char*>(h.view().data()), static_cast<std::streamsize>(h.size()));
}

void SoundFile::soundBegins(SoundForm form) {
  const std::lock_guard held(mutex_);
  if (!form_) form_ = form;
  sameForm_ = form.channels == form_->channels && form.rate == form_->rate;
}

void SoundFile::sound(ByteView samples) {
  const std::lock_guard held(mutex_);
  if (!form_ || !sameForm_) return;
  out_.write(reinterpret_cast<const char*>(samples.data()), static_cast<std::streamsize>(samples.size()));
  bytes_ += static_cast<std::uint32_t>(samples.size());
}

}  // namespace kw::cli
