// A coroutine that is called on by another thread, bytes that are received there, and waiting for a socket.
#include <sys/socket.h>

#include "base/parking.hpp"
#include "ssh/inbox.hpp"
#include "ssh/socket_gate.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

Task<void> pauseOf(int microseconds) { return systemClock()->sleep(std::chrono::microseconds(microseconds)); }

/// Gives a wait up as soon as it has begun, unless it is over by then.
Task<void> giveUp(Task<void> waits) {
  auto pause = pauseOf(0);
  co_await firstOf(std::move(waits), std::move(pause));
}

Bytes counted(std::size_t from, std::size_t size) {
  Bytes out(size);
  for (std::size_t i = 0; i < size; ++i) out[i] = static_cast<Byte>((from + i) * 31 >> 3);
  return out;
}

}  // namespace

TEST_CASE("a call that comes before the wait is kept, once", "[base]") {
  Parking parking;
  parking.callOn();
  parking.callOn();
  std::optional<ErrorKind> second;
  runToEnd([&]() -> Task<void> {
    co_await parking.wait();
    const auto again = [&]() -> Task<void> { co_await parking.wait(); };
    try {
      co_await within(std::chrono::milliseconds(20), "a second call", again());
    } catch (const Error& e) {
      second = e.kind();
    }
  });
  CHECK(second == ErrorKind::TimedOut);
}

TEST_CASE("two threads call each other on, in turns", "[base]") {
  Parking here, there;
  Runtime runtime(1);
  constexpr int kRounds = 20'000;
  int rounds = 0;
  spawn(runtime.strand(), [&]() -> Task<void> {
    for (int i = 0; i < kRounds; ++i) {
      co_await there.wait();
      ++rounds;
      here.callOn();
    }
  });
  runToEnd([&]() -> Task<void> {
    for (int i = 0; i < kRounds; ++i) {
      there.callOn();
      co_await here.wait();
      if (rounds != i + 1) throw Error(ErrorKind::Local, "out of step");
    }
  });
  CHECK(rounds == kRounds);
}

TEST_CASE("who is parked may go on inside the call", "[base]") {
  Runtime runtime(1);
  Parking parking;
  std::atomic<bool> waits = false;
  std::promise<std::pair<bool, bool>> wentOn;  // inside the call, after a later one
  bool on = false;
  spawn(runtime.strand(), [&]() -> Task<void> {
    for (int i = 0; i < 2; ++i) {
      waits = true;
      co_await parking.wait();
      on = true;
    }
  });
  REQUIRE(eventually([&] { return waits.load(); }));
  post(runtime.strand(), [&] {
    parking.callOn(Parking::GoOn::Here);
    const bool inside = std::exchange(on, false);
    parking.callOn();
    wentOn.set_value({inside, on});
  });
  CHECK(wentOn.get_future().get() == std::pair(true, false));
  runtime.stop();
}

TEST_CASE("each call lets one wait return, also while waits are given up", "[base]") {
  Parking parking, taken;
  Runtime runtime(1);
  constexpr int kCalls = 3000;
  spawn(runtime.strand(), [&]() -> Task<void> {
    for (int i = 0; i < kCalls; ++i) {
      co_await pauseOf(i % 7 * 10);
      parking.callOn(i % 2 == 0 ? Parking::GoOn::Later : Parking::GoOn::Here);
      co_await taken.wait();
    }
  });
  int returned = 0, givenUp = 0;
  runToEnd([&]() -> Task<void> {
    for (int round = 0; returned < kCalls; ++round) {
      const int before = returned;
      const auto wait = [&]() -> Task<void> {
        if (co_await parking.wait()) ++returned;
      };
      auto waits = wait();
      auto pause = pauseOf(round % 50);
      co_await firstOf(std::move(waits), std::move(pause));
      if (returned == before)
        ++givenUp;
      else
        taken.callOn();
    }
  });
  CHECK(returned == kCalls);
  CHECK(givenUp > 0);
}

TEST_CASE("who is parked ends with his context", "[base]") {
  auto lives = std::make_shared<int>(0);
  const std::weak_ptr<int> seen = lives;
  Parking parking;
  std::atomic<bool> waits = false;
  {
    Runtime runtime(1);
    spawn(runtime.strand(), [&waits, &parking, lives]() -> Task<void> {
      const auto mine = lives;
      waits = true;
      co_await parking.wait();
    });
    lives.reset();
    REQUIRE(eventually([&] { return waits.load(); }));
  }
  CHECK(seen.expired());
  parking.callOn();  // reaches nobody, harmlessly
}

TEST_CASE("what is received goes to who waits, the rest is kept", "[ssh]") {
  Inbox inbox(16);
  Runtime runtime(1);
  Bytes into(8);
  std::atomic<bool> waits = false;
  std::promise<std::size_t> got;
  spawn(runtime.strand(), [&]() -> Task<void> {
    waits = true;
    got.set_value(co_await inbox.wait(into));
  });
  REQUIRE(eventually([&] { return waits.load(); }));
  std::promise<std::size_t> took;
  post(runtime.strand(), [&] {  // the reader's thread waits by now
    took.set_value(inbox.put(counted(0, 30)));
    inbox.tell(Inbox::GoOn::Later);
  });
  CHECK(took.get_future().get() == 24);
  CHECK(got.get_future().get() == 8);
  CHECK(into == counted(0, 8));
  CHECK(inbox.lies() == 16);
  Bytes rest(20);
  CHECK(inbox.take(rest) == 16);
  rest.resize(16);
  CHECK(rest == counted(8, 16));
}

TEST_CASE("a given-up read leaves its bytes to the next one", "[ssh]") {
  Inbox inbox(64);
  Bytes into(8), next(100);
  std::size_t n = 0;
  runToEnd([&]() -> Task<void> {
    const auto read = [&]() -> Task<void> { co_await inbox.wait(into); };
    const auto receive = [&]() -> Task<void> {
      inbox.put(counted(0, 12));  // eight into the waiting buffer; nobody is told
      co_return;
    };
    auto reading = read();
    auto receiving = receive();
    co_await firstOf(std::move(reading), std::move(receiving));
    inbox.put(counted(12, 10));
    for (std::size_t got = 1; got > 0; n += got) got = inbox.take(ByteSpan(next).subspan(n).first(5));
  });
  CHECK(n == 22);
  next.resize(n);
  CHECK(next == counted(0, 22));
}

TEST_CASE("the end is told after the last byte, whenever it came", "[ssh]") {
  Inbox inbox(64);
  const Error gone(ErrorKind::ClosedByPeer, "gone");
  std::optional<ErrorKind> told;
  std::size_t got = 0;
  Bytes into(8);
  const auto read = [&]() -> Task<void> {
    try {
      for (;;) {
        const std::size_t n = inbox.take(into);
        got += n > 0 ? n : co_await inbox.wait(into);
      }
    } catch (const Error& e) {
      told = e.kind();
    }
  };
  SECTION("with bytes that still lie") {
    inbox.put(counted(0, 20));
    inbox.end(gone);
    inbox.end(Error(ErrorKind::Cancelled, "later"));
    runToEnd(read);
    CHECK(got == 20);
  }
  SECTION("with bytes in the waiting buffer") {
    runToEnd([&]() -> Task<void> {
      const auto receive = [&]() -> Task<void> {
        inbox.put(counted(0, 5));
        inbox.end(gone);
        inbox.tell(Inbox::GoOn::Later);
        co_await Parking().wait();  // the reader ends this
      };
      auto reading = read();
      auto receiving = receive();
      co_await firstOf(std::move(reading), std::move(receiving));
    });
    CHECK(got == 5);
  }
  SECTION("to a reader who got nothing") {
    runToEnd([&]() -> Task<void> {
      const auto receive = [&]() -> Task<void> {
        inbox.end(gone);
        inbox.tell(Inbox::GoOn::Later);
        co_await Parking().wait();
      };
      auto reading = read();
      auto receiving = receive();
      co_await firstOf(std::move(reading), std::move(receiving));
    });
    CHECK(got == 0);
  }
  CHECK(told == ErrorKind::ClosedByPeer);
}

TEST_CASE("an inbox keeps order and amount while reads are given up", "[ssh]") {
  Inbox inbox(4096);
  constexpr std::size_t kAll = 2'000'000;
  std::atomic<bool> stop = false;
  std::thread receiver([&] {
    for (std::size_t made = 0; made < kAll && !stop;) {
      made += inbox.put(counted(made, std::min<std::size_t>(1 + made % 900, kAll - made)));
      const auto how = made % 2 == 0 ? Inbox::GoOn::Later : Inbox::GoOn::Here;
      if (made % 3 == 0 || inbox.room() == 0) inbox.tell(how);
    }
    inbox.end(Error(ErrorKind::ClosedByPeer, "all sent"));
    inbox.tell(Inbox::GoOn::Later);
  });
  std::size_t at = 0, wrong = 0;
  bool ended = false;
  runToEnd([&]() -> Task<void> {
    Bytes into(700);
    for (std::size_t round = 0; !ended; ++round) {
      std::size_t n = 0;
      const auto read = [&]() -> Task<void> {
        try {
          n = inbox.take(into);
          if (n == 0) n = co_await inbox.wait(into);
        } catch (const Error& e) {
          ended = e.kind() == ErrorKind::ClosedByPeer;
        }
      };
      auto reading = read();
      if (round % 2 == 0)
        co_await giveUp(std::move(reading));
      else
        co_await std::move(reading);
      const Bytes wanted = counted(at, n);
      wrong += std::equal(wanted.begin(), wanted.end(), into.begin()) ? 0U : 1U;
      at += n;
    }
  });
  stop = true;
  receiver.join();
  CHECK(at == kAll);
  CHECK(wrong == 0);
}

namespace {

/// Two joined sockets that do not block.
struct Pair {
  Pair() { REQUIRE(::socketpair(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0, ends) == 0); }
  ~Pair() {
    for (const int end : ends) ::close(end);
  }
  Pair(const Pair&) = delete;
  Pair& operator=(const Pair&) = delete;
  int ends[2] = {-1, -1};
};

}  // namespace

TEST_CASE("a gate says when there is something to read, each time it is asked", "[ssh]") {
  Pair pair;
  std::vector<bool> found;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    SocketGate gate(here, pair.ends[0], SocketGate::For::Reading);
    Byte byte = 7;
    for (int i = 0; i < 3; ++i) {
      bool nothingYet = false;
      try {
        co_await within(std::chrono::milliseconds(5), "something to read", gate.wait());
      } catch (const Error& e) {
        nothingYet = e.kind() == ErrorKind::TimedOut;
      }
      found.push_back(nothingYet && ::write(pair.ends[1], &byte, 1) == 1);
      co_await gate.wait();
      co_await gate.wait();  // it is still there
      found.push_back(::read(pair.ends[0], &byte, 1) == 1);
    }
    gate.close();
    co_await gate.wait();
  });
  CHECK(found == std::vector<bool>(6, true));
}

TEST_CASE("nobody is forgotten at a gate where several wait", "[ssh]") {
  Pair pair;
  Runtime runtime(2);
  const Executor strand = runtime.strand();
  SocketGate room(strand, pair.ends[0], SocketGate::For::Writing);
  constexpr int kWriters = 3, kPieces = 400;
  std::atomic<int> written = 0;
  for (int w = 0; w < kWriters; ++w)
    spawn(strand, [&]() -> Task<void> {
      const Bytes piece(20'000);
      for (int i = 0; i < kPieces; ++i, ++written)
        for (std::size_t at = 0; at < piece.size();) {
          const ssize_t n = ::write(pair.ends[0], piece.data() + at, piece.size() - at);
          if (n > 0)
            at += static_cast<std::size_t>(n);
          else
            co_await room.wait();
        }
    });
  std::size_t read = 0;
  constexpr std::size_t kAll = std::size_t{kWriters} * kPieces * 20'000;
  Bytes in(7'000);
  const bool all = eventually([&] {
    ssize_t n = 0;
    while ((n = ::read(pair.ends[1], in.data(), in.size())) > 0) read += static_cast<std::size_t>(n);
    return read == kAll;
  });
  CHECK(all);
  CHECK(eventually([&] { return written == kWriters * kPieces; }));
  runtime.stop();
}
