// Telnet over any stream (RFC 854 to 858, 1073, 1079, 1091; negotiation as in RFC 1143) and network serial
// (RFC 2217), client and server side.
#pragma once
#include <functional>

#include "line/line.hpp"

namespace kw {

struct TelnetOptions {
  std::string terminalType = "xterm-256color";
  int columns = 80, rows = 24;
  /// Ask the server to be a serial port (RFC 2217) with these settings.
  bool comPort = false;
  LineSettings line;
  /// How long a server may take to agree to be a serial port.
  std::chrono::nanoseconds limit = std::chrono::seconds(5);
};

/// A telnet connection as a plain stream.
class TelnetStream : public ByteStream, public LineControl {
 public:
  /// RFC 1073; sent when the server asked for it.
  virtual void setWindowSize(int columns, int rows) = 0;
  /// True while the server shows what is typed.
  [[nodiscard]] virtual bool remoteEcho() const = 0;
  /// What RFC 2217's signature said; empty when unknown.
  [[nodiscard]] virtual std::string signature() const = 0;
  [[nodiscard]] virtual bool isComPort() const = 0;
  /// A server's: tells the client, which asked for it, of errors that came up on the line. Sent with the next
  /// write.
  virtual void noteErrors(const LineErrors& more) = 0;
};

/// With `comPort`, throws Error{Unsupported} when the server is not a network serial port.
Task<std::unique_ptr<TelnetStream>> telnetClient(StreamPtr below, TelnetOptions options);

/// What a network serial server is told; it answers with what is in force then.
struct ComPortEvents {
  std::function<LineSettings(LineSettings)> changed;
  std::function<void(bool on)> breakChanged;
  std::function<void(bool dtr, bool rts)> linesChanged;
  std::string signature = "kettle-lab";
};
struct TelnetServerOptions {
  bool echo = true;  ///< the server shows what is typed
  std::optional<ComPortEvents> comPort;
  LineSettings line;
  std::function<void(int columns, int rows)> resized;
};
std::unique_ptr<TelnetStream> telnetServer(StreamPtr below, TelnetServerOptions options);

}  // namespace kw
