// The RDP engine against a real desktop's service: network sign-in only, the graphics pipeline, sound,
// clipboard, screens of the visitor's own size.
#include <mutex>

#include "tests/heavy/desktop_service.hpp"
#include "tests/tone_maker.hpp"

using namespace kw;
using namespace kw::test;

namespace {

constexpr std::chrono::seconds kPatience{40};
/// What the service's quantisation leaves of a colour; 30 was seen.
constexpr int kPipelineRounding = 40;

/// The service now and then drops who comes right after another one left; he comes again, as a session does.
std::unique_ptr<Viewer> visit(const DesktopService& service, std::map<std::string, std::string> settings) {
  auto viewer = std::make_unique<Viewer>(service.opening(std::move(settings)));
  const bool live = viewer->live(kPatience);
  INFO(viewer->status().sentence);
  REQUIRE(live);
  return viewer;
}

/// Waits until what is shown is the desktop's own picture, each colour within `most`; the last difference is
/// left in `difference`, -1 while the sizes differ.
bool showsDesktop(Viewer& viewer, const DesktopService& service, int most, int& difference) {
  return viewer.until(
      [&] {
        const Framebuffer truth = service.truth();
        const Framebuffer shown = viewer.picture();
        difference =
            truth.size().empty() || shown.size() != truth.size() ? -1 : largestDifference(shown, truth);
        return difference >= 0 && difference <= most;
      },
      kPatience);
}

/// What this desktop's clipboard and loudspeaker get.
struct DeskEars : SessionObserver {
  void clipboardText(const std::string& utf8) override {
    const std::lock_guard lock(mutex);
    text = utf8;
  }
  void soundBegins(SoundForm f) override {
    const std::lock_guard lock(mutex);
    form = f;
  }
  void sound(ByteView s) override {
    const std::lock_guard lock(mutex);
    samples.insert(samples.end(), s.begin(), s.end());
  }
  std::mutex mutex;
  std::string text;
  SoundForm form;
  Bytes samples;
};

/// The loudest second of what was heard.
Bytes loudestSecond(const Bytes& samples, const SoundForm& form) {
  const std::size_t second = static_cast<std::size_t>(form.rate * form.channels) * 2;
  Bytes best;
  double most = 0;
  for (std::size_t at = 0; at + second <= samples.size(); at += second / 4 / 4 * 4) {
    double power = 0;
    for (std::size_t i = at; i < at + second; i += 2) {
      const double v = static_cast<std::int16_t>(loadLe16(&samples[i]));
      power += v * v;
    }
    if (power <= most) continue;
    most = power;
    best.assign(samples.begin() + static_cast<std::ptrdiff_t>(at),
                samples.begin() + static_cast<std::ptrdiff_t>(at + second));
  }
  return best;
}

}  // namespace

TEST_CASE("A real desktop's service: what it draws is seen, through the pipeline and without it", "[rdp]") {
  if (!DesktopService::possible()) return;
  const DesktopService service(DesktopService::Mode::Mirror);
  struct Try {
    const char* codec;
    const char* form;
    int mostDifference;  ///< what the codec's rounding leaves
  };
  for (const Try& t : {Try{"auto", "progressive", kPipelineRounding},
                       Try{"remotefx", "RemoteFX", kPipelineRounding}, Try{"nscodec", "NSCodec", 4}}) {
    CAPTURE(t.codec);
    const auto viewer = visit(service, {{"rdp.codec", t.codec}});
    CHECK(viewer->route().sealed);
    int difference = -1;
    const bool same = showsDesktop(*viewer, service, t.mostDifference, difference);
    CAPTURE(difference);
    CHECK(same);
    CHECK(viewer->saw(t.form));
  }
}

TEST_CASE("A real desktop's service: keys are typed there", "[rdp]") {
  if (!DesktopService::possible()) return;
  const DesktopService service(DesktopService::Mode::Mirror);
  const auto viewer = visit(service, {});
  viewer->click({400, 300});
  const Framebuffer before = service.truth();
  CHECK(viewer->until(
      [&] {
        viewer->type("fern ");
        return !samePixels(before, service.truth());
      },
      kPatience));
}

TEST_CASE("A real desktop's service: text is copied both ways, and a tone is heard as it is", "[rdp]") {
  if (!DesktopService::possible()) return;
  DesktopService service(DesktopService::Mode::Mirror);
  const auto viewer = visit(service, {{"sound.play", "on"}});
  const auto ears = std::make_shared<DeskEars>();
  viewer->session().observe(ears);
  viewer->session().setSound(true);
  service.copy("Alder Vale, fern house");
  CHECK(viewer->until(
      [&] {
        const std::lock_guard lock(ears->mutex);
        return ears->text == "Alder Vale, fern house";
      },
      kPatience));
  // Sent once more until it is there: the service may still be taking over the one before.
  CHECK(viewer->until(
      [&] {
        viewer->session().offerClipboard("glasshouse, bed 7");
        return service.clipboard() == "glasshouse, bed 7";
      },
      kPatience));
  service.playTone(20);
  double share = 0;
  CHECK(viewer->until(
      [&] {
        const std::lock_guard lock(ears->mutex);
        if (ears->form.rate == 0) return false;
        const Bytes loud = loudestSecond(ears->samples, ears->form);
        if (loud.empty()) return false;
        share = toneShare(loud, ears->form.channels, 0, ears->form.rate);
        return share > 0.98;
      },
      kPatience));
  CAPTURE(share);
  CHECK(viewer->soundBytes() > 0);
}

TEST_CASE("A real desktop's service: a visitor's screen takes the size of his pane", "[rdp]") {
  if (!DesktopService::possible()) return;
  const DesktopService service(DesktopService::Mode::Extend);
  const auto viewer = visit(service, {{"rdp.size", "1000x700"}, {"screen.size", "follow"}});
  for (const Size size : {Size{1200, 800}, Size{900, 620}}) {
    CAPTURE(size.width);
    viewer->session().requestSize(size);
    CHECK(viewer->until([&] { return viewer->picture().size() == size; }, kPatience));
    int difference = -1;
    const bool same = showsDesktop(*viewer, service, kPipelineRounding, difference);
    CAPTURE(difference);
    CHECK(same);
  }
}
