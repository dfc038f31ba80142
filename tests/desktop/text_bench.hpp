// A window with a line of text that a test writes to and hears.
#pragma once
#include <QClipboard>
#include <QDropEvent>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QScrollBar>
#include <QTableWidget>
#include <QTreeView>
#include <QTreeWidget>
#include <atomic>
#include <fstream>
#include <iostream>
#include "desktop/files/files_panel.hpp"
#include "desktop/pages/trust_view.hpp"
#include "desktop/text/text_view.hpp"
#include "lab/ssh_server.hpp"
#include "lab/text_service.hpp"
#include "tests/desktop/window_bench.hpp"

namespace kw::test {

/// Says back what comes, and a program of its own says what the test wants.
class Parrot : public lab::Appliance {
 public:
  struct Wire {
    std::mutex lock;
    std::string toSay, heard;
    int breaks = 0;
  };
  explicit Parrot(std::shared_ptr<Wire> wire) : wire_(std::move(wire)) {}
  std::string take(const std::string& bytes, Time) override {
    const std::lock_guard held(wire_->lock);
    wire_->heard += bytes;
    return bytes;
  }
  std::string advance(Time) override {
    const std::lock_guard held(wire_->lock);
    return std::exchange(wire_->toSay, {});
  }
  void breakSeen(Time) override {
    const std::lock_guard held(wire_->lock);
    ++wire_->breaks;
  }

 private:
  std::shared_ptr<Wire> wire_;
};

class TextBench : public WindowBench {
 public:
  using Kind = lab::TextServicePlan::Kind;
  explicit TextBench(Kind kind = Kind::Telnet, std::map<std::string, std::string> settings = {})
      : WindowBench(0) {
    lab::TextServicePlan plan;
    plan.kind = kind;
    plan.make = [w = wire] { return std::make_unique<Parrot>(w); };
    service = std::make_unique<lab::TextService>(runtime.strand(), systemClock(), plan);
    service->start();
    const std::string scheme = kind == Kind::Telnet ? "telnet" : "telnet+serial";
    tools.store->commit("line", [&](StoreWriter& w) {
      Machine m;
      m.folder = groupId, m.name = "weather-mast";
      w.put(m);
      machineIds.push_back(m.id);
      Endpoint e;
      e.machine = m.id, e.label = "line",
      e.address = scheme + "://127.0.0.1:" + std::to_string(service->port());
      w.put(e);
      endpoints.push_back(e.id);
      for (const auto& [key, value] : settings) w.set({OwnerKind::WayIn, e.id}, key, value);
    });
  }
  OpenSession* openLine() {
    open();
    window->openEndpoint(endpoints.back());
    OpenSession* s = window->stage()->sessionOf(endpoints.back());
    REQUIRE(s != nullptr);
    REQUIRE(shown([&] { return s->isLive(); }));
    REQUIRE(text()->isVisible());
    text()->canvas()->setFocus();
    return s;
  }
  TextView* text() { return window->stage()->focusedPane()->textView(); }
  TextCanvas* canvas() { return text()->canvas(); }
  void say(const std::string& s) {
    const std::lock_guard held(wire->lock);
    wire->toSay += s;
  }
  std::string heard() {
    const std::lock_guard held(wire->lock);
    return wire->heard;
  }
  bool screenShows(const std::string& wanted) {
    const bool yes = shown([&] { return terminal().screenText().find(wanted) != std::string::npos; });
    canvas()->takeText();
    return yes;
  }
  text::Terminal& terminal() { return window->stage()->focusedSession()->text()->terminal(); }
  /// The middle of a cell of the screen.
  QPoint at(int row, int column) {
    TextPainter painter;
    const QSize cell = painter.cell();
    return {4 + column * cell.width() + cell.width() / 2, 4 + row * cell.height() + cell.height() / 2};
  }
  std::shared_ptr<Parrot::Wire> wire = std::make_shared<Parrot::Wire>();
  std::unique_ptr<lab::TextService> service;
};

}  // namespace kw::test
