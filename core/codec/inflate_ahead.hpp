// A message of a zlib stream, inflated piece by piece: by the caller, or ahead of it on a second thread.
#pragma once
#include <atomic>
#include <exception>
#include <memory>
#include <semaphore>
#include <thread>

#include "codec/zip.hpp"

namespace kw {

/// For readers that see whole units only (tiles) and hand back what the cut left over.
class InflatedPieces {
 public:
  virtual ~InflatedPieces() = default;
  /// `rest` is the unused end of the last answer. Answers with `rest` and what follows it, valid until the
  /// next call; with `rest` alone when the message is over. Throws Error{ProtocolBroken}.
  virtual ByteView more(ByteView rest) = 0;
};

/// A rest may have up to `mostRest` bytes; `buffer` is kept by the caller so that it is made only once.
class InflateHere : public InflatedPieces {
 public:
  InflateHere(Inflater& stream, ByteView compressed, std::size_t mostRest, Bytes& buffer);
  ByteView more(ByteView rest) override;

 private:
  Inflater* stream_;
  std::size_t mostRest_;
  Bytes* buffer_;
};

/// Inflates a few pieces ahead. The stream belongs to it until it is destroyed, which also ends its thread.
class InflateAhead : public InflatedPieces {
 public:
  InflateAhead(Inflater& stream, ByteView compressed, std::size_t mostRest, Bytes& buffer);
  ~InflateAhead() override;
  InflateAhead(const InflateAhead&) = delete;
  InflateAhead& operator=(const InflateAhead&) = delete;
  ByteView more(ByteView rest) override;

 private:
  static constexpr std::ptrdiff_t kPieces = 4;
  struct Piece {
    Byte* bytes = nullptr;  ///< after room for a rest
    std::size_t size = 0;
    bool last = false;
    std::exception_ptr failure;
  };
  void run();

  Inflater* stream_;
  std::size_t mostRest_;
  Piece pieces_[kPieces];
  std::counting_semaphore<kPieces + 1> filled_{0}, empty_{kPieces};
  std::atomic<bool> over_ = false;
  std::size_t next_ = 0;
  bool atEnd_ = false;
  std::thread thread_;
};

/// Ahead where `ahead` asks for it and a thread can be started; otherwise here.
std::unique_ptr<InflatedPieces> inflatePieces(bool ahead, Inflater& stream, ByteView compressed,
                                              std::size_t mostRest, Bytes& buffer);

}  // namespace kw
