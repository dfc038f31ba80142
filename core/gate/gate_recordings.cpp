// Recordings, for keepers: listed, played, removed.
#include "gate/gate_state.hpp"
#include "gate/recording.hpp"

namespace kw::gate {

namespace {

constexpr std::size_t kMostPart = std::size_t{1} << 20;  // bytes of a recording in one answer
constexpr std::size_t kMostListed = 500;

std::string valueOf(const std::map<std::string, std::string>& query, const std::string& key) {
  const auto found = query.find(key);
  return found == query.end() ? "" : found->second;
}

}  // namespace

Task<void> Gate::State::tellRecordings(std::shared_ptr<Page> page) {
  const auto self = shared_from_this();
  if (!mayPlay(page->person)) {
    page->out->put(dumped({{"error", "only a keeper of this gateway plays recordings"}}));
    co_return;
  }
  const auto list = [folder = recordings()] { return recordingsIn(folder); };
  const auto found = co_await slow.run(list);
  Json out = Json::array();
  for (const RecordingFacts& f : found) {
    if (out.size() == kMostListed) break;
    out.push_back({{"file", f.file},
                   {"machine", f.machine},
                   {"label", f.label},
                   {"began", f.began},
                   {"lasted", f.lasted},
                   {"bytes", f.bytes},
                   {"people", f.people},
                   {"picture", f.picture}});
  }
  page->out->put(dumped({{"recordings", out}, {"all", found.size()}}));
}

void Gate::State::removeRecording(const std::shared_ptr<Page>& page, const Json& wish) {
  if (!mayPlay(page->person) || !wish.is_string()) return;
  try {
    gate::removeRecording(recordings(), wish.get<std::string>());
    store.audit(page->person.name, page->from, "removes a recording", {{"file", wish}});
  } catch (const Error& e) {
    page->out->put(dumped({{"error", e.what()}}));
  }
  spawn(strand, [self = shared_from_this(), page] { return self->tellRecordings(page); });
}

Task<Response> Gate::State::recordingPart(const Request& request, const std::string& from) {
  const auto self = shared_from_this();
  const auto person = personOf(request);
  if (!person) co_return refusal(401, "not signed in");
  if (!mayPlay(*person)) co_return refusal(403, "only a keeper of this gateway plays recordings");
  const std::string file = valueOf(request.query, "file"), at = valueOf(request.query, "from");
  if (at.empty() || at.size() > 15 || at.find_first_not_of("0123456789") != std::string::npos)
    co_return refusal(400, "no place in the recording");
  const std::uint64_t offset = std::stoull(at);
  const auto read = [folder = recordings(), file, offset] {
    return gate::recordingPart(folder, file, offset, kMostPart);
  };
  Response r;
  try {
    r.body = co_await slow.run(read);
  } catch (const Error& e) {
    co_return refusal(404, e.what());
  }
  if (offset == 0) store.audit(person->name, from, "plays a recording", {{"file", file}});
  r.type = "application/octet-stream";
  co_return r;
}

}  // namespace kw::gate
