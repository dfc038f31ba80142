#include "route/checker.hpp"

#include "base/runtime.hpp"
#include "line/finder.hpp"
#include "wire/stream.hpp"

namespace kw {

namespace {

Task<void> readGreeting(ByteStream& stream, std::string& greeting) {
  Bytes bytes(12);
  while (greeting.size() < 12) {
    const std::size_t n = co_await stream.readSome(ByteSpan(bytes).first(12 - greeting.size()));
    greeting += textOf(ByteView(bytes).first(n));
  }
}

/// Lines that only one can use at a time are not touched before somebody opens them.
bool checkedByLooking(const Address& address, CheckResult& result) {
  if (address.scheme == "serial" || address.scheme == "unix") {
    const std::string problem = problemWithPath(address.path, address.scheme == "unix");
    if (!problem.empty()) throw Error(ErrorKind::Unreachable, problem, address.path);
    result.listens = result.answers = true;
    result.sentence =
        address.scheme == "unix" ? "the socket is there" : "the device is there and may be opened";
    return true;
  }
  if (address.scheme != "tcp" && address.scheme != "tls" && address.scheme != "telnet+serial") return false;
  result.untried = true;
  result.sentence = "one visitor at a time: tried when opened";
  return true;
}

Task<void> check(Address address, std::chrono::nanoseconds limit, CheckResult& result) {
  if (checkedByLooking(address, result)) co_return;
  ConnectFindings findings;
  StreamPtr stream;
  if (address.scheme == "vnc+unix")
    stream = co_await connectUnix(address.path);
  else
    stream = co_await connectTcp(address.host, static_cast<std::uint16_t>(address.port), limit, &findings);
  result.listens = true;
  result.took = findings.took;
  if (address.scheme.starts_with("vnc") || address.scheme == "ssh") {
    std::string greeting;
    co_await within(limit, address.forPeople(), readGreeting(*stream, greeting));
    const bool ssh = address.scheme == "ssh";
    if (!greeting.starts_with(ssh ? "SSH-" : "RFB "))
      protocolBroken(address.forPeople(),
                     ssh ? "something answers, but no SSH server" : "something answers, but no VNC console");
  }
  result.answers = true;
  stream->close();
}

}  // namespace

Task<CheckResult> checkAddress(Address address, std::chrono::nanoseconds limit) {
  CheckResult result;
  try {
    co_await check(address, limit, result);
    if (!result.sentence.empty()) co_return result;
    const auto ms = std::chrono::duration<double, std::milli>(result.took).count();
    char text[48];
    std::snprintf(text, sizeof text, ms < 10 ? "answers in %.1f ms" : "answers in %.0f ms", ms);
    result.sentence = text;
  } catch (const Error& e) {
    result.problem = e.kind();
    result.sentence =
        result.listens && e.kind() == ErrorKind::TimedOut ? "listens, but says nothing" : e.detail();
  } catch (const std::exception& e) {
    result.problem = ErrorKind::Local;
    result.sentence = e.what();
  }
  co_return result;
}

}  // namespace kw
