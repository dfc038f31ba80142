#include "codec/inflate_ahead.hpp"

#include <cstring>
#include <system_error>
#include <utility>

#include "base/error.hpp"

namespace kw {

namespace {

constexpr std::size_t kPiece = std::size_t{64} << 10;

void mustFit(ByteView rest, std::size_t mostRest) {
  if (rest.size() > mostRest) protocolBroken("compressed data", "a part is longer than it may be");
}

void makeRoom(Bytes& buffer, std::size_t size) {
  if (buffer.size() < size) buffer.resize(size);
}

}  // namespace

InflateHere::InflateHere(Inflater& stream, ByteView compressed, std::size_t mostRest, Bytes& buffer)
    : stream_(&stream), mostRest_(mostRest), buffer_(&buffer) {
  makeRoom(buffer, mostRest + kPiece);
  stream.feed(compressed);
}

ByteView InflateHere::more(ByteView rest) {
  mustFit(rest, mostRest_);
  if (!rest.empty()) std::memmove(buffer_->data(), rest.data(), rest.size());
  const std::size_t got = stream_->read(ByteSpan(*buffer_).subspan(rest.size(), kPiece));
  return ByteView(*buffer_).first(rest.size() + got);
}

InflateAhead::InflateAhead(Inflater& stream, ByteView compressed, std::size_t mostRest, Bytes& buffer)
    : stream_(&stream), mostRest_(mostRest) {
  makeRoom(buffer, kPieces * (mostRest + kPiece));
  Byte* at = buffer.data() + mostRest;
  for (Piece& piece : pieces_) piece.bytes = std::exchange(at, at + kPiece + mostRest);
  stream.feed(compressed);
  thread_ = std::thread([this] { run(); });
}

InflateAhead::~InflateAhead() {
  over_ = true;
  empty_.release();
  thread_.join();
}

void InflateAhead::run() {
  for (std::size_t i = 0;; ++i) {
    empty_.acquire();
    if (over_) return;
    Piece& piece = pieces_[i % kPieces];
    try {
      piece.size = stream_->read(ByteSpan(piece.bytes, kPiece));
      piece.last = piece.size < kPiece;
    } catch (...) {
      piece.failure = std::current_exception();
      piece.last = true;
    }
    const bool last = piece.last;  // the piece may be gone after the next line
    filled_.release();
    if (last) return;
  }
}

ByteView InflateAhead::more(ByteView rest) {
  mustFit(rest, mostRest_);
  if (atEnd_) return rest;
  filled_.acquire();
  Piece& piece = pieces_[next_++ % kPieces];
  if (piece.failure) {
    atEnd_ = true;
    std::rethrow_exception(piece.failure);
  }
  atEnd_ = piece.last;
  Byte* from = piece.bytes - rest.size();
  if (!rest.empty()) std::memcpy(from, rest.data(), rest.size());
  if (next_ > 1) empty_.release();  // the piece that `rest` was in
  return {from, rest.size() + piece.size};
}

std::unique_ptr<InflatedPieces> inflatePieces(bool ahead, Inflater& stream, ByteView compressed,
                                              std::size_t mostRest, Bytes& buffer) {
  try {
    if (ahead) return std::make_unique<InflateAhead>(stream, compressed, mostRest, buffer);
  } catch (const std::system_error&) {
    // No thread is to be had. Nothing was read yet.
  }
  return std::make_unique<InflateHere>(stream, compressed, mostRest, buffer);
}

}  // namespace kw
