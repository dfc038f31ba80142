// A whole session of a remote desktop whose page scrolls thirty times a second: what it costs this desk.
#include <time.h>

#include <future>
#include <thread>

#include "base/runtime.hpp"
#include "bench/bench.hpp"
#include "bench/rdp_visit.hpp"
#include "bench/scene.hpp"
#include "rdp/server.hpp"

namespace kw::bench {

using namespace kw::rdp;

namespace {

constexpr Size kSize{1920, 1080};
constexpr int kFrames = 90, kStep = 24;
constexpr std::chrono::nanoseconds kFrameTime = std::chrono::nanoseconds(1'000'000'000) / 30;

/// Of the one thread of a runtime so far.
std::chrono::nanoseconds processorTime(Runtime& runtime) {
  std::promise<std::chrono::nanoseconds> out;
  post(runtime.strand(), [&] {
    timespec t{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    out.set_value(std::chrono::seconds(t.tv_sec) + std::chrono::nanoseconds(t.tv_nsec));
  });
  return out.get_future().get();
}

/// The page moves up; what comes from below is the page again.
void scroll(Framebuffer& shown, const Framebuffer& page, int frame) {
  shown.copy({0, kStep}, {0, 0, kSize.width, kSize.height - kStep});
  const int from = frame * kStep % (kSize.height - kStep);
  for (int y = 0; y < kStep; ++y)
    std::copy_n(page.row(from + y), kSize.width, shown.row(kSize.height - kStep + y));
}

/// Percent of one processor.
double shareWhileScrolling(const Framebuffer& page, PipelineForm form) {
  Runtime far(1), near(1);
  const Executor there = far.strand(), here = near.strand();
  auto shown = std::make_shared<Framebuffer>(kSize);
  shown->put(shown->rect(), page.row(0));
  ServerOptions serving;
  serving.certificate = makeSelfSigned("mist-bench");
  serving.account = [](const NtlmAccount&) { return KnownAccount{"fern-house", 0}; };
  serving.pipeline = form;
  ServerEvents nobody;
  Server server(there, shown, serving, nobody);
  const auto listener = listenTcp(there, "127.0.0.1", 0);
  RdpVisit desk(kSize);
  std::promise<void> ready;
  desk.whole = [&ready] { ready.set_value(); };
  ClientOptions options;
  options.size = kSize;
  Client client(here, systemClock(), std::make_shared<Framebuffer>(Size{10, 10}), options, desk);
  std::promise<void> clientOver, serverOver;
  spawn(
      there,
      [&]() -> Task<void> {
        StreamPtr stream = co_await listener->accept();
        co_await server.run(std::move(stream));
      },
      [&](std::exception_ptr) { serverOver.set_value(); });
  spawn(
      here,
      [&]() -> Task<void> {
        const auto port = static_cast<std::uint16_t>(listener->port());
        Client::Dial dial = [port]() -> Task<StreamPtr> {
          co_return co_await connectTcp("127.0.0.1", port, std::chrono::seconds(5));
        };
        co_await client.run(std::move(dial));
      },
      [&](std::exception_ptr) { clientOver.set_value(); });
  ready.get_future().wait();
  const auto before = processorTime(near);
  const auto begun = std::chrono::steady_clock::now();
  for (int frame = 0; frame < kFrames; ++frame) {
    post(there, [&, frame] {
      {
        const auto lock = shown->lock();
        scroll(*shown, page, frame);
      }
      server.damaged(Region(shown->rect()));
    });
    std::this_thread::sleep_until(begun + kFrameTime * (frame + 1));
  }
  const auto spent = processorTime(near) - before;
  const auto took = std::chrono::steady_clock::now() - begun;
  post(here, [&] { client.close(); });
  clientOver.get_future().wait();
  post(there, [&] {
    server.close();
    listener->close();
  });
  serverOver.get_future().wait();
  return 100 * std::chrono::duration<double>(spent).count() / std::chrono::duration<double>(took).count();
}

}  // namespace

void benchRdpScrolling(Table& table) {
  const Framebuffer page = desktopScene(kSize);
  const std::pair<const char*, PipelineForm> forms[] = {{"planar", PipelineForm::Planar},
                                                        {"progressive", PipelineForm::Progressive}};
  for (const auto& [name, form] : forms)
    table.figure(std::string("rdp: a 1080p page that scrolls, 30 a second, ") + name,
                 shareWhileScrolling(page, form), "% of a processor");
}

}  // namespace kw::bench
