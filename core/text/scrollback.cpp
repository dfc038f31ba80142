#include "text/scrollback.hpp"

#include <lz4.h>

#include <algorithm>
#include <cstring>

namespace kw::text {

namespace {

constexpr std::size_t kBlockBytes = 64 * 1024;

// A packed row: length of what follows (varint), flags, text length (varint), text, runs. In the text, byte 1
// stands for the tail of a wide character and byte 2 for a cluster, whose number follows as a varint.
// Runs are left out when every cell is plain.
constexpr std::uint8_t kWrapped = 1, kHasRuns = 2;
constexpr int kSizeShift = 2;  // two bits of the flags: RowSize
constexpr std::uint8_t kTailByte = 1, kClusterByte = 2;

using Packed = std::vector<std::uint8_t>;

void putVarint(Packed& to, std::size_t value) {
  while (value >= 0x80) {
    to.push_back(static_cast<std::uint8_t>(value | 0x80));
    value >>= 7;
  }
  to.push_back(static_cast<std::uint8_t>(value));
}

std::size_t getVarint(const std::uint8_t*& at) {
  std::size_t value = 0;
  for (int shift = 0;; shift += 7) {
    const std::uint8_t byte = *at++;
    value |= static_cast<std::size_t>(byte & 0x7F) << shift;
    if ((byte & 0x80) == 0) return value;
  }
}

void putPoint(Packed& to, char32_t p) {
  std::string utf8;
  appendUtf8(utf8, p);
  to.insert(to.end(), utf8.begin(), utf8.end());
}

void putCell(Packed& to, const Cell& cell) {
  if (cell.attrs & attr::kWideTail) {
    to.push_back(kTailByte);
  } else if (cell.ch & kClusterBit) {
    to.push_back(kClusterByte);
    putVarint(to, cell.ch & ~kClusterBit);
  } else if (cell.ch < 0x80) {
    to.push_back(cell.ch < 0x20 ? ' ' : static_cast<std::uint8_t>(cell.ch));
  } else {
    putPoint(to, cell.ch);
  }
}

bool sameLook(const Cell& a, const Cell& b) {
  return a.fg == b.fg && a.bg == b.bg && a.link == b.link &&
         ((a.attrs ^ b.attrs) & static_cast<std::uint16_t>(~attr::kWideTail)) == 0;
}

void putRuns(Packed& to, const Cell* cells, std::size_t count) {
  for (std::size_t i = 0; i < count;) {
    std::size_t end = i + 1;
    while (end < count && sameLook(cells[i], cells[end])) ++end;
    putVarint(to, end - i);
    putVarint(to, cells[i].fg);
    putVarint(to, cells[i].bg);
    putVarint(to, cells[i].attrs & static_cast<std::uint16_t>(~attr::kWideTail));
    putVarint(to, cells[i].link);
    i = end;
  }
}

bool allAscii(const Cell* cells, std::size_t count) {
  char32_t all = 0;
  std::uint16_t tails = 0;
  for (std::size_t i = 0; i < count; ++i) all |= cells[i].ch, tails |= cells[i].attrs;
  return all < 0x80 && (tails & attr::kWideTail) == 0;
}

void putAscii(Packed& to, const Cell* cells, std::size_t count) {
  const std::size_t at = to.size();
  to.resize(at + count);
  std::uint8_t* p = to.data() + at;
  for (std::size_t i = 0; i < count; ++i)
    p[i] = cells[i].ch < 0x20 ? ' ' : static_cast<std::uint8_t>(cells[i].ch);
}

void packRow(Packed& to, const Cell* cells, std::size_t count, bool wrapped, RowSize size) {
  static thread_local Packed body, text;
  body.clear();
  text.clear();
  bool runs = false;
  for (std::size_t i = 0; i < count && !runs; ++i)
    runs = (cells[i].fg | cells[i].bg | cells[i].link |
            static_cast<std::uint32_t>(cells[i].attrs & ~attr::kWideTail)) != 0;
  if (allAscii(cells, count))
    putAscii(text, cells, count);
  else
    for (std::size_t i = 0; i < count; ++i) putCell(text, cells[i]);
  body.push_back(static_cast<std::uint8_t>((wrapped ? kWrapped : 0) | (runs ? kHasRuns : 0) |
                                           static_cast<int>(size) << kSizeShift));
  putVarint(body, text.size());
  body.insert(body.end(), text.begin(), text.end());
  if (runs) putRuns(body, cells, count);
  putVarint(to, body.size());
  to.insert(to.end(), body.begin(), body.end());
}

void unpackText(const std::uint8_t* at, const std::uint8_t* end, std::vector<Cell>& cells) {
  while (at < end) {
    Cell cell;
    if (*at == kTailByte) {
      cell.attrs = attr::kWideTail;
      ++at;
    } else if (*at == kClusterByte) {
      ++at;
      cell.ch = kClusterBit | static_cast<char32_t>(getVarint(at));
    } else if (*at < 0x80) {
      cell.ch = *at++;
    } else {
      const std::string_view rest(reinterpret_cast<const char*>(at), static_cast<std::size_t>(end - at));
      std::size_t used = 0;
      cell.ch = nextPoint(rest, used);
      at += used;
    }
    cells.push_back(cell);
  }
}

Row unpackRow(const std::uint8_t*& at) {
  const std::size_t size = getVarint(at);
  const std::uint8_t* end = at + size;
  Row row;
  const std::uint8_t flags = *at++;
  row.wrapped = (flags & kWrapped) != 0;
  row.size = static_cast<RowSize>(flags >> kSizeShift & 3);
  const std::size_t textSize = getVarint(at);
  row.cells.reserve(textSize);
  unpackText(at, at + textSize, row.cells);
  at += textSize;
  std::size_t cell = 0;
  while (at < end) {
    const std::size_t count = getVarint(at);
    Cell look;
    look.fg = static_cast<Colour>(getVarint(at));
    look.bg = static_cast<Colour>(getVarint(at));
    look.attrs = static_cast<std::uint16_t>(getVarint(at));
    look.link = static_cast<std::uint16_t>(getVarint(at));
    for (std::size_t i = 0; i < count && cell < row.cells.size(); ++i, ++cell) {
      Cell& c = row.cells[cell];
      c.fg = look.fg, c.bg = look.bg, c.link = look.link;
      c.attrs = static_cast<std::uint16_t>(c.attrs | look.attrs);
    }
  }
  at = end;
  return row;
}

void skipRow(const std::uint8_t*& at) {
  const std::size_t size = getVarint(at);
  at += size;
}

}  // namespace

void Scrollback::push(const Cell* cells, std::size_t count, bool wrapped, RowSize size) {
  while (count > 0 && cells[count - 1] == Cell{}) --count;
  if (blocks_.empty() || blocks_.back().compressed || blocks_.back().rawSize >= kBlockBytes) {
    if (!blocks_.empty()) seal(blocks_.back());
    firstRow_.push_back(dropped_ + rows_);
    blocks_.emplace_back();
    blocks_.back().data.reserve(kBlockBytes + 4096);
  }
  Block& block = blocks_.back();
  const std::size_t before = block.data.size();
  packRow(block.data, cells, count, wrapped, size);
  bytes_ += block.data.size() - before;
  block.rawSize = block.data.size();
  ++block.rows;
  block.widest = std::max(block.widest, static_cast<std::uint32_t>(count));
  block.anyWrapped = block.anyWrapped || wrapped;
  ++rows_;
  if (rows_ > mostRows_ || bytes_ > mostBytes_) forget();
}

void Scrollback::seal(Block& block) {
  const int room = LZ4_compressBound(static_cast<int>(block.data.size()));
  static thread_local std::vector<char> scratch;
  scratch.resize(static_cast<std::size_t>(room));
  const int size = LZ4_compress_default(reinterpret_cast<const char*>(block.data.data()), scratch.data(),
                                        static_cast<int>(block.data.size()), room);
  if (size <= 0 || static_cast<std::size_t>(size) >= block.data.size()) return;
  bytes_ -= block.data.size();
  block.data = std::vector<std::uint8_t>(scratch.data(), scratch.data() + size);
  bytes_ += block.data.size();
  block.compressed = true;
}

void Scrollback::forget() {
  while (blocks_.size() > 1 && (rows_ - blocks_.front().rows >= mostRows_ || bytes_ > mostBytes_)) {
    rows_ -= blocks_.front().rows;
    dropped_ += blocks_.front().rows;
    bytes_ -= blocks_.front().data.size();
    blocks_.pop_front();
    firstRow_.pop_front();
  }
}

void Scrollback::setMostRows(std::size_t rows) {
  mostRows_ = rows;
  forget();
}

void Scrollback::clear() {
  blocks_.clear();
  firstRow_.clear();
  rows_ = bytes_ = dropped_ = 0;
  cachedFirst_ = UINT64_MAX;
}

const std::vector<std::uint8_t>& Scrollback::raw(std::size_t index) const {
  const Block& block = blocks_[index];
  if (!block.compressed) return block.data;
  if (cachedFirst_ != firstRow_[index]) {
    cache_.resize(block.rawSize);
    LZ4_decompress_safe(reinterpret_cast<const char*>(block.data.data()),
                        reinterpret_cast<char*>(cache_.data()), static_cast<int>(block.data.size()),
                        static_cast<int>(block.rawSize));
    cachedFirst_ = firstRow_[index];
  }
  return cache_;
}

std::size_t Scrollback::blockOf(std::size_t row, std::size_t& rowInBlock) const {
  const std::uint64_t wanted = dropped_ + row;
  const auto after = std::upper_bound(firstRow_.begin(), firstRow_.end(), wanted);
  const auto index = static_cast<std::size_t>(after - firstRow_.begin()) - 1;
  rowInBlock = static_cast<std::size_t>(wanted - firstRow_[index]);
  return index;
}

Row Scrollback::row(std::size_t index) const {
  Row out;
  each(index, index + 1, [&](std::size_t, const Row& row) {
    out = row;
    return false;
  });
  return out;
}

void Scrollback::each(std::size_t first, std::size_t last,
                      const std::function<bool(std::size_t, const Row&)>& what) const {
  last = std::min(last, rows_);
  while (first < last) {
    std::size_t skip = 0;
    const std::size_t index = blockOf(first, skip);
    const std::uint8_t* at = raw(index).data();
    for (std::size_t i = 0; i < skip; ++i) skipRow(at);
    for (std::size_t i = skip; i < blocks_[index].rows && first < last; ++i, ++first)
      if (!what(first, unpackRow(at))) return;
  }
}

/// The newest block as it was before it was sealed.
void Scrollback::unpackLast() {
  Block& block = blocks_.back();
  if (!block.compressed) return;
  bytes_ -= block.data.size();
  Packed plain = raw(blocks_.size() - 1);
  block.data = std::move(plain);
  block.compressed = false;
  bytes_ += block.data.size();
  cachedFirst_ = UINT64_MAX;
}

bool Scrollback::pop(Row& into) {
  if (rows_ == 0) return false;
  unpackLast();
  Block& block = blocks_.back();
  const std::uint8_t* at = block.data.data();
  for (std::uint32_t i = 0; i + 1 < block.rows; ++i) skipRow(at);
  const auto keep = static_cast<std::size_t>(at - block.data.data());
  into = unpackRow(at);
  bytes_ -= block.data.size() - keep;
  block.data.resize(keep);
  block.rawSize = keep;
  --block.rows;
  --rows_;
  if (block.rows == 0) {
    blocks_.pop_back();
    firstRow_.pop_back();
  }
  return true;
}

namespace {

/// Pushes a whole line as rows of at most `columns` cells, never parting a wide character.
void pushLine(Scrollback& to, const std::vector<Cell>& line, RowSize size, std::size_t columns, bool goesOn) {
  std::size_t at = 0;
  do {
    std::size_t end = std::min(at + columns, line.size());
    if (end < line.size() && end > at + 1 && (line[end].attrs & attr::kWideTail)) --end;
    to.push(line.data() + at, end - at, end < line.size() || goesOn, size);
    at = end;
  } while (at < line.size());
}

}  // namespace

void Scrollback::reflow(std::size_t columns) {
  columns = std::max<std::size_t>(columns, 1);
  Scrollback fresh(mostRows_, mostBytes_);
  std::vector<Cell> line;
  bool open = false;  // a line was begun whose last row has not come yet
  for (std::size_t b = 0; b < blocks_.size(); ++b) {
    Block& block = blocks_[b];
    if (!open && !block.anyWrapped && block.widest <= columns) {  // nothing to break: taken as it is
      fresh.firstRow_.push_back(fresh.rows_ + fresh.dropped_);
      fresh.rows_ += block.rows;
      fresh.bytes_ += block.data.size();
      if (fresh.blocks_.size() && !fresh.blocks_.back().compressed) fresh.seal(fresh.blocks_.back());
      fresh.blocks_.push_back(block);
      continue;
    }
    const std::uint8_t* at = raw(b).data();
    for (std::uint32_t i = 0; i < block.rows; ++i) {
      Row row = unpackRow(at);
      line.insert(line.end(), row.cells.begin(), row.cells.end());
      open = row.wrapped;
      if (open && line.size() < 100'000) continue;
      pushLine(fresh, line, row.size, columns, open);
      line.clear();
    }
  }
  if (open) pushLine(fresh, line, RowSize::Normal, columns, true);
  fresh.dropped_ += dropped_;
  for (auto& first : fresh.firstRow_) first += dropped_;
  *this = std::move(fresh);
  cachedFirst_ = UINT64_MAX;
}

}  // namespace kw::text
