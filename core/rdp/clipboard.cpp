#include "rdp/clipboard.hpp"

#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// 2.2.1 msgType and msgFlags
constexpr unsigned kReady = 1, kFormatList = 2, kFormatListResponse = 3, kDataRequest = 4, kDataResponse = 5,
                   kCapabilities = 7;
constexpr unsigned kOk = 1, kFail = 2, kAsciiNames = 4;
constexpr std::uint32_t kLongNames = 2;
constexpr std::size_t kMostWishes = 64;

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
}

/// 2.2.2.1
void Clipboard::sendCapabilities() {
  LittleWriter body;
  body.u16(1).u16(0).u16(1).u16(12).u32(2).u32(kLongNames);
  events_.send(message(kCapabilities, 0, body.view()));
}

void Clipboard::begin() {
  sendCapabilities();
  events_.send(message(kReady, 0, {}));
}

void Clipboard::offer(std::shared_ptr<Clip> clip) {
  offered_ = std::move(clip);
  if (ready_) announce();
}

/// 2.2.3.1
void Clipboard::announce() {
  const auto formats = offered_ ? formatsFor(offered_->forms()) : std::vector<ClipFormat>();
  events_.send(message(kFormatList, 0, writeFormatList(formats, theirLongNames_)));
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
      theirLongNames_ = (b.u32() & kLongNames) != 0;
      break;
    case kReady:
      sendCapabilities();
      ready_ = true;
      announce();
      break;
    case kFormatList:
      ready_ = true;
      events_.send(message(kFormatListResponse, kOk, {}));
      formats(body, flags);
      break;
    case kDataRequest: request(b); break;
    case kDataResponse: response(body, (flags & kOk) != 0); break;
    default: break;
  }
}

void Clipboard::formats(ByteView body, unsigned flags) {
  const bool ascii = (flags & kAsciiNames) != 0;
  auto forms = formsIn(readFormatList(body, theirLongNames_ && !ascii, ascii));
  ++list_;
  if (!forms.empty()) events_.clipCame(std::make_shared<Remote>(strand_, self_, list_, std::move(forms)));
}

/// 2.2.5.1: answered when our side has it.
void Clipboard::request(LittleReader& in) {
  const std::uint32_t format = in.u32();
  const auto form = formOf(format);
  if (!offered_ || !form) return events_.send(message(kDataResponse, kFail, {}));
  offered_->fetch(*form, [strand = strand_, owner = std::weak_ptr(self_),
                          format](std::optional<Bytes> content) {
    post(strand, [owner, format, content = std::move(content)] {
      const auto there = owner.lock();
      if (!there) return;
      auto body = content ? toWire(format, *content) : std::nullopt;
      if (body && body->size() > kMostClip) body.reset();
      (*there)->events_.send(message(kDataResponse, body ? kOk : kFail, body ? ByteView(*body) : ByteView()));
    });
  });
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
  wish.got(good ? fromWire(wish.format, body) : std::nullopt);
  askNext();
}

}  // namespace kw::rdp
