#include "route/checker.hpp"

#include "base/runtime.hpp"
#include "line/finder.hpp"
#include "route/engine.hpp"
#include "wire/stream.hpp"

namespace kw {

namespace {

/// What is told without a connection; true when that is all.
bool checkedByLooking(const Engine& engine, const Address& address, CheckResult& result) {
  const Look look = engine.look(address);
  if (look == Look::Path) {
    const std::string problem = problemWithPath(address.path, address.scheme == "unix");
    if (!problem.empty()) throw Error(ErrorKind::Unreachable, problem, address.path);
    result.listens = result.answers = true;
    result.sentence =
        address.scheme == "unix" ? "the socket is there" : "the device is there and may be opened";
  } else if (look == Look::Not) {
    result.untried = true;
    result.sentence = "one visitor at a time: tried when opened";
  }
  return look != Look::Connect;
}

Task<void> check(Address address, std::chrono::nanoseconds limit, CheckResult& result) {
  const Engine* engine = engineFor(address.scheme);
  if (engine == nullptr)
    throw Error(ErrorKind::Unsupported, "this version has no engine for it yet", address.scheme);
  if (checkedByLooking(*engine, address, result)) co_return;
  ConnectFindings findings;
  StreamPtr stream;
  if (!address.path.empty())
    stream = co_await connectUnix(address.path);
  else
    stream = co_await connectTcp(address.host, static_cast<std::uint16_t>(address.port), limit, &findings);
  result.listens = true;
  result.took = findings.took;
  if (engine->greets != nullptr)
    co_await within(limit, address.forPeople(), engine->greets(*stream, address));
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
