#include "gate/gate_state.hpp"

namespace kw::gate {

namespace {

constexpr Seconds kSignInLasts = 12 * 3600;

/// In a frame of another site the cookie belongs to that site's frame alone.
std::string cookieHeader(const std::string& token, Seconds lasts, bool embedded) {
  return std::string(kCookie) + "=" + token +
         "; HttpOnly; Secure; SameSite=" + (embedded ? "None; Partitioned" : "Strict") +
         "; Path=/; Max-Age=" + std::to_string(lasts);
}

}  // namespace

std::optional<Person> Gate::State::personOf(const Request& request) const {
  return store.person(request.cookie(kCookie), nowSeconds());
}

Json Gate::State::meJson(const Person& p) const {
  return {{"name", p.name},   {"role", nameOf(p.role)}, {"pass", p.pass != 0},
          {"way", p.onlyWay}, {"until", p.until},       {"gate", options.name}};
}

Task<Response> Gate::State::signIn(const Request& request, const std::string& from) {
  const Json body = Json::parse(request.body, nullptr, false);
  if (!body.is_object()) co_return refusal(400, "no sign-in");
  const auto text = [&](const char* key) {
    return body.contains(key) && body[key].is_string() ? body[key].get<std::string>() : std::string();
  };
  const std::string name = text("name"), password = text("password"), code = text("code");
  const std::string byName = "n " + name, byAddress = "a " + from;
  const Seconds now = nowSeconds();
  if (const Seconds wait = std::max(limiter.waits(byName, now), limiter.waits(byAddress, now)); wait > 0) {
    Response r = refusal(429, "too many wrong sign-ins: wait " + std::to_string(wait) + " s");
    r.headers["Retry-After"] = std::to_string(wait);
    co_return r;
  }
  const auto check = [this, name, password, code, now] {
    return store.mayIn(name, password, code, now, options.storeSignIn);
  };
  const bool right = co_await slow.run(check);
  if (!right) {
    limiter.wrong(byName, now);
    limiter.wrong(byAddress, now);
    store.audit(name.substr(0, 64), from, "sign-in refused");
    co_return refusal(401, "name, password or code is not right");
  }
  limiter.right(byName);
  limiter.right(byAddress);
  store.audit(name, from, "signs in");
  const std::string token = store.signIn(name, now + kSignInLasts);
  Response r = jsonResponse(200, meJson(*store.person(token, now)));
  r.headers["Set-Cookie"] = cookieHeader(token, kSignInLasts, !options.embedders.empty());
  co_return r;
}

Response Gate::State::signOut(const Request& request, const std::string& from) {
  if (const auto person = personOf(request)) store.audit(person->name, from, "signs out");
  store.signOut(request.cookie(kCookie));
  Response r = jsonResponse(200, {{"ok", true}});
  r.headers["Set-Cookie"] = cookieHeader("", 0, !options.embedders.empty());
  wake();
  return r;
}

Response Gate::State::usePass(const Request& request, const std::string& from) {
  const Json body = Json::parse(request.body, nullptr, false);
  const std::string token = body.is_object() && body.contains("pass") && body["pass"].is_string()
                                ? body["pass"].get<std::string>()
                                : "";
  const Seconds now = nowSeconds();
  const std::string byAddress = "p " + from;
  if (limiter.waits(byAddress, now) > 0) return refusal(429, "too many wrong passes: wait a little");
  const auto pass = store.passOf(token);
  if (!pass) {
    limiter.wrong(byAddress, now);
    store.audit("", from, "unknown pass refused");
    return refusal(401, "this pass does not exist");
  }
  std::string problem = problemWith(*pass, now);
  const auto rules = rulesFor(pass->wayIn);
  if (problem.empty() && (!rules || !rules->access || !rules->passes))
    problem = "switched off for this machine";
  // The same browser coming back with its sign-in is no further use.
  const auto person = personOf(request);
  const bool back = person && person->pass == pass->id;
  if (problem.empty() && !back && !store.usePass(pass->id, now)) problem = "used up";
  if (!problem.empty()) {
    store.audit(pass->note, from, "pass refused", {{"pass", pass->id}, {"why", problem}});
    return refusal(403, "this pass is " + problem);
  }
  if (back) return jsonResponse(200, meJson(*person));
  store.audit(pass->note, from, "pass used", {{"pass", pass->id}, {"machine", pass->machine}});
  const std::string cookie = store.signInByPass(pass->id, pass->until);
  Response r = jsonResponse(200, meJson(*store.person(cookie, now)));
  r.headers["Set-Cookie"] = cookieHeader(cookie, pass->until - now, !options.embedders.empty());
  return r;
}

}  // namespace kw::gate
