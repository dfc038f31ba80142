#include "host/guest_agent.hpp"

#include <sodium.h>

#include <random>

#include "base/error.hpp"

namespace kw::host {

using Json = nlohmann::json;

namespace {

constexpr std::size_t kMostFile = 1 << 20, kMostAnswer = 4 << 20;
constexpr int kPiece = 48 << 10;
constexpr char kSentinel = static_cast<char>(0xff);

/// What a guest says is of whatever type it likes.
bool yesAt(const Json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_boolean() && found->get<bool>();
}
std::string textAt(const Json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_string() ? cleanUtf8(found->get<std::string>()) : std::string();
}

std::string pieceOf(const Json& answer) {
  const auto text = answer.find("buf-b64");
  if (text == answer.end() || !text->is_string()) protocolBroken("guest agent", "a piece without its bytes");
  const auto& packed = text->get_ref<const std::string&>();
  std::string out(packed.size(), '\0');
  std::size_t size = 0;
  if (sodium_base642bin(reinterpret_cast<unsigned char*>(out.data()), out.size(), packed.data(),
                        packed.size(), nullptr, &size, nullptr, sodium_base64_VARIANT_ORIGINAL) != 0)
    protocolBroken("guest agent", "a piece that is no base64");
  out.resize(size);
  return out;
}

}  // namespace

Task<std::string> readFileByAgent(AgentCall call, std::string path) {
  const Json open{{"path", path}, {"mode", "r"}};
  const Json handle = co_await call("guest-file-open", open);
  if (!handle.is_number_integer()) protocolBroken("guest agent", "a file without a handle");
  std::string out;
  const Json piece{{"handle", handle}, {"count", kPiece}};
  for (bool end = false; !end && out.size() < kMostFile;) {
    const Json answer = co_await call("guest-file-read", piece);
    const std::string more = pieceOf(answer);
    out += more;
    end = more.empty() || yesAt(answer, "eof");
  }
  const Json close{{"handle", handle}};
  co_await call("guest-file-close", close);
  co_return out;
}

bool reachesOut(const std::string& address) {
  return !address.empty() && !address.starts_with("127.") && address != "::1" &&
         !address.starts_with("fe80:");
}

Task<std::vector<std::string>> addressesByAgent(AgentCall call) {
  const Json none = Json::object();
  const Json interfaces = co_await call("guest-network-get-interfaces", none);
  std::vector<std::string> out;
  if (!interfaces.is_array()) co_return out;
  for (const Json& one : interfaces) {
    if (!one.is_object() || !one.contains("ip-addresses") || !one["ip-addresses"].is_array()) continue;
    for (const Json& a : one["ip-addresses"]) {
      if (std::string text = textAt(a, "ip-address"); reachesOut(text)) out.push_back(std::move(text));
    }
  }
  co_return out;
}

Task<void> AgentSocket::begin() {
  const int mark = static_cast<int>(std::random_device{}() & 0xffffff);
  const std::string ask =
      kSentinel + Json{{"execute", "guest-sync-delimited"}, {"arguments", {{"id", mark}}}}.dump() + "\n";
  co_await stream_->write(viewOf(ask));
  for (;;) {
    const Json got = co_await answer();
    if (got.is_object() && got.contains("return") && got["return"] == mark) co_return;
  }
}

Task<Json> AgentSocket::call(std::string command, Json arguments) {
  const std::string ask = Json{{"execute", command}, {"arguments", arguments}}.dump() + "\n";
  co_await stream_->write(viewOf(ask));
  Json got = co_await answer();
  if (!got.is_object()) protocolBroken("guest agent", "a line is no JSON object");
  if (const auto error = got.find("error"); error != got.end()) {
    const std::string why = textAt(*error, "desc");
    throw Error(ErrorKind::Local, "the guest's agent says: " + (why.empty() ? "refused" : why));
  }
  co_return got.contains("return") ? got["return"] : Json();
}

/// A line, without what stands before the last sentinel.
Task<Json> AgentSocket::answer() {
  for (;;) {
    if (const auto end = waiting_.find('\n'); end != std::string::npos) {
      std::string line = waiting_.substr(0, end);
      waiting_.erase(0, end + 1);
      if (const auto mark = line.rfind(kSentinel); mark != std::string::npos) line.erase(0, mark + 1);
      if (Json message = Json::parse(line, nullptr, false); message.is_object()) co_return message;
      continue;
    }
    if (waiting_.size() > kMostAnswer) protocolBroken("guest agent", "a line is too long");
    Byte part[8192];
    const std::size_t n = co_await stream_->readSome(part);
    waiting_.append(reinterpret_cast<const char*>(part), n);
  }
}

}  // namespace kw::host
