#include "gate/gate_client.hpp"

#include "base/clock.hpp"
#include "gate/outbox.hpp"
#include "wire/tls.hpp"

namespace kw::gate {

namespace {

using Json = nlohmann::json;

constexpr auto kLimit = std::chrono::seconds(10), kPing = std::chrono::seconds(15);
constexpr std::size_t kMostAnswer = 1 << 20, kMostMessage = std::size_t{8} << 20;

struct Answer {
  int status = 0;
  std::string cookie, body;
};

/// One answer of our own gateway: its length is always said.
Task<Answer> readAnswer(ByteStream& stream) {
  std::string text;
  std::size_t wanted = kMostAnswer;
  Byte part[4096];
  while (text.size() < wanted) {
    const std::size_t n = co_await stream.readSome(part);
    text.append(reinterpret_cast<const char*>(part), n);
    const auto end = text.find("\r\n\r\n");
    if (end == std::string::npos || wanted != kMostAnswer) continue;
    const std::string head = lowered(text.substr(0, end));
    const auto length = head.find("content-length: ");
    wanted =
        end + 4 +
        (length == std::string::npos ? 0 : static_cast<std::size_t>(std::atoll(head.c_str() + length + 16)));
    if (wanted > kMostAnswer) protocolBroken("the gateway's answer", "it is too long");
  }
  if (!text.starts_with("HTTP/1.1 ") || text.size() < 12)
    protocolBroken("the gateway's answer", "it is no HTTP");
  Answer out;
  out.status = std::atoi(text.c_str() + 9);
  const auto end = text.find("\r\n\r\n");
  out.body = text.substr(end + 4);
  if (const auto at = text.find("kettle-gate="); at < end)
    out.cookie = text.substr(at + 12, text.find(';', at) - at - 12);
  co_return out;
}

}  // namespace

GateClient::GateClient(Executor strand, ClientPlan plan, std::function<void(const ClientView&)> told)
    : strand_(std::move(strand)), plan_(std::move(plan)), told_(std::move(told)) {}

void GateClient::start() {
  spawn(strand_, [self = shared_from_this()] { return self->run(); });
}

void GateClient::stop() {
  post(strand_, [self = shared_from_this()] {
    self->stopping_ = true;
    self->told_ = nullptr;
    if (self->out_) self->out_->stop();
  });
}

void GateClient::send(Json message) {
  post(strand_, [self = shared_from_this(), text = message.dump()] {
    if (self->out_) self->out_->put(text);
  });
}

void GateClient::tell() {
  if (told_) told_(view_);
}

Task<StreamPtr> GateClient::connect() {
  TlsClientOptions tls;
  tls.hostName = plan_.host;
  tls.decide = plan_.decide;
  StreamPtr plain = co_await connectTcp(plan_.host, static_cast<std::uint16_t>(plan_.port), kLimit);
  co_return co_await startTls(std::move(plain), std::move(tls));
}

Task<std::string> GateClient::signIn() {
  const StreamPtr stream = co_await connect();
  const std::string host = plan_.host + ":" + std::to_string(plan_.port);
  const std::string body =
      Json{{"name", plan_.user}, {"password", plan_.password}, {"code", plan_.code}}.dump();
  const std::string request = "POST /sign-in HTTP/1.1\r\nHost: " + host + "\r\nOrigin: https://" + host +
                              "\r\nContent-Type: application/json\r\nConnection: close\r\nContent-Length: " +
                              std::to_string(body.size()) + "\r\n\r\n" + body;
  co_await stream->write(viewOf(request));
  const Answer answer = co_await readAnswer(*stream);
  if (answer.status != 200 || answer.cookie.empty()) {
    const Json said = Json::parse(answer.body, nullptr, false);
    throw Error(ErrorKind::SignInFailed,
                said.is_object() && said.contains("error") ? cleanUtf8(said["error"].get<std::string>())
                                                           : "the gateway refuses",
                host);
  }
  co_return answer.cookie;
}

Task<void> GateClient::run() {
  const auto self = shared_from_this();
  try {
    const std::string cookie = co_await signIn();
    StreamPtr stream = co_await connect();
    const std::string host = plan_.host + ":" + std::to_string(plan_.port);
    const std::string more = "\r\nOrigin: https://" + host + "\r\nCookie: kettle-gate=" + cookie;
    const std::string place = "/live";
    const auto socket = co_await openWebSocket(std::move(stream), host + more, place);
    out_ = std::make_shared<Outbox>(strand_, socket);
    if (stopping_) out_->stop();
    spawn(strand_, [out = out_] { return out->run(); });
    spawn(strand_, [self, out = out_]() -> Task<void> {
      while (!self->stopping_ && self->out_ == out) {
        co_await systemClock()->sleep(kPing);
        out->put("{\"ping\":0}");
      }
    });
    out_->put("{\"passes\":true}");
    view_.stage = ClientStage::SignedIn;
    view_.sentence.clear();
    for (;;) {
      const WebSocketMessage message = co_await socket->receive();
      if (message.bytes.size() > kMostMessage) protocolBroken("the gateway's message", "it is too long");
      const std::string text = textOf(message.bytes);
      const Json json = Json::parse(text, nullptr, false);
      if (json.is_object()) take(json);
    }
  } catch (const std::exception& e) {
    view_.sentence = e.what();
  }
  out_.reset();
  view_.stage = ClientStage::Lost;
  tell();
}

void GateClient::take(const Json& m) {
  if (m.contains("me")) view_.me = m["me"];
  if (m.contains("machines") && m["machines"].is_array()) view_.machines = m["machines"];
  if (m.contains("passes") && m["passes"].is_array()) view_.passes = m["passes"];
  if (m.contains("audit") && m["audit"].is_object()) view_.audit = m["audit"];
  if (m.contains("seen") && m["seen"].is_object()) view_.seen = std::make_shared<const Json>(m["seen"]);
  if (m.contains("error") && m["error"].is_string()) view_.said = cleanUtf8(m["error"].get<std::string>());
  if (m.contains("passMade") && m["passMade"].is_object() && out_) {
    view_.passPath = m["passMade"].value("path", "");
    out_->put("{\"passes\":true}");
  }
  tell();
  view_.seen.reset();
  view_.said.clear();
}

}  // namespace kw::gate
