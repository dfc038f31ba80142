#include "codec/zip.hpp"

#include <zlib.h>

#include "base/error.hpp"

namespace kw {

Inflater::Inflater() : stream_(std::make_unique<z_stream>()) {
  *stream_ = {};
  if (inflateInit(stream_.get()) != Z_OK) throw Error(ErrorKind::Local, "no memory for zlib");
  // The Adler sum stands at the end of a stream, and these streams end with their connection: summing every
  // byte on the way there would buy nothing.
  inflateValidate(stream_.get(), 0);
}
Inflater::~Inflater() {
  if (stream_) inflateEnd(stream_.get());
}
Inflater::Inflater(Inflater&&) noexcept = default;
Inflater& Inflater::operator=(Inflater&& other) noexcept {
  stream_.swap(other.stream_);
  return *this;
}

void Inflater::feed(ByteView compressed) {
  stream_->next_in = const_cast<Byte*>(compressed.data());
  stream_->avail_in = static_cast<uInt>(compressed.size());
}

std::size_t Inflater::read(ByteSpan out) {
  stream_->next_out = out.data();
  stream_->avail_out = static_cast<uInt>(out.size());
  while (stream_->avail_out > 0) {
    const int result = inflate(stream_.get(), Z_SYNC_FLUSH);
    if (result == Z_STREAM_END || result == Z_BUF_ERROR) break;
    if (result != Z_OK)
      protocolBroken("zlib data", stream_->msg != nullptr ? stream_->msg : "needs a dictionary");
    if (stream_->avail_in == 0 && stream_->avail_out > 0) break;
  }
  return out.size() - stream_->avail_out;
}

void Inflater::readAll(ByteSpan out) {
  const std::size_t got = read(out);
  if (got != out.size())
    protocolBroken("zlib data",
                   "ends after " + std::to_string(got) + " of " + std::to_string(out.size()) + " bytes");
}

void Inflater::finish() {
  Byte extra[16];
  if (stream_->avail_in > 0 && read(extra) != 0) protocolBroken("zlib data", "holds more than announced");
  if (stream_->avail_in > 0) protocolBroken("zlib data", "goes on after its end");
}

void Inflater::reset() { inflateReset(stream_.get()); }

Deflater::Deflater(int level) : level_(level) {}
Deflater::~Deflater() {
  if (stream_) deflateEnd(stream_.get());
}

void Deflater::begin() {
  auto stream = std::make_unique<z_stream>();
  *stream = {};
  if (deflateInit(stream.get(), level_) != Z_OK) throw Error(ErrorKind::Local, "no memory for zlib");
  stream_ = std::move(stream);
}

bool Deflater::drop() {
  if (!stream_) return false;
  deflateEnd(stream_.get());
  stream_.reset();
  return true;
}

void Deflater::deflate(ByteView plain, Bytes& out) {
  if (!stream_) begin();
  stream_->next_in = const_cast<Byte*>(plain.data());
  stream_->avail_in = static_cast<uInt>(plain.size());
  Byte chunk[32768];
  do {
    stream_->next_out = chunk;
    stream_->avail_out = sizeof chunk;
    ::deflate(stream_.get(), Z_SYNC_FLUSH);
    out.insert(out.end(), chunk, chunk + (sizeof chunk - stream_->avail_out));
  } while (stream_->avail_out == 0);
}

void Deflater::setLevel(int level) {
  if (level == level_) return;
  level_ = level;
  if (!stream_) return;
  Byte none[64];
  stream_->next_in = nullptr;
  stream_->avail_in = 0;
  stream_->next_out = none;
  stream_->avail_out = sizeof none;
  deflateParams(stream_.get(), level, Z_DEFAULT_STRATEGY);
}

Bytes inflateWhole(ByteView compressed, std::size_t most) {
  Inflater inflater;
  inflater.feed(compressed);
  Bytes out;
  for (;;) {
    const std::size_t before = out.size();
    const std::size_t step = std::min<std::size_t>(65536, most + 1 - before);
    out.resize(before + step);
    const std::size_t got = inflater.read(ByteSpan(out.data() + before, step));
    out.resize(before + got);
    if (out.size() > most)
      protocolBroken("zlib data", "inflates to more than " + std::to_string(most) + " bytes");
    if (got < step) return out;
  }
}

Bytes deflateWhole(ByteView plain, int level) {
  Bytes out(compressBound(plain.size()));
  uLongf size = out.size();
  if (compress2(out.data(), &size, plain.data(), plain.size(), level) != Z_OK)
    throw Error(ErrorKind::Local, "no memory for zlib");
  out.resize(size);
  return out;
}

}  // namespace kw
