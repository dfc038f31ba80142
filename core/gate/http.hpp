// HTTP/1.1 for the gateway: requests read with limits, answers with the headers that keep a browser safe.
#pragma once
#include <map>
#include <string>
#include <vector>

#include "wire/stream.hpp"

namespace kw::gate {

struct Request {
  std::string method, path;                    ///< path without the query
  std::map<std::string, std::string> query;    ///< decoded
  std::map<std::string, std::string> headers;  ///< names in lower case
  std::string body;
  [[nodiscard]] std::string header(const std::string& name) const {
    const auto found = headers.find(name);
    return found == headers.end() ? "" : found->second;
  }
  /// The value of one cookie; empty when there is none.
  [[nodiscard]] std::string cookie(const std::string& name) const;
  [[nodiscard]] bool wantsWebSocket() const;
};

struct Response {
  int status = 200;
  std::string type = "application/json";
  std::string body;
  std::map<std::string, std::string> headers;
};

/// Reads requests from one connection, one after the other.
class RequestReader {
 public:
  static constexpr std::size_t kMostHead = 16384, kMostBody = 65536;
  explicit RequestReader(ByteStream& stream);
  ~RequestReader();
  /// Throws Error{ClosedByPeer} between requests, {ProtocolBroken} for what is no HTTP or too large.
  Task<Request> next();
  /// What was read beyond the last request: the first bytes of a WebSocket.
  [[nodiscard]] Bytes rest();

 private:
  ByteStream& stream_;
  Bytes buffer_;
};

/// The page's Content-Security-Policy; nobody but `embedders` may show it in a frame.
std::string contentPolicy(const std::vector<std::string>& embedders);
/// With the security headers of the gateway's page.
std::string printed(const Response& response, bool head);
std::string percentDecoded(const std::string& text);

}  // namespace kw::gate
