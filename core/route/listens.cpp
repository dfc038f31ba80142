#include "route/listens.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/runtime.hpp"

namespace kw {

namespace {

/// Whatever comes within the limit, at most 256 bytes; empty when nothing does.
Task<std::string> firstBytes(ByteStream& stream, std::chrono::nanoseconds limit) {
  std::string out;
  const auto read = [&]() -> Task<void> {
    Byte part[256];
    const std::size_t n = co_await stream.readSome(part);
    out.assign(reinterpret_cast<const char*>(part), n);
  };
  try {
    co_await within(limit, "greeting", read());
  } catch (const Error&) {
    // Says nothing, or hangs up: both tell something to the caller.
  }
  co_return out;
}

std::string firstLine(const std::string& text) {
  std::string line = text.substr(0, text.find_first_of("\r\n")).substr(0, 60);
  std::erase_if(line, [](char c) { return static_cast<unsigned char>(c) < 0x20; });
  return cleanUtf8(line);
}

struct Probe {
  Bytes question;
  Listening (*judge)(const std::string& answer);
};

Listening asTls(const std::string& a) {
  // RFC 8446 5.1: a record of kind handshake (22) or alert (21), version 3.x.
  if (a.size() >= 3 && (a[0] == 22 || a[0] == 21) && a[1] == 3)
    return {"tls", "a service that speaks TLS first"};
  return {};
}
Listening asHttp(const std::string& a) {
  return a.starts_with("HTTP/") ? Listening{"http", "a web server (" + firstLine(a) + ")"} : Listening{};
}
Listening asTpkt(const std::string& a) {
  // T.123 8 and X.224 13.4: version 3, then a connection confirm.
  if (a.size() >= 6 && a[0] == 3 && a[1] == 0 && static_cast<unsigned char>(a[5]) == 0xd0)
    return {"rdp", "a remote desktop service (RDP)"};
  return {};
}
Listening asSpice(const std::string& a) {
  return a.starts_with("REDQ") ? Listening{"spice", "a SPICE console"} : Listening{};
}

/// The beginning of a TLS 1.2 handshake that offers one suite: enough for any server to answer with a record.
Bytes clientHello() {
  ByteWriter body;
  body.u16(0x0303).zeros(32).u8(0).u16(2).u16(0xc02f).u8(1).u8(0);
  ByteWriter out;
  out.u8(22).u16(0x0301).u16(static_cast<unsigned>(body.size() + 4));
  out.u8(1).u8(0).u16(static_cast<unsigned>(body.size())).bytes(body.view());
  return out.take();
}

std::vector<Probe> probes() {
  const auto text = [](std::string_view t) { return Bytes(t.begin(), t.end()); };
  Bytes link = text("REDQ");
  for (const Byte b : {2, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0}) link.push_back(b);
  return {{{3, 0, 0, 19, 14, 0xe0, 0, 0, 0, 0, 0, 1, 0, 8, 0, 3, 0, 0, 0}, asTpkt},
          {link, asSpice},
          {clientHello(), asTls},
          {text("GET / HTTP/1.0\r\n\r\n"), asHttp}};
}

}  // namespace

Listening fromGreeting(const std::string& g) {
  if (g.starts_with("SSH-")) return {"ssh", "an SSH server (" + firstLine(g) + ")"};
  if (g.starts_with("RFB ")) return {"vnc", "a VNC console (" + firstLine(g) + ")"};
  if (g.starts_with("REDQ")) return {"spice", "a SPICE console"};
  if (g.starts_with("HTTP/")) return {"http", "a web server (" + firstLine(g) + ")"};
  if (g.starts_with("220 ")) return {"mail", "a mail or file transfer server (" + firstLine(g) + ")"};
  if (!g.empty() && static_cast<unsigned char>(g[0]) == 0xff) return {"line", "a telnet service"};
  if (Listening tls = asTls(g); !tls.family.empty()) return tls;
  const bool readable = !g.empty() && std::all_of(g.begin(), g.end(), [](char c) {
    return c == '\r' || c == '\n' || c == '\t' || static_cast<unsigned char>(c) >= 0x20 || c == 0x1b;
  });
  if (readable) return {"prompt", "a line of text (\"" + firstLine(g) + "\")"};
  return {};
}

Task<Listening> whatListens(std::string host, std::uint16_t port, std::chrono::nanoseconds limit) {
  {
    const StreamPtr stream = co_await connectTcp(host, port, limit);
    const Listening said = fromGreeting(co_await firstBytes(
        *stream, std::min<std::chrono::nanoseconds>(limit, std::chrono::milliseconds(700))));
    stream->close();
    if (!said.family.empty()) co_return said;
  }
  for (const Probe& probe : probes()) {
    const StreamPtr stream = co_await connectTcp(host, port, limit);
    std::string answer;
    try {
      co_await stream->write(probe.question);
      answer = co_await firstBytes(
          *stream, std::min<std::chrono::nanoseconds>(limit, std::chrono::milliseconds(1500)));
    } catch (const Error&) {
      // Hung up on this question.
    }
    stream->close();
    Listening found = probe.judge(answer);
    if (found.family.empty()) found = fromGreeting(answer);
    if (!found.family.empty()) co_return found;
  }
  co_return Listening{"", "something that says nothing we know"};
}

}  // namespace kw
