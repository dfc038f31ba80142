// Tunnels and files over SSH against a bare libssh read loop on the same connection kind, and the cipher
// alone.
#include <fcntl.h>
#include <libssh/callbacks.h>
#include <libssh/libssh.h>
#include <libssh/sftp.h>
#include <openssl/evp.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdio>
#include <cstring>
#include <deque>
#include <filesystem>
#include <fstream>
#include <functional>
#include <future>
#include <numeric>
#include <thread>

#include "base/runtime.hpp"
#include "bench/bench.hpp"
#include "lab/ssh_server.hpp"
#include "ssh/connection.hpp"
#include "ssh/sftp.hpp"

namespace kw::bench {

namespace {

namespace fs = std::filesystem;
constexpr std::size_t kBytes = std::size_t{256} << 20;
constexpr std::size_t kTunnelRounds = 63;
constexpr int kFileRounds = 15;
constexpr double kAtLeast = 1 / 0.95;

struct Trusting : SshEvents {
  Task<bool> trust(HostKey) override { co_return true; }
  Task<std::optional<Secret>> answer(SshPrompt) override { co_return std::nullopt; }
};

double secondsSince(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

int freePort() {
  Runtime runtime(1);
  return listenTcp(runtime.strand(), "127.0.0.1", 0)->port();
}

/// Pours zeros to whoever connects.
class Source {
 public:
  Source() : strand_(runtime_.strand()), listener_(listenTcp(strand_, "127.0.0.1", 0)) {
    spawn(strand_, [this]() -> Task<void> {
      for (;;) {
        std::shared_ptr<ByteStream> stream = co_await listener_->accept();
        spawn(runtime_.strand(), [stream]() -> Task<void> {
          const Bytes zeros(256 * 1024);
          for (std::size_t sent = 0; sent < kBytes; sent += zeros.size()) co_await stream->write(zeros);
          stream->close();
        });
      }
    });
  }
  [[nodiscard]] int port() const { return listener_->port(); }

 private:
  Runtime runtime_{1};
  Executor strand_;
  std::unique_ptr<Listener> listener_;
};

/// A blocking libssh session, as its tutorial makes one.
class BareSession {
 public:
  BareSession(int port, const fs::path& key, const std::string& cipher) : session_(ssh_new()) {
    const std::string user = lab::SshServer::user();
    ssh_options_set(session_, SSH_OPTIONS_HOST, "127.0.0.1");
    ssh_options_set(session_, SSH_OPTIONS_PORT, &port);
    ssh_options_set(session_, SSH_OPTIONS_USER, user.c_str());
    ssh_options_set(session_, SSH_OPTIONS_CIPHERS_C_S, cipher.c_str());
    ssh_options_set(session_, SSH_OPTIONS_CIPHERS_S_C, cipher.c_str());
    ssh_key k = nullptr;
    ssh_pki_import_privkey_file(key.c_str(), nullptr, nullptr, nullptr, &k);
    if (ssh_connect(session_) != SSH_OK || ssh_userauth_publickey(session_, nullptr, k) != SSH_AUTH_SUCCESS)
      std::printf("bare libssh: %s\n", ssh_get_error(session_));
    ssh_key_free(k);
  }
  ~BareSession() {
    ssh_disconnect(session_);
    ssh_free(session_);
  }
  BareSession(const BareSession&) = delete;
  BareSession& operator=(const BareSession&) = delete;

  double readTunnel(int port) {
    ssh_channel c = ssh_channel_new(session_);
    ssh_channel_open_forward(c, "127.0.0.1", port, "127.0.0.1", 0);
    return readAll(c);
  }
  /// The way of a program that has other things to do, too: libssh's events, nothing blocks but the wait.
  double readTunnelByEvents(int port) {
    struct Got {
      std::size_t bytes = 0;
      Bytes buffer = Bytes(64 * 1024);
    } got;
    ssh_channel c = ssh_channel_new(session_);
    ssh_channel_open_forward(c, "127.0.0.1", port, "127.0.0.1", 0);
    ssh_channel_callbacks_struct callbacks{};
    callbacks.userdata = &got;
    callbacks.channel_data_function = [](ssh_session, ssh_channel, void* data, std::uint32_t size, int,
                                         void* to) {
      auto& g = *static_cast<Got*>(to);
      std::memcpy(g.buffer.data(), data, std::min<std::size_t>(size, g.buffer.size()));
      g.bytes += size;
      return static_cast<int>(size);
    };
    ssh_callbacks_init(&callbacks);
    const auto start = std::chrono::steady_clock::now();
    ssh_set_channel_callbacks(c, &callbacks);
    ssh_event event = ssh_event_new();
    ssh_event_add_session(event, session_);
    constexpr int kNothingMore = 5000;  // ms
    while (got.bytes < kBytes && ssh_event_dopoll(event, kNothingMore) == SSH_OK) continue;
    const double seconds = secondsSince(start);
    if (got.bytes < kBytes) std::printf("bare libssh: the tunnel ended after %zu bytes\n", got.bytes);
    ssh_event_remove_session(event, session_);
    ssh_event_free(event);
    ssh_remove_channel_callbacks(c, &callbacks);
    ssh_channel_free(c);
    return seconds;
  }
  double readCommand(const std::string& command) {
    ssh_channel c = ssh_channel_new(session_);
    ssh_channel_open_session(c);
    ssh_channel_request_exec(c, command.c_str());
    return readAll(c);
  }
  /// libssh's own SFTP client with as many requests under way as ours; the bytes go into `copy`, or nowhere.
  double readFile(const fs::path& file, const fs::path& copy = {}) {
    const int out = copy.empty() ? -1 : ::open(copy.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    sftp_session sftp = sftp_new(session_);
    sftp_init(sftp);
    sftp_file f = sftp_open(sftp, file.c_str(), O_RDONLY, 0);
    const auto start = std::chrono::steady_clock::now();
    constexpr std::uint32_t kPiece = 32 * 1024 - 64;
    Bytes buffer(kPiece);
    std::deque<std::uint32_t> underWay;
    std::size_t asked = 0, done = 0;
    while (done < kBytes) {
      for (; underWay.size() < 64 && asked < kBytes; asked += kPiece)
        underWay.push_back(static_cast<std::uint32_t>(sftp_async_read_begin(f, kPiece)));
      const int n = sftp_async_read(f, buffer.data(), kPiece, underWay.front());
      underWay.pop_front();
      if (n <= 0) break;
      if (out >= 0 && ::write(out, buffer.data(), static_cast<std::size_t>(n)) != n) break;
      done += static_cast<std::size_t>(n);
    }
    const double seconds = secondsSince(start);
    if (out >= 0) ::close(out);
    if (done < kBytes) std::printf("bare libssh: SFTP ended after %zu bytes\n", done);
    sftp_close(f);
    sftp_free(sftp);
    return seconds;
  }

 private:
  static double readAll(ssh_channel c) {
    const auto start = std::chrono::steady_clock::now();
    Bytes buffer(64 * 1024);
    for (std::size_t done = 0; done < kBytes;) {
      const int n = ssh_channel_read(c, buffer.data(), static_cast<std::uint32_t>(buffer.size()), 0);
      if (n <= 0) break;
      done += static_cast<std::size_t>(n);
    }
    const double seconds = secondsSince(start);
    ssh_channel_free(c);
    return seconds;
  }
  ssh_session session_;
};

std::shared_ptr<SshConnection> connected(Runtime& runtime, int port, const fs::path& key,
                                         const fs::path& folder) {
  std::shared_ptr<SshConnection> out;
  const Executor strand = runtime.strand();
  runToEnd([&]() -> Task<void> {
    SshOptions options;
    options.useAgent = false;
    options.user = lab::SshServer::user(), options.host = "127.0.0.1", options.port = port;
    options.keyFiles = {key};
    options.knownHostsFile = folder / "known";
    StreamPtr below =
        co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(port), std::chrono::seconds(5));
    out = co_await SshConnection::open(strand, std::move(below), options, std::make_shared<Trusting>());
  });
  return out;
}

/// As the window has it: the reader is a session, on a strand of the same threads.
double ourTunnel(Runtime& runtime, SshConnection& connection, int port) {
  std::promise<double> seconds;
  spawn(
      runtime.strand(),
      [&]() -> Task<void> {
        StreamPtr tunnel = co_await connection.forward("127.0.0.1", port);
        const auto start = std::chrono::steady_clock::now();
        Bytes buffer(64 * 1024);
        for (std::size_t done = 0; done < kBytes;) done += co_await tunnel->readSome(buffer);
        seconds.set_value(secondsSince(start));
      },
      [&](std::exception_ptr failure) {
        if (failure) seconds.set_exception(failure);
      });
  return seconds.get_future().get();
}

double ourDownload(Runtime& runtime, SshConnection& connection, const fs::path& from, const fs::path& to) {
  double seconds = 0;
  const Executor strand = runtime.strand();
  runToEnd([&]() -> Task<void> {
    StreamPtr stream = co_await connection.subsystem("sftp");
    auto sftp = co_await Sftp::open(strand, std::move(stream));
    const auto start = std::chrono::steady_clock::now();
    co_await sftp->download(from, to, 0, nullptr, nullptr);
    seconds = secondsSince(start);
    sftp->close();
  });
  return seconds;
}

/// Server, source and both readers share the processors here: one run differs from the next by a tenth and
/// more, and the best of each would be luck. So there are many, and the mean of their middle half is told.
class Times {
 public:
  void add(double seconds) { all_.push_back(seconds); }
  double usual() {
    std::sort(all_.begin(), all_.end());
    const auto quarter = static_cast<std::ptrdiff_t>(all_.size() / 4);
    const double sum = std::accumulate(all_.begin() + quarter, all_.end() - quarter, 0.0);
    return sum / static_cast<double>(all_.size() - 2 * static_cast<std::size_t>(quarter));
  }

 private:
  std::vector<double> all_;
};

/// Seconds for the bytes with the cipher alone.
double cipherSeconds(const EVP_CIPHER* cipher) {
  EVP_CIPHER_CTX* c = EVP_CIPHER_CTX_new();
  Bytes in(32 * 1024), out(33 * 1024), key(32), iv(16);
  const auto start = std::chrono::steady_clock::now();
  int n = 0;
  for (std::size_t done = 0; done < kBytes; done += in.size()) {
    EVP_DecryptInit_ex(c, cipher, nullptr, key.data(), iv.data());
    EVP_DecryptUpdate(c, out.data(), &n, in.data(), static_cast<int>(in.size()));
  }
  EVP_CIPHER_CTX_free(c);
  return secondsSince(start);
}

}  // namespace

void benchSsh(Table& table) {
  if (!lab::SshServer::available()) {
    std::printf("ssh: OpenSSH's server is not installed; nothing measured\n");
    return;
  }
  // In memory where there is such a folder: the disk is not what is measured.
  const fs::path where = fs::exists("/dev/shm") ? fs::path("/dev/shm") : fs::temp_directory_path();
  const fs::path folder = where / ("kettle-bench-" + std::to_string(::getpid()));
  fs::create_directories(folder);
  const int port = freePort();
  {
    lab::SshServer server({folder / "server", "127.0.0.1", static_cast<std::uint16_t>(port), ""});
    Source source;
    Runtime runtime(2);
    auto connection = connected(runtime, port, server.clientKey(), folder);
    const fs::path file = folder / "file", copy = folder / "copy";
    std::ofstream(file, std::ios::binary) << std::string(kBytes, 'v');
    // The bare sessions speak the cipher that ours agreed on, so that the ratio is not the cipher's.
    const std::string agreed = connection->ciphers(), cipher = agreed.substr(0, agreed.find(','));
    Times tunnel, bareTunnel, bareEvents, sftp, bareSftp, bareCopy, bareCat;
    BareSession bare(port, server.clientKey(), cipher);
    const std::array<std::function<void()>, 3> tunnels{
        [&] { bareTunnel.add(bare.readTunnel(source.port())); },
        [&] { bareEvents.add(bare.readTunnelByEvents(source.port())); },
        [&] { tunnel.add(ourTunnel(runtime, *connection, source.port())); }};
    // In turns, each as often first as last, so that a busy moment hits all alike.
    for (std::size_t i = 0; i < kTunnelRounds; ++i)
      for (std::size_t k = 0; k < tunnels.size(); ++k) tunnels[(i + k) % tunnels.size()]();
    for (int i = 0; i < kFileRounds; ++i) {
      bareCat.add(bare.readCommand("cat " + file.string()));
      bareSftp.add(bare.readFile(file));
      bareCopy.add(bare.readFile(file, copy));
      sftp.add(ourDownload(runtime, *connection, file, copy));
    }
    const auto bytes = static_cast<double>(kBytes);
    table.row("ssh: tunnel, 256 MiB", tunnel.usual(), bareTunnel.usual(), "bare libssh read loop", kAtLeast,
              bytes);
    table.row("ssh: tunnel, floor by events", tunnel.usual(), bareEvents.usual(),
              "bare libssh event loop, which may do other things too", 0, bytes);
    table.row("ssh: SFTP download into a file, 256 MiB", sftp.usual(), bareSftp.usual(),
              "bare libssh SFTP read loop, kept nowhere", kAtLeast, bytes);
    table.row("ssh: SFTP, floor into a file too", sftp.usual(), bareCopy.usual(),
              "bare libssh SFTP read loop with write()", 0, bytes);
    table.figure("ssh: the same file by cat, bare libssh read loop", bytes / bareCat.usual() / 1e9, "GB/s");
    table.figure("ssh: cipher in use alone (AES-256-GCM)", bytes / cipherSeconds(EVP_aes_256_gcm()) / 1e9,
                 "GB/s");
    table.figure("ssh: ChaCha20 alone", bytes / cipherSeconds(EVP_chacha20()) / 1e9, "GB/s");
    std::printf("ssh: ciphers agreed on: %s\n", connection->ciphers().c_str());
    connection.reset();
  }
  std::error_code ignored;
  fs::remove_all(folder, ignored);
}

}  // namespace kw::bench
