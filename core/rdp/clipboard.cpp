#include "rdp/clipboard.hpp"

#include "rdp/clip_file_list.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// 2.2.1 msgType and msgFlags
constexpr unsigned kReady = 1, kFormatList = 2, kFormatListResponse = 3, kDataRequest = 4, kDataResponse = 5,
                   kCapabilities = 7, kContentsRequest = 8, kContentsResponse = 9;
constexpr unsigned kOk = 1, kFail = 2, kAsciiNames = 4;
// 2.2.2.1.1.1 generalFlags: files are read in pieces, named without the folder they lie in, of any size.
constexpr std::uint32_t kLongNames = 2, kFilePieces = 4, kNoFilePaths = 8, kHugeFiles = 0x20;
// 2.2.5.3 dwFlags
constexpr std::uint32_t kWantsSize = 1, kWantsPiece = 2;
constexpr std::size_t kMostWishes = 64, kMostReads = 16;
constexpr std::uint32_t kMostPiece = 4U << 20;

Bytes message(unsigned type, unsigned flags, ByteView body) {
  LittleWriter out;
  out.u16(type).u16(flags).u32(static_cast<std::uint32_t>(body.size())).bytes(body);
  return out.take();
}

}  // namespace

/// What the other side has: fetched over the channel, while it still has it.
class Clipboard::Remote : public Clip {
 public:
  Remote(const Executor& strand, std::weak_ptr<Clipboard*> owner, unsigned list,
         std::map<ClipForm, ClipFormat> formats)
      : strand_(strand), owner_(std::move(owner)), list_(list), formats_(std::move(formats)) {}
  [[nodiscard]] std::set<ClipForm> forms() const override {
    std::set<ClipForm> out;
    for (const auto& [form, format] : formats_) out.insert(form);
    return out;
  }
  void fetch(ClipForm form, Got got) override {
    const auto found = formats_.find(form);
    if (found == formats_.end()) return got(std::nullopt);
    post(strand_, [owner = owner_, list = list_, format = found->second, got = std::move(got)] {
      const auto there = owner.lock();
      there ? (*there)->wish({list, format, got}) : got(std::nullopt);
    });
  }
  void list(Listed listed) override {
    fetch(ClipForm::Files, [listed = std::move(listed)](std::optional<Bytes> content) {
      listed(content ? readFileList(*content) : std::nullopt);
    });
  }
  void read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) override {
    post(strand_, [owner = owner_, list = list_, file, from, most, got = std::move(got)] {
      const auto there = owner.lock();
      there ? (*there)->readFile(list, file, from, most, got) : got(std::nullopt);
    });
  }

 private:
  Executor strand_;
  std::weak_ptr<Clipboard*> owner_;
  unsigned list_;
  std::map<ClipForm, ClipFormat> formats_;
};

Clipboard::Clipboard(const Executor& strand, Events events)
    : strand_(strand), events_(std::move(events)), self_(std::make_shared<Clipboard*>(this)) {}

Clipboard::~Clipboard() {
  self_.reset();
  for (const Wish& w : wishes_) w.got(std::nullopt);
  forgetReads();
}

void Clipboard::forgetReads() {
  for (const auto& [stream, got] : std::exchange(reads_, {})) got(std::nullopt);
}

/// 2.2.2.1
void Clipboard::sendCapabilities() {
  LittleWriter body;
  body.u16(1).u16(0).u16(1).u16(12).u32(2).u32(kLongNames | kFilePieces | kNoFilePaths | kHugeFiles);
  events_.send(message(kCapabilities, 0, body.view()));
}

void Clipboard::begin() {
  sendCapabilities();
  events_.send(message(kReady, 0, {}));
}

void Clipboard::offer(std::shared_ptr<Clip> clip) {
  offered_ = std::move(clip);
  offeredFiles_.clear();
  if (ready_) announce();
}

/// 2.2.3.1
void Clipboard::announce() {
  std::set<ClipForm> forms = offered_ ? offered_->forms() : std::set<ClipForm>();
  if ((theirs_ & kFilePieces) == 0) forms.erase(ClipForm::Files);
  events_.send(message(kFormatList, 0, writeFormatList(formatsFor(forms), (theirs_ & kLongNames) != 0)));
}

void Clipboard::take(ByteView bytes) {
  LittleReader in(bytes, "clipboard");
  const unsigned type = in.u16(), flags = in.u16();
  const std::uint32_t length = in.u32();
  const ByteView body = in.bytes(std::min<std::size_t>(length, in.left()));
  LittleReader b(body, "clipboard");
  switch (type) {
    case kCapabilities:
      b.skip(4 + 4 + 4);
      theirs_ = b.u32();
      break;
    case kReady:
      sendCapabilities();
      ready_ = true;
      announce();
      break;
    case kFormatList:
      events_.send(message(kFormatListResponse, kOk, {}));
      // What the server side has is announced once the other side has shown that it is there.
      if (!std::exchange(ready_, true) && offered_) announce();
      formats(body, flags);
      break;
    case kDataRequest: request(b); break;
    case kDataResponse: response(body, (flags & kOk) != 0); break;
    case kContentsRequest: contentsWanted(b); break;
    case kContentsResponse: contentsCame(b, (flags & kOk) != 0); break;
    default: break;
  }
}

void Clipboard::formats(ByteView body, unsigned flags) {
  const bool ascii = (flags & kAsciiNames) != 0;
  auto forms = formsIn(readFormatList(body, (theirs_ & kLongNames) != 0 && !ascii, ascii));
  if ((theirs_ & kFilePieces) == 0) forms.erase(ClipForm::Files);
  ++list_;
  forgetReads();
  if (!forms.empty()) events_.clipCame(std::make_shared<Remote>(strand_, self_, list_, std::move(forms)));
}

/// Brings what is fetched on any thread back to the strand, as long as the clipboard is there.
class Clipboard::Answer {
 public:
  explicit Answer(Clipboard& of) : strand_(of.strand_), owner_(of.self_) {}
  void then(std::function<void(Clipboard&)> what) const {
    post(strand_, [owner = owner_, what = std::move(what)] {
      if (const auto there = owner.lock()) what(**there);
    });
  }

 private:
  Executor strand_;
  std::weak_ptr<Clipboard*> owner_;
};

/// 2.2.5.1: answered when our side has it.
void Clipboard::request(LittleReader& in) {
  const std::uint32_t format = in.u32();
  const auto form = formOf(format);
  if (!offered_ || !form) return events_.send(message(kDataResponse, kFail, {}));
  const auto answer = [to = Answer(*this)](std::function<std::optional<Bytes>(Clipboard&)> make) {
    to.then([make = std::move(make)](Clipboard& c) {
      auto body = make(c);
      if (body && body->size() > kMostClip) body.reset();
      c.events_.send(message(kDataResponse, body ? kOk : kFail, body ? ByteView(*body) : ByteView()));
    });
  };
  if (*form == ClipForm::Files)
    return offered_->list([answer, of = offered_](std::optional<std::vector<ClipFile>> files) {
      answer([files = std::move(files), of](Clipboard& c) -> std::optional<Bytes> {
        if (!files || c.offered_ != of) return std::nullopt;
        std::vector<ClipFile> listed;
        c.offeredFiles_.clear();
        for (std::size_t i = 0; i < files->size(); ++i) {
          if (!fitsFileList((*files)[i])) continue;
          c.offeredFiles_.emplace_back(i, (*files)[i]);
          listed.push_back((*files)[i]);
        }
        return writeFileList(listed);
      });
    });
  offered_->fetch(*form, [answer, format](std::optional<Bytes> content) {
    answer([format, content = std::move(content)](Clipboard&) {
      return content ? toWire(format, *content) : std::nullopt;
    });
  });
}

/// 2.2.5.3: the size of one of our files, or a piece of it.
void Clipboard::contentsWanted(LittleReader& in) {
  const std::uint32_t stream = in.u32(), file = in.u32(), what = in.u32();
  const std::uint64_t low = in.u32(), from = std::uint64_t{in.u32()} << 32 | low;
  const std::uint32_t most = std::min(in.u32(), kMostPiece);
  const auto answer = [stream](Clipboard& c, const std::optional<Bytes>& content) {
    LittleWriter body;
    body.u32(stream);
    if (content) body.bytes(*content);
    c.events_.send(message(kContentsResponse, content ? kOk : kFail, body.view()));
  };
  if (!offered_ || file >= offeredFiles_.size()) return answer(*this, std::nullopt);
  const auto& [place, facts] = offeredFiles_[file];
  if ((what & kWantsSize) != 0) {
    LittleWriter size;
    return answer(*this, size.u64(facts.size).take());
  }
  if ((what & kWantsPiece) == 0 || facts.folder) return answer(*this, std::nullopt);
  offered_->read(place, from, most, [to = Answer(*this), answer](std::optional<Bytes> content) {
    to.then([answer, content = std::move(content)](Clipboard& c) { answer(c, content); });
  });
}

void Clipboard::readFile(unsigned list, std::size_t file, std::uint64_t from, std::uint32_t most,
                         Clip::Got got) {
  if (list != list_ || reads_.size() >= kMostReads) return got(std::nullopt);
  const std::uint32_t stream = ++lastStream_;
  reads_[stream] = std::move(got);
  LittleWriter body;
  body.u32(stream).u32(static_cast<std::uint32_t>(file)).u32(kWantsPiece);
  body.u32(static_cast<std::uint32_t>(from)).u32(static_cast<std::uint32_t>(from >> 32));
  events_.send(message(kContentsRequest, 0, body.u32(std::min(most, kMostPiece)).view()));
}

/// 2.2.5.4
void Clipboard::contentsCame(LittleReader& in, bool good) {
  const auto read = reads_.find(in.u32());
  if (read == reads_.end()) return;
  const Clip::Got got = std::move(read->second);
  reads_.erase(read);
  const ByteView content = in.rest();
  got(good ? std::optional(Bytes(content.begin(), content.end())) : std::nullopt);
}

/// Answers carry no number, so that one question is out at a time.
void Clipboard::wish(Wish wish) {
  if (wish.list != list_ || wishes_.size() >= kMostWishes) return wish.got(std::nullopt);
  wishes_.push_back(std::move(wish));
  if (!asking_) askNext();
}

void Clipboard::askNext() {
  while (!wishes_.empty() && wishes_.front().list != list_) {  // something else was copied meanwhile
    wishes_.front().got(std::nullopt);
    wishes_.pop_front();
  }
  asking_ = !wishes_.empty();
  if (!asking_) return;
  LittleWriter body;
  events_.send(message(kDataRequest, 0, body.u32(wishes_.front().format.id).view()));
}

void Clipboard::response(ByteView body, bool good) {
  if (!asking_) return;
  const Wish wish = std::move(wishes_.front());
  wishes_.pop_front();
  if (wish.format.name == kFilesName)  // read by whoever asked for it
    wish.got(good ? std::optional(Bytes(body.begin(), body.end())) : std::nullopt);
  else
    wish.got(good ? fromWire(wish.format, body) : std::nullopt);
  askNext();
}

}  // namespace kw::rdp
