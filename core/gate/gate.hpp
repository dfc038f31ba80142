// The gateway: HTTPS and WebSockets in front, machines' sessions behind.
#pragma once
#include <chrono>
#include <filesystem>
#include <memory>
#include <vector>

#include "gate/gate_store.hpp"
#include "route/opening.hpp"

namespace kw::gate {

/// How long a client may take before it is hung up on.
struct GateLimits {
  std::chrono::milliseconds handshake{10'000};  ///< of TLS
  std::chrono::milliseconds request{20'000};    ///< to say one request whole; to take its answer
  std::chrono::milliseconds silence{60'000};    ///< of an open page, which says something every few seconds
};

struct GateOptions {
  std::string address = "127.0.0.1";
  std::uint16_t port = 8443;  ///< 0: any free one
  std::string name = "garden-gate";
  std::filesystem::path state;           ///< accounts, passes, audit, the self-made certificate
  std::string certificateFile, keyFile;  ///< PEM; empty: self-made at the first start
  std::size_t mostConnections = 4000;
  GateLimits limits;
  std::uint64_t recordingBytes = std::uint64_t{512} << 20;  ///< of one file; a long visit goes on in another
  /// Sites that may show the page in a frame of theirs: "https://wiki.example". None: nobody may.
  std::vector<std::string> embedders;
  GateStore::StoreSignIn storeSignIn;  ///< for accounts of the team's database
  /// Which of these people the team's database lets in no more; none where it cannot be asked. Blocks.
  std::function<std::vector<std::string>(const std::vector<std::string>&)> storeRefuses;
  std::chrono::hours keepRecordings{0};  ///< then they are removed; 0: never
  std::chrono::milliseconds upkeepEvery{60'000};
};

/// Thread-safe.
class Gate {
 public:
  /// Throws Error{Local} when the state or a certificate cannot be used.
  Gate(Runtime& runtime, GateOptions options, OpeningTools tools);
  ~Gate();
  /// Listens. Throws Error{Local} when the port is taken.
  void start();
  /// Reads the certificate anew, for connections that come from now on; visits go on. Throws Error{Local} and
  /// changes nothing when it cannot be used.
  void reload();
  /// Says goodbye to everybody and ends all sessions.
  void stop();
  [[nodiscard]] std::uint16_t port() const;
  /// "ab:cd:…" of the certificate.
  [[nodiscard]] std::string fingerprint() const;
  [[nodiscard]] GateStore& store();

 private:
  struct State;
  std::shared_ptr<State> state_;
};

/// A file of the page, compiled in; null when there is none of this name.
struct PageFile {
  const char* path;
  const char* type;
  std::string_view contents;
};
const PageFile* pageFile(const std::string& path);
/// Of all of them together.
std::size_t pageBytes();

}  // namespace kw::gate
