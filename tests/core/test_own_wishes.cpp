// Small rules of their own: which screens are asked for, which forms of a clip pass, which ports are ours.
#include <netinet/in.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "record/checks.hpp"
#include "record/own_ports.hpp"
#include "route/engine.hpp"
#include "session/limited_clip.hpp"
#include "session/screen_wish.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

std::vector<ScreenOffer> offered(std::size_t count, Size first) {
  std::vector<ScreenOffer> out(count);
  for (std::size_t i = 0; i < count; ++i) out[i].id = static_cast<std::uint32_t>(i);
  out[0].on = true, out[0].area = {0, 0, first.width, first.height};
  return out;
}

/// This program under another name, listening at a port of loopback.
class Named {
 public:
  explicit Named(const char* name) : socket_(socket(AF_INET, SOCK_STREAM, 0)) {
    prctl(PR_GET_NAME, before_);
    prctl(PR_SET_NAME, name);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof at;
    REQUIRE(bind(socket_, reinterpret_cast<sockaddr*>(&at), size) == 0);
    REQUIRE(listen(socket_, 1) == 0);
    REQUIRE(getsockname(socket_, reinterpret_cast<sockaddr*>(&at), &size) == 0);
    port = ntohs(at.sin_port);
  }
  ~Named() {
    prctl(PR_SET_NAME, before_);
    close(socket_);
  }
  int port = 0;

 private:
  char before_[16] = {};
  int socket_;
};

}  // namespace

TEST_CASE("Screens that a record wishes: how many, on which side, like the monitors", "[screens]") {
  const auto offers = offered(3, {1280, 800});
  CHECK(wishedScreens({}, offers, {}).empty());
  ScreenWish two{2, false, ScreensLie::Right};
  auto plan = wishedScreens(two, offers, {});
  REQUIRE(plan.size() == 3);
  CHECK(plan[0].area == Rect{0, 0, 1280, 800});
  CHECK(plan[1].area == Rect{1280, 0, 1280, 800});
  CHECK((plan[1].on && !plan[2].on));
  // Nothing is asked for that is so already.
  CHECK(wishedScreens(two, plan, {}).empty());
  two.lie = ScreensLie::Left;
  plan = wishedScreens(two, plan, {});
  CHECK(plan[0].area == Rect{1280, 0, 1280, 800});
  CHECK(plan[1].area == Rect{0, 0, 1280, 800});
  const ScreenWish three{4, false, ScreensLie::Below};  // one more than there are
  plan = wishedScreens(three, offers, {});
  CHECK(plan[2].area == Rect{0, 1600, 1280, 800});
  CHECK(plan[2].on);
  // One is asked for: the others go out.
  const auto one = wishedScreens({1, false, ScreensLie::Right}, plan, {});
  CHECK(std::count_if(one.begin(), one.end(), [](const auto& s) { return s.on; }) == 1);
  // The main monitor in the middle of three.
  const std::vector<Rect> monitors{{0, 0, 1920, 1080}, {-1280, 56, 1280, 1024}, {1920, 0, 1080, 1920}};
  const ScreenWish like{0, true, ScreensLie::Right};
  plan = wishedScreens(like, offers, monitors);
  CHECK(plan[0].area == Rect{1280, 0, 1920, 1080});
  CHECK(plan[1].area == Rect{0, 56, 1280, 1024});
  CHECK(plan[2].area == Rect{3200, 0, 1080, 1920});
  CHECK(wishedScreens(like, {}, monitors).empty());
  // Some of them, in an order of one's own.
  using Numbers = std::vector<std::size_t>;
  CHECK(chosenMonitors("3, 1") == Numbers{3, 1});
  CHECK(chosenMonitors("2;2 x 99999999999999999999 0 17 3") == Numbers{2, 3});
  CHECK(chosenMonitors("").empty());
  ScreenWish some = like;
  some.chosen = {3, 1};
  CHECK(chosenOf(some, monitors) == std::vector<Rect>{monitors[2], monitors[0]});
  some.chosen = {9};
  CHECK(chosenOf(some, monitors) == monitors);
}

TEST_CASE("A clip carries what the record lets pass, and no more", "[clipboard]") {
  struct Rich : Clip {
    [[nodiscard]] std::set<ClipForm> forms() const override {
      return {ClipForm::Text, ClipForm::Html, ClipForm::Rtf, ClipForm::Picture, ClipForm::Files};
    }
    void fetch(ClipForm form, Got got) override { got(Bytes{static_cast<std::uint8_t>(form)}); }
    void list(Listed listed) override { listed(std::vector<ClipFile>(1)); }
    void read(std::size_t, std::uint64_t, std::uint32_t, Got got) override { got(Bytes{1}); }
  };
  const auto with = [](const std::string& kinds) {
    const Policy policy = policyOf(overlaid(builtInSettings(), {{"clipboard.kinds", kinds}}));
    return LimitedClip(std::make_shared<Rich>(), policy);
  };
  CHECK(with("all").forms().size() == 5);
  CHECK(with("pictures").forms().size() == 4);
  CHECK_FALSE(with("pictures").forms().contains(ClipForm::Files));
  CHECK(with("formatted").forms() == std::set<ClipForm>{ClipForm::Text, ClipForm::Html, ClipForm::Rtf});
  CHECK(with("plain").forms() == std::set<ClipForm>{ClipForm::Text});
  // Asked for all the same, it gives nothing.
  const auto gives = [&](const std::string& kinds, ClipForm form) {
    bool given = false;
    with(kinds).fetch(form, [&](std::optional<Bytes> content) { given = content.has_value(); });
    return given;
  };
  CHECK(gives("all", ClipForm::Picture));
  CHECK_FALSE(gives("formatted", ClipForm::Picture));
  CHECK_FALSE(gives("plain", ClipForm::Html));
  CHECK(gives("plain", ClipForm::Text));
  for (const bool all : {true, false}) {
    LimitedClip clip = with(all ? "all" : "pictures");
    clip.list([&](const auto& files) { CHECK(files.has_value() == all); });
    clip.read(0, 0, 1, [&](const auto& content) { CHECK(content.has_value() == all); });
  }
}

TEST_CASE("A way in to a port of this product's own programs is told of", "[checks]") {
  const auto troubles = [](const std::string& address, const std::string& via = "") {
    Snapshot records;
    Endpoint way;
    way.id = 1, way.machine = 1, way.address = address;
    SettingChanges typed{{{OwnerKind::WayIn, 1}, {{"route.via", via}}}};
    int told = 0;
    for (const RecordCheck& c : checksOf(records, way, &typed))
      if (c.sentence.find("is kettle-gate's own") != std::string::npos && c.trouble) ++told;
    return told;
  };
  std::string address;
  {
    const Named gate("kettle-gate");
    address = "vnc://127.0.0.1:" + std::to_string(gate.port);
    CHECK(ownPorts().at(gate.port) == "kettle-gate");
    CHECK(troubles(address) == 1);
    CHECK(troubles("vnc://localhost:" + std::to_string(gate.port)) == 1);
    CHECK(troubles("vnc://127.0.0.1:" + std::to_string(gate.port - 1)) == 0);
    // Another computer's port, and one that is reached from elsewhere.
    CHECK(troubles("vnc://mist-bench:" + std::to_string(gate.port)) == 0);
    CHECK(troubles(address, "ssh://duty@127.0.0.29") == 0);
    CHECK(troubles(address + "?via=ssh://duty@127.0.0.29") == 0);
  }
  CHECK(troubles(address) == 0);
  // A program of another name may listen where it likes.
  const Named other("kettle-lab");
  CHECK(troubles("vnc://127.0.0.1:" + std::to_string(other.port)) == 0);
}
