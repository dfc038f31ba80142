// Debian's Chromium without a screen, driven by WebDriver (W3C) through its chromedriver.
#pragma once
#include <nlohmann/json.hpp>
#include <string>

#include "tests/support.hpp"

namespace kw::test {

class Browser {
 public:
  /// Throws std::runtime_error when it does not come up. Certificates are not asked about.
  explicit Browser(int width = 1280, int height = 800);
  ~Browser();
  static bool available();

  /// "dark" or "light": what pages are told that the desktop prefers.
  void colours(const std::string& scheme);
  /// The page's own size, as a telephone's, smaller than any window.
  void size(int width, int height);
  void go(const std::string& url);
  /// The value that the script returns; `code` is a function's body.
  nlohmann::json run(const std::string& code, nlohmann::json arguments = nlohmann::json::array());
  /// Awaits the promise that the expression gives.
  nlohmann::json await(const std::string& expression);
  bool until(const std::string& condition, std::chrono::seconds limit = std::chrono::seconds(20));
  void click(const std::string& css);
  void type(const std::string& css, const std::string& text);
  /// Keys to whatever has the focus.
  void keys(const std::string& text);
  /// As an input method writes: first unfinished, then for good.
  void compose(const std::string& unfinished, const std::string& text);
  /// Goes on in another of the browser's windows, in the order they were opened; waits for it.
  void window(std::size_t number);
  void save(const std::filesystem::path& png);
  /// What the page's text is now, of all elements of the selector.
  std::string text(const std::string& css);

 private:
  nlohmann::json call(const std::string& method, const std::string& path, const nlohmann::json& body);
  std::string element(const std::string& css);
  TemporaryFolder profile_;
  pid_t driver_ = -1;
  int port_ = 0;
  std::string session_;
};

}  // namespace kw::test
