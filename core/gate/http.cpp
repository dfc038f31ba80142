#include "gate/http.hpp"

#include <boost/asio/buffer.hpp>
#include <boost/beast/http/parser.hpp>
#include <boost/beast/http/string_body.hpp>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw::gate {

namespace {

namespace http = boost::beast::http;

const char* phraseFor(int status) { return http::obsolete_reason(static_cast<http::status>(status)).data(); }

}  // namespace

std::string percentDecoded(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto digit = [](char c) {
      return c >= '0' && c <= '9'   ? c - '0'
             : c >= 'a' && c <= 'f' ? c - 'a' + 10
             : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                    : -1;
    };
    if (text[i] == '%' && i + 2 < text.size() && digit(text[i + 1]) >= 0 && digit(text[i + 2]) >= 0) {
      out += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
      i += 2;
    } else {
      out += text[i] == '+' ? ' ' : text[i];
    }
  }
  return out;
}

std::string Request::cookie(const std::string& name) const {
  const std::string all = header("cookie");
  for (std::size_t at = 0; at < all.size();) {
    auto end = all.find(';', at);
    if (end == std::string::npos) end = all.size();
    const std::string one = all.substr(at, end - at);
    const auto begin = one.find_first_not_of(' ');
    if (begin != std::string::npos && one.compare(begin, name.size() + 1, name + "=") == 0)
      return one.substr(begin + name.size() + 1);
    at = end + 1;
  }
  return {};
}

bool Request::wantsWebSocket() const {
  return method == "GET" && lowered(header("upgrade")) == "websocket" &&
         lowered(header("connection")).find("upgrade") != std::string::npos &&
         header("sec-websocket-version") == "13" && !header("sec-websocket-key").empty();
}

RequestReader::RequestReader(ByteStream& stream) : stream_(stream) {}
RequestReader::~RequestReader() = default;

Bytes RequestReader::rest() { return std::exchange(buffer_, {}); }

Task<Request> RequestReader::next() {
  http::request_parser<http::string_body> parser;
  parser.header_limit(kMostHead);
  parser.body_limit(kMostBody);
  parser.eager(true);
  while (!parser.is_done()) {
    if (!buffer_.empty()) {
      boost::system::error_code code;
      const std::size_t used = parser.put(asio::buffer(buffer_.data(), buffer_.size()), code);
      buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(used));
      if (code && code != http::error::need_more) protocolBroken("HTTP request", code.message());
      if (parser.is_done()) break;
      if (used > 0 && !buffer_.empty()) continue;
      if (buffer_.size() > kMostHead) protocolBroken("HTTP request", "its head is too long");
    }
    Byte part[4096];
    const std::size_t n = co_await stream_.readSome(part);
    buffer_.insert(buffer_.end(), part, part + n);
  }
  const auto& message = parser.get();
  Request out;
  out.method = std::string(message.method_string());
  const std::string target(message.target());
  const auto question = target.find('?');
  out.path = percentDecoded(target.substr(0, question));
  if (question != std::string::npos) {
    const std::string query = target.substr(question + 1);
    for (std::size_t at = 0; at < query.size();) {
      auto end = query.find('&', at);
      if (end == std::string::npos) end = query.size();
      const std::string one = query.substr(at, end - at);
      const auto equals = one.find('=');
      out.query[percentDecoded(one.substr(0, equals))] =
          equals == std::string::npos ? "" : percentDecoded(one.substr(equals + 1));
      at = end + 1;
    }
  }
  for (const auto& field : message) {
    const std::string name = lowered(std::string(field.name_string()));
    // Two of what only one may be (RFC 9110 7.2) is nothing to guess about.
    if (name == "host" && out.headers.contains(name)) protocolBroken("HTTP request", "two hosts are named");
    out.headers[name] = std::string(field.value());
  }
  out.body = message.body();
  co_return out;
}

std::string contentPolicy(const std::vector<std::string>& embedders) {
  std::string out =
      "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; font-src 'self'; "
      "connect-src 'self'; worker-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors";
  for (const std::string& origin : embedders) out += " " + origin;
  return out + (embedders.empty() ? " 'none'" : "");
}

std::string printed(const Response& r, bool head) {
  std::string out = "HTTP/1.1 " + std::to_string(r.status) + " " + phraseFor(r.status) + "\r\n";
  std::map<std::string, std::string> headers{{"Content-Type", r.type},
                                             {"Content-Length", std::to_string(r.body.size())},
                                             {"Cache-Control", "no-store"},
                                             {"Content-Security-Policy", contentPolicy({})},
                                             {"X-Content-Type-Options", "nosniff"},
                                             {"Referrer-Policy", "no-referrer"},
                                             {"Cross-Origin-Opener-Policy", "same-origin"},
                                             {"Cross-Origin-Resource-Policy", "same-origin"},
                                             {"Strict-Transport-Security", "max-age=31536000"}};
  for (const auto& [name, value] : r.headers) headers[name] = value;
  for (const auto& [name, value] : headers) out += name + ": " + value + "\r\n";
  out += "\r\n";
  if (!head) out += r.body;
  return out;
}

}  // namespace kw::gate
