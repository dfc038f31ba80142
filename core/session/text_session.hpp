// A session over a line of text: serial, telnet, a raw stream, or a shell over SSH.
#pragma once
#include <functional>

#include "line/text_line.hpp"
#include "session/session.hpp"
#include "session/text_console.hpp"

namespace kw {

enum class LocalEcho { Off, On, Auto };  ///< Auto: on when a telnet server leaves showing to us

struct TextConfig {
  std::string label;  ///< the machine, in questions and log names
  std::string place;  ///< "weather-mast port 4001", "/dev/ttyUSB0"
  /// Makes the line. May ask and may write down the hops it found.
  std::function<Task<TextLine>(Asker&, RouteFacts&, ConnectFindings*)> connect;
  text::TerminalOptions terminal;
  int rows = 24, columns = 80;
  LocalEcho localEcho = LocalEcho::Auto;
  ReconnectPolicy reconnect;
  Pacing pacing;
  bool viewOnly = false;
  std::vector<text::WatchWord> watchWords;
  std::optional<text::LogOptions> log;
  bool answersQuestions =
      true;  ///< of the program there about the terminal; off when another terminal shows the text
  std::string greeting;  ///< sent as soon as the line is there; a return wakes many consoles
};

std::shared_ptr<Session> makeTextSession(const Executor& strand, std::shared_ptr<Clock> clock,
                                         TextConfig config);

}  // namespace kw
